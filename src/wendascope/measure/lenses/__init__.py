"""Lenses: ways to see the picture at a step. Each file here is one lens and registers itself.

A lens measures in the replay process and is painted from what it measured without one.
"""

from wendascope.measure.lenses._registry import Found, Image, LegendEntry, Lens, Place, lens, lens_named, lenses

__all__ = ["Found", "Image", "LegendEntry", "Lens", "Place", "lens", "lens_named", "lenses"]

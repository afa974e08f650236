"""Shader sources rewritten for trials: flat colours, constants in place of texture samples, fewer rounds, expressions
moved to the vertices, one element of an array passed over, grey textures as channels, lower precision.

Pure functions from source to source; line numbers stay what they are. All raise TrialError, saying what stands in
the way.
"""

from wendascope.glsl.rewriting.channels import as_channels
from wendascope.glsl.rewriting.directions import with_third_rebuilt
from wendascope.glsl.rewriting.early import early_tests
from wendascope.glsl.rewriting.elements import visited_arrays, without_element
from wendascope.glsl.rewriting.flat import flat_colour
from wendascope.glsl.rewriting.iterations import fewer_iterations
from wendascope.glsl.rewriting.moving import moved_to_vertices
from wendascope.glsl.rewriting.powers import simple_powers
from wendascope.glsl.rewriting.precision import medium_precision
from wendascope.glsl.rewriting.samples import without_samples
from wendascope.glsl.rewriting.unused import without_outputs

__all__ = [
    "as_channels",
    "early_tests",
    "fewer_iterations",
    "flat_colour",
    "medium_precision",
    "moved_to_vertices",
    "simple_powers",
    "visited_arrays",
    "with_third_rebuilt",
    "without_element",
    "without_outputs",
    "without_samples",
]

"""The colour lens: the first colour buffer of the target, as eight-bit values and as what it holds."""

from __future__ import annotations

import numpy as np

from wendascope.backends.doors import Session
from wendascope.errors import WendascopeError
from wendascope.frame.contents import ImageValues
from wendascope.frame.frame import Picture
from wendascope.measure.lenses._registry import Found, Image, Place, lens
from wendascope.measure.lenses.depth import depth_note, depth_values, measure_depth, paint_depth, probe_depth
from wendascope.task import Task


def _paint(found: Found) -> Image:
    if "pixels" not in found:
        return paint_depth(found)
    return np.ascontiguousarray(found["pixels"][::-1, :, :3])


def _probe(found: Found, x: int, y: int) -> str:
    if "pixels" not in found:
        return probe_depth(found, x, y)
    if "values" in found:
        values = found["values"][y, x]
        return "  ".join(f"{name} {value:.5g}" for name, value in zip(found["channels"], values, strict=False))
    red, green, blue, alpha = (int(v) for v in found["pixels"][y, x])
    return f"red {red}  green {green}  blue {blue}  alpha {alpha}"


def _values(found: Found) -> tuple[ImageValues, str]:
    if "pixels" not in found:
        return depth_values(found)
    if "values" in found:
        return ImageValues(list(found["channels"]), found["values"]), str(found["kind"])
    return ImageValues(["red", "green", "blue", "alpha"], found["pixels"].astype(np.float32) / 255), "unorm"


@lens("colour", "Colour", 1, _paint, _probe, values=_values, note=depth_note)
def measure(session: Session, job: Task, place: Place) -> Found:
    """`pixels` (h, w, 4) uint8, bottom row first; a target without colour gives its depth instead. Where the target
    holds more than eight bits, also what it holds: `values` (h, w, channels), `channels`, and `kind` of its format.
    """
    shown = session.read_target(place.target)
    if not isinstance(shown, Picture):
        return measure_depth(session, job, place)
    return {"pixels": shown.pixels, **_wide_values(session, place)}


def _wide_values(session: Session, place: Place) -> Found:
    image = min((a for a in place.target.attachments if a.is_colour), key=lambda a: a.point, default=None)
    if image is None:
        return {}
    format_ = session.frame.image_format(image.kind, image.name)
    if not format_.packed and format_.bits in (0, 8) and format_.kind in ("", "unorm"):
        return {}
    layer = image.layer if image.kind == "texture" else 0
    try:
        found = session.image_values(image.kind, image.name, image.level, max(layer, image.face, 0))
    except WendascopeError:
        return {}  # of several samples, or of a layout that nobody reads: the picture is what there is
    kind = format_.kind or ("sfloat" if "F" in format_.packed else "unorm")
    return {"values": found.values, "channels": found.channels, "kind": kind}

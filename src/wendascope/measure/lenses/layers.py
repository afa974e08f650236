"""The layers lenses: how many fragments fell on each pixel, those that passed and all that were rasterised."""

from __future__ import annotations

import numpy as np

from wendascope.backends.doors import Session
from wendascope.frame.layers import PassLayers, layer_map
from wendascope.measure.lenses._registry import Found, Image, LegendEntry, Place, lens
from wendascope.measure.lenses._relief import Relief, ranges
from wendascope.measure.overdraw import layers_of, passes_shown, rasterised_of
from wendascope.task import Task

_BOUNDS = (1, 2, 3, 4, 5, 8, 16)
# multisampled targets have fractions of a layer: a level begins half below its figure
_RELIEF = Relief([0.01, *(b - 0.5 for b in _BOUNDS[1:])], ranges(_BOUNDS))


def _found(passes: list[PassLayers], step: int | None) -> Found:
    if not passes:
        return {"layers": np.zeros((1, 1), np.float32)}
    counts = layer_map(passes, step).astype(np.float64)
    return {
        "layers": passes[0].per_pixel(counts).astype(np.float32),
        "caveats": [c for item in passes for c in item.caveats],
    }


def _paint(found: Found) -> Image:
    return _RELIEF.paint(found["layers"])


def _legend(found: Found) -> list[LegendEntry]:
    return _RELIEF.legend(found["layers"])


def _figure(found: Found, x: int, y: int) -> str:
    return f"{found['layers'][y, x]:.3g}"


def _probe(found: Found, x: int, y: int) -> str:
    layers = found["layers"]
    covered = layers[layers > 0]
    average = f"   average over covered pixels {covered.mean():.2f}" if covered.size else ""
    return f"{_figure(found, x, y)} layers{average}"


_MORE = {"replays": False, "legend": _legend, "figure": _figure}


@lens("layers", "Layers that passed", 5, _paint, _probe, **_MORE)
def measure_layers(session: Session, job: Task, place: Place) -> Found:
    """Fragments that passed all tests, up to and with the step."""
    return _found(layers_of(session, job, passes_shown(session, place.step)), place.step)


@lens("rasterised", "Layers rasterised", 8, _paint, _probe, **_MORE)
def measure_rasterised(session: Session, job: Task, place: Place) -> Found:
    """Fragments of all triangles, hidden and discarded ones too, up to and with the step."""
    return _found(rasterised_of(session, job, passes_shown(session, place.step)), place.step)

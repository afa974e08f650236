"""What is drawn, counted in replay."""

from __future__ import annotations

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.trials.checks.amounts._registry import How, Known, amount
from wendascope.trials.checks.scopes import Scope


def _fragments(known: Known, scope: Scope) -> int | None:
    """None where a draw of it could not be counted."""
    draws = [step for step in scope.steps.tolist() if known.frame.steps.kind_name(step) == "draw"]
    counted = [known.drawn.steps[step].fragments for step in draws]
    return None if min(counted, default=0) < 0 else sum(counted)


def _pixels(frame: Frame, scope: Scope) -> int:
    """Of the picture for the frame, else of the targets that its steps draw to."""
    if scope.whole:
        return frame.reference.width * frame.reference.height if frame.reference else 0
    passes = np.unique(np.asarray(frame.passes.of_step)[scope.steps]).tolist()
    return sum(frame.passes.targets[i].width * frame.passes.targets[i].height for i in passes)


@amount("fragments", How.REPLAYED)
def fragments(known: Known, scope: Scope) -> float | None:
    """Fragments that pass all tests."""
    found = _fragments(known, scope)
    return None if found is None else float(found)


@amount("fragments per pixel", How.REPLAYED)
def fragments_per_pixel(known: Known, scope: Scope) -> float | None:
    """The same for each pixel of the picture, or of the targets of a part."""
    found, pixels = _fragments(known, scope), _pixels(known.frame, scope)
    return None if found is None or not pixels else found / pixels


@amount("overdraw", How.REPLAYED)
def overdraw(known: Known, scope: Scope) -> float | None:
    """Layers at a place that anything is drawn to, on average."""
    mine = [item for item in known.drawn.passes if item.index in set(scope.passes.tolist())]
    covered = sum(item.covered for item in mine)
    return sum(item.average * item.covered for item in mine) / covered if covered else None


@amount("wasted fragments", How.REPLAYED)
def wasted(known: Known, scope: Scope) -> float | None:
    """Fragments covered later, and blended ones that changed nothing."""
    mine = [item for item in known.drawn.passes if item.index in set(scope.passes.tolist())]
    return float(sum(item.wasted for item in mine)) if mine else None

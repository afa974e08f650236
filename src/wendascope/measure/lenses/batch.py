"""The batch lens: steps that could be drawn together in one tint and pattern, single draws grey."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.batches import Batches, find_batches
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.drawn import boxes_of_triangles
from wendascope.backends.doors import Session
from wendascope.backends.slots import Slot
from wendascope.colours import PASS_COLOURS
from wendascope.frame.layers import owner_map
from wendascope.measure.lenses._registry import Found, Image, LegendEntry, Place, lens
from wendascope.measure.overdraw import coverage_of_frame, geometry_of, layers_of, passes_shown
from wendascope.task import Task

_NOBODY, _SINGLE_DRAW = (58, 58, 56), (150, 150, 148)
_PERIOD = 8
_MOST_ENTRIES = 8
_HOW = {"instance": "copies, as instances", "merge": "merged", "multi-draw": "several ranges in one call"}


def _tints() -> npt.NDArray[np.float64]:
    return np.array([[int(c[i : i + 2], 16) for i in (1, 3, 5)] for c in PASS_COLOURS], np.float64)


def _pattern(kind: int, height: int, width: int) -> npt.NDArray[np.bool_]:
    """Where the lines of a pattern lie: rising, falling, upright, level, dotted, or a grid."""
    y, x = np.mgrid[0:height, 0:width]
    match kind % 6:
        case 0:
            return np.asarray((x + y) % _PERIOD < 2)
        case 1:
            return np.asarray((x - y) % _PERIOD < 2)
        case 2:
            return np.asarray(x % _PERIOD < 2)
        case 3:
            return np.asarray(y % _PERIOD < 2)
        case 4:
            return np.asarray((x % _PERIOD < 3) & (y % _PERIOD < 3))
    return np.asarray((x % _PERIOD == 0) | (y % _PERIOD == 0))


def _paint(found: Found) -> Image:
    batch = found["batch"][::-1]
    height, width = batch.shape
    tints = _tints()
    image = np.full((height, width, 3), _NOBODY, np.float64)
    image[batch == -1] = _SINGLE_DRAW
    for number in np.unique(batch[batch >= 0]).tolist():
        mine = batch == number
        tint = tints[number % len(tints)]
        image[mine] = tint
        # ten tints and six patterns: neighbours in number differ in both
        image[mine & _pattern(number + number // len(tints), height, width)] = tint * 0.72
    edge = np.zeros((height, width), bool)
    edge[:, 1:] |= batch[:, 1:] != batch[:, :-1]
    edge[1:] |= batch[1:] != batch[:-1]
    image[edge] *= 0.55
    return np.ascontiguousarray(image.astype(np.uint8))


def _probe(found: Found, x: int, y: int) -> str:
    number = int(found["batch"][y, x])
    if number == -2:
        return "nothing opaque was drawn here"
    step = int(found["owner"][y, x])
    return f"step {step:,}, {found['texts'][str(number)] if number >= 0 else 'a single draw'}"


def _alike(found: Found, x: int, y: int) -> npt.NDArray[np.bool_] | None:
    number = int(found["batch"][y, x])
    if number == -1:  # a single draw is alone
        return np.asarray(found["owner"] == found["owner"][y, x])
    return None if number < 0 else np.asarray(found["batch"] == number)


def _step_at(found: Found, x: int, y: int) -> int | None:
    step = int(found["owner"][y, x])
    return None if step < 0 else step


def _legend(found: Found) -> list[LegendEntry]:
    batch = found["batch"]
    counts = np.bincount((batch + 2).ravel(), minlength=3)
    tints = _tints().astype(int)
    entries = []
    order = np.argsort(-counts[2:], kind="stable")[:_MOST_ENTRIES]
    for number in order.tolist():
        if counts[number + 2]:
            colour = "#{:02X}{:02X}{:02X}".format(*tints[number % len(tints)])
            entries.append(LegendEntry(colour, found["names"][str(number)], float(counts[number + 2] / batch.size)))
    if counts[1]:
        entries.append(
            LegendEntry("#{:02X}{:02X}{:02X}".format(*_SINGLE_DRAW), "single draws", float(counts[1] / batch.size))
        )
    return entries


_BATCHES: Slot[Batches] = Slot("batches")


def batches_of(session: Session, job: Task) -> Batches:
    """Worked out once a session."""

    def find() -> Batches:
        frame = session.frame
        boxes = boxes_of_triangles(geometry_of(session, job).triangles, len(frame.steps))
        coverage = coverage_of_frame(session, job, boxes)
        return find_batches(Sharing(frame), touched=coverage.touched())

    return session.slots.get(_BATCHES, find)


_MORE: dict[str, Any] = {"replays": False, "legend": _legend, "alike": _alike, "step_at": _step_at}


@lens("batch", "Batch", 2, _paint, _probe, **_MORE)
def measure_batch(session: Session, job: Task, place: Place) -> Found:
    """`batch` (h, w): the batch whose fragment is seen, -1 for single draws, -2 for nothing; `owner` the step;
    `texts` and short `names` of the batches.
    """
    passes = layers_of(session, job, passes_shown(session, place.step))
    owner = owner_map(passes, place.step)[:, :: passes[0].samples] if passes else np.full((1, 1), -1, np.int32)
    found = batches_of(session, job)
    batch = np.where(owner >= 0, found.of_step[np.maximum(owner, 0)], -2).astype(np.int32)
    present = np.unique(batch[batch >= 0]).tolist()
    names = session.frame.passes.names
    texts, short = {}, {}
    for number in present:
        c = found.batches[number]
        texts[str(number)] = f"{c.label}: {len(c.steps)} draws of {names[c.pass_index]}, {_HOW[c.how]}"
        short[str(number)] = f"{number + 1} {names[c.pass_index]}"
    return {"batch": batch, "owner": owner, "texts": texts, "names": short}

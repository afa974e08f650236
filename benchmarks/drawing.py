"""Layers, pixel stacks and geometry: of the demo frame, and of one with two million triangles."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.replaying import DEMO, Row
from wendascope.frame.file import save
from wendascope.measure.drawn import measure_drawn
from wendascope.measure.pictures import picture_at, verify
from wendascope.measure.pixel_stack import pixel_stack
from wendascope.replay.client import Replay
from wendascope.replay.jobs import Asked
from wendascope.tap.launch import Target, Trigger

_RUNS = 3
_STEP = 962
"""Of the demo frame: the last opaque step of its largest pass."""


def _told(times: list[float]) -> str:
    return f"{np.median(times):.2f} s ({min(times):.2f} to {max(times):.2f})"


def _once(asked: Asked[Any]) -> float:
    """Seconds of a job in a process that has replayed the demo frame before and counted nothing yet."""
    with Replay(DEMO) as replay:
        replay.run(verify.asked())
        started = time.perf_counter()
        replay.run(asked)
        return time.perf_counter() - started


def layers() -> Iterator[Row]:
    for where, step in (("finished picture", None), ("largest pass", _STEP)):
        times = [_once(picture_at.asked(step=step, lens="layers")) for _ in range(_RUNS)]
        yield f"layers lens of the demo frame, {where}", _told(times), "<= 3 s"


def stack() -> Iterator[Row]:
    first: list[float] = []
    later: list[float] = []
    for _ in range(_RUNS):
        with Replay(DEMO) as replay:
            replay.run(picture_at.asked(step=_STEP, lens="layers"))
            for times, x in ((first, 420), (later, 640)):
                started = time.perf_counter()
                replay.run(pixel_stack.asked(x=x, y=360, step=_STEP))
                times.append(time.perf_counter() - started)
    yield "pixel stack of the demo frame, layers shown", _told(first + later), "<= 1 s"


def geometry() -> Iterator[Row]:
    times = [_once(picture_at.asked(step=None, lens="density")) for _ in range(_RUNS)]
    yield "geometry of all demo steps, to the density lens", _told(times), "<= 5 s"


def many() -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "many.wend"
        with Target([sys.executable, "-m", "benchmarks.many_meshes"]) as target:
            frame = target.capture(Trigger(frame=3), 120.0)
        save(frame, path)
        with Replay(path) as replay:
            started = time.perf_counter()
            drawn = replay.run(measure_drawn.asked())
            seconds = time.perf_counter() - started
    triangles = sum(max(row.triangles, 0) for row in drawn.steps)
    exact = "counts exact" if not drawn.caveats else drawn.caveats[0]
    yield (
        f"layers and geometry, {len(drawn.steps):,} steps, {triangles / 1e6:.1f} million triangles",
        f"{seconds:.1f} s, {exact}",
        "<= 60 s",
    )


BENCHMARKS = {"layers": layers, "stack": stack, "geometry": geometry, "many": many}

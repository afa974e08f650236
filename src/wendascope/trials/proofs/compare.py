"""Before and after: two captured frames replayed in turns, so that the machine's noise falls on both.

Times are compared pair by pair; a difference is called a change only when its interval excludes zero.
"""

from __future__ import annotations

import contextlib
import re
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from wendascope.errors import UsageError
from wendascope.frame.file import load
from wendascope.frame.frame import Frame
from wendascope.frame.passes import DRAW_COUNT
from wendascope.frame.steps import KINDS
from wendascope.measure.pictures import compare_pictures, verify
from wendascope.measure.samples import prepare, sample
from wendascope.measure.statistics import Interval, median_interval
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task

REPEATS = 12


class Difference(msgspec.Struct):
    """One time before and after, ms. `difference` is after minus before, of pairs taken one after the other."""

    before: Interval
    after: Interval
    difference: Interval

    @property
    def changed(self) -> bool:
        return self.difference.low > 0 or self.difference.high < 0


class PassDifference(msgspec.Struct):
    """A pass and its counterpart; one of them is missing where the other frame has no such pass."""

    name: str
    before: int | None
    after: int | None
    steps_before: int
    steps_after: int
    ms: Difference | None


class Count(msgspec.Struct):
    what: str
    before: int
    after: int


class Comparison(msgspec.Struct):
    """Two frames that were replayed in turns."""

    before: str
    after: str
    repeats: int
    method: str
    frame: Difference
    submit: Difference
    """Submitting the frame's calls, without waiting for their work."""
    passes: list[PassDifference]
    counts: list[Count]
    pixels: int
    pixels_different: int | None
    """None where the pictures differ in size."""
    max_difference: int | None
    warnings: list[str] = []
    """Of frames whose replay is not the captured picture."""


def compare_files(
    before: Path,
    after: Path,
    repeats: int = REPEATS,
    task: Task = QUIET,
) -> Comparison:
    """Replay both frames in turns and compare. Raises FileError, ReplayError, CancelledError."""
    if repeats < 6:
        raise UsageError("fewer than 6 repeats give no interval of 95 %; use --repeats 6 or more")
    frames = [load(path) for path in (before, after)]
    rows: list[list[dict[str, list[float]]]] = [[], []]
    with contextlib.ExitStack() as stack:
        replays = [stack.enter_context(Replay(path)) for path in (before, after)]
        verified = [replay.run(verify.asked(), task) for replay in replays]
        methods = [replay.run(prepare.asked(), task) for replay in replays]
        method = "timer query" if set(methods) == {"timer query"} else "drain"
        for repeat in range(repeats):
            task.progress("replaying both in turns", repeat / repeats)
            # which goes first changes, so that neither always follows the other
            for which in (0, 1) if repeat % 2 == 0 else (1, 0):
                taken = replays[which].run(sample.asked(method), task.quietly())
                rows[which].append(taken)
    found = comparison(frames, (before.name, after.name), rows, method)
    found.warnings = [
        f"{path.name}: {v.sentence}" for path, v in zip((before, after), verified, strict=True) if not v.identical
    ]
    return found


def comparison(
    frames: list[Frame], names: tuple[str, str], rows: list[list[dict[str, list[float]]]], method: str
) -> Comparison:
    """Put samples and frames together. `rows` has for each frame one dict a repeat, with `frame`, `submit`,
    `passes` in ms.
    """

    def column(which: int, key: str, at: int) -> np.ndarray:
        return np.array([row[key][at] for row in rows[which]])

    def difference(key: str, a: int, b: int) -> Difference:
        x, y = column(0, key, a), column(1, key, b)
        return Difference(median_interval(x), median_interval(y), median_interval(y - x))

    a, b = frames
    passes = []
    for i, j in match_passes(a.passes.names, b.passes.names):
        size = [0 if k is None else int(f.passes.end[k] - f.passes.first[k]) for f, k in ((a, i), (b, j))]
        ms = difference("passes", i, j) if i is not None and j is not None else None
        name = a.passes.names[i] if i is not None else b.passes.names[j]  # type: ignore[index]
        passes.append(PassDifference(name, i, j, size[0], size[1], ms))
    pixels, different, largest = 0, None, None
    if a.reference is not None and b.reference is not None:
        pixels = a.reference.width * a.reference.height
        if a.reference.pixels.shape == b.reference.pixels.shape:
            alpha = a.has_alpha and b.has_alpha
            different, largest = compare_pictures(a.reference, b.reference, alpha)
    return Comparison(
        names[0],
        names[1],
        len(rows[0]),
        method,
        difference("frame", 0, 0),
        difference("submit", 0, 0),
        passes,
        counts(a, b),
        pixels,
        different,
        largest,
    )


def match_passes(before: list[str], after: list[str]) -> list[tuple[int | None, int | None]]:
    """Pairs of passes: first of the same name, then of the same role (a derived name without its counts), in order."""
    pairs: dict[int, int] = {}
    taken: set[int] = set()
    for key in (lambda name: name, _role):
        for i, name in enumerate(before):
            if i in pairs:
                continue
            j = next((j for j, other in enumerate(after) if j not in taken and key(other) == key(name)), None)
            if j is not None:
                pairs[i] = j
                taken.add(j)
    rows: list[tuple[int | None, int | None]] = [(i, pairs.get(i)) for i in range(len(before))]
    return rows + [(None, j) for j in range(len(after)) if j not in taken]


_COUNTS = re.compile(rf"{DRAW_COUNT.pattern}| \(\d+\)$")


def _role(name: str) -> str:
    return _COUNTS.sub("", name)


def counts(a: Frame, b: Frame) -> list[Count]:
    """What the two consist of; only what at least one has."""

    def of(frame: Frame) -> dict[str, int]:
        steps = frame.steps
        kinds = {kind: int((steps.kind == number).sum()) for number, kind in enumerate(KINDS)}
        return {
            "calls": frame.call_count,
            "steps": len(steps),
            "passes": len(frame.passes),
            "draws": kinds["draw"],
            "clears": kinds["clear"],
            "dispatches": kinds["dispatch"],
            "blits and copies": kinds["blit"] + kinds["copy"],
            "vertices": int(steps.vertices.sum()),
            "triangles": int(steps.triangles.sum()),
            "instances": int(steps.instances.sum()),
            "textures": frame.object_counts["textures"],
            "buffers": frame.object_counts["buffers"],
            "programs": frame.object_counts["programs"],
        }

    before, after = of(a), of(b)
    return [Count(what, before[what], after[what]) for what in before if before[what] or after[what]]


def told(found: Comparison) -> dict[str, Any]:
    """As it is printed: every difference says whether it is a change."""
    plain: dict[str, Any] = msgspec.to_builtins(found)
    for key in ("frame", "submit"):
        plain[key]["changed"] = getattr(found, key).changed
    for row, item in zip(plain["passes"], found.passes, strict=True):
        if item.ms is not None:
            row["ms"]["changed"] = item.ms.changed
    return plain

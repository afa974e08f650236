"""The frames of a sequence beside each other: how long each took as recorded, and what the slow one does that the
others do not.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np

from wendascope.analysis.sequence.late_views import LateView
from wendascope.frame.frame import Frame
from wendascope.frame.passes import PassKey
from wendascope.frame.side_work import SideKind, SideWork
from wendascope.texts import listed, memory, plural, three_digits, verb

_SLOW = 1.3
"""Times the median of the others, from which on a frame is called slow."""
_LEAST_MS = 1.0
"""By how much at least."""
_PART = 0.25
"""Of the time that it takes longer: what is less is no reason."""
_ALONE = ", which no other frame has"
_MORE = 1.2
"""Times the median of the others, from which on there is more of something."""


class FrameInTime(msgspec.Struct):
    """One frame of a sequence."""

    number: int
    """In the sequence, from 1."""
    frame_number: int
    """As the program counts."""
    ms: float
    """From frame end to frame end while it was recorded."""
    calls_ms: float
    """Of it inside OpenGL calls that do not wait."""
    waits_ms: float
    """Of it inside calls that wait."""
    own_ms: float
    """Of it the program's own code."""
    calls: int
    steps: int
    passes: int
    vertices: int
    side: list[SideWork]

    @property
    def beside(self) -> str:
        """What it does beside drawing, in words; waits have a time of their own."""
        return "; ".join(item.text for item in self.side if item.kind != SideKind.WAIT) or "nothing"


class OverTime(msgspec.Struct):
    """A sequence at a glance."""

    frames: list[FrameInTime]
    slow: int
    """Which of `frames` is slow, from 0; -1 for none."""
    sentence: str
    reasons: list[str]
    """What the slow frame has more of than the others, the most likely reason first."""
    why: str = ""
    """The first of them in sentences."""


def frame_in_time(frame: Frame, number: int) -> FrameInTime:
    """What counts of one frame. Frames are large: so they can be read one by one."""
    lane = frame.cpu_lane
    return FrameInTime(
        number,
        frame.metadata.frame_number,
        lane.frame_ms,
        lane.calls_ms,
        lane.waits_ms,
        lane.own_ms,
        frame.call_count,
        len(frame.steps),
        len(frame.passes),
        int(frame.steps.vertices.sum()),
        frame.side_work,
    )


def over_time(frames: Sequence[FrameInTime]) -> OverTime:
    """Find the frame that is slow, and say why as far as its calls tell."""
    rows = list(frames)
    if len(rows) < 2:
        return OverTime(rows, -1, "One frame: capture several with --frames to compare them.", [])
    times = np.array([row.ms for row in rows])
    worst = int(times.argmax())
    others = [row for row in rows if row is not rows[worst]]
    usual = _median(others, "ms")
    if times[worst] < max(_SLOW * usual, usual + _LEAST_MS):
        spread = f"{three_digits(float(times.min()))} to {three_digits(float(times.max()))} ms"
        return OverTime(rows, -1, f"No frame stands out: {len(rows)} frames took {spread} while recorded.", [])
    reasons = _reasons(rows[worst], others)
    slow_ms, usual_ms = three_digits(float(times[worst])), three_digits(usual)
    text = f"Frame {rows[worst].number} is slow: {slow_ms} ms in place of {usual_ms} ms"
    alone = [reason.removesuffix(_ALONE) for reason in reasons[:3] if reason.endswith(_ALONE)]
    more = [reason for reason in reasons[:3] if not reason.endswith(_ALONE)]
    why = [f"It alone has {listed(alone)}."] if alone else []
    why += [f"It has {listed(more)}."] if more else [] if alone else ["Its calls are those of the others."]
    return OverTime(rows, worst, f"{text}.", reasons, " ".join(why))


def _reasons(slow: FrameInTime, others: Sequence[FrameInTime]) -> list[str]:
    """What there is more of, with what takes more time first: work beside drawing, then where the time is."""
    found: list[tuple[float, str]] = []
    for kind in SideKind:
        if kind == SideKind.WAIT:
            continue  # how many calls wait, is chance; how long they do, is below
        mine, usual = _of(slow, kind), [_of(row, kind) for row in others]
        count, size, ms = (_median(usual, name) for name in ("count", "bytes", "ms"))
        if mine.count > max(_MORE * count, count + 0.5) or mine.bytes > max(_MORE * size, size + 1024):
            before = f"{count:,.0f}" + (f" ({memory(size)})" if size else "")
            found.append((mine.ms - ms, f"{mine.text} in place of {before}" if count else f"{mine.text}{_ALONE}"))
    for name, what, several in (("steps", "step", ""), ("passes", "pass", "passes")):
        here, count = getattr(slow, name), _median(others, name)
        if here > max(_MORE * count, count + 1):
            found.append((0.0, f"{plural(here, what, several)} in place of {count:,.0f}"))
    excess = slow.ms - _median(others, "ms")
    places = []
    for name, where in (
        ("calls_ms", "inside its calls"),
        ("waits_ms", "in waits"),
        ("own_ms", "in the program's code"),
    ):
        more = getattr(slow, name) - _median(others, name)
        if more > _PART * excess:
            places.append((more, f"{three_digits(more)} ms more {where}"))
    found.sort(key=lambda item: -item[0])
    return [text for _, text in [*found, *sorted(places, reverse=True)]]


def _median(rows: Sequence[FrameInTime] | Sequence[SideWork], name: str) -> float:
    return float(np.median([getattr(row, name) for row in rows]))


def _of(row: FrameInTime, kind: SideKind) -> SideWork:
    return next((item for item in row.side if item.kind == kind), SideWork(kind, 0, 0, 0.0))


class PassOverTime(msgspec.Struct):
    """One pass over the frames of a sequence."""

    name: str
    alike: int
    """The longest run of frames in which its images come out the same, every byte of them; 1 where none do."""
    frames: int
    """How many frames have the pass."""
    ms: float | None
    """Its time, where a frame was measured."""


def same_results(
    results: Sequence[Sequence[str]],
    keys: Sequence[Sequence[PassKey]],
    names: Sequence[Sequence[str]],
    ms: Mapping[PassKey, float] | None = None,
) -> list[PassOverTime]:
    """Of every pass, in how many frames one after the other its result is the same. `results`, `keys` and `names` have
    a row for each frame, with a digest, a key and a name for each of its passes; passes go together by their keys.
    """
    rows: dict[PassKey, list[str]] = {}
    called: dict[PassKey, str] = {}
    for at, of_frame in enumerate(zip(results, keys, names, strict=True)):
        for digest, key, name in zip(*of_frame, strict=True):
            rows.setdefault(key, [""] * len(results))[at] = digest
            called.setdefault(key, name)
    found = []
    for key, row in rows.items():
        longest = run = 0
        before = ""
        for digest in row:
            run = 0 if not digest else run + 1 if digest == before else 1
            longest, before = max(longest, run), digest
        found.append(PassOverTime(called[key], longest, sum(map(bool, row)), (ms or {}).get(key)))
    return found


class OtherFrames(msgspec.Struct):
    """What the other frames of its sequence tell of the passes of a frame."""

    frames: int
    """How many frames were compared, this one with them."""
    number: int
    """Which of them this one is, from 1."""
    unchanged: list[int]
    """Passes that come to the same in all of them."""
    late: list[tuple[list[int], LateView]] = []
    """Views that were tried late, each with its passes in this frame."""
    same_steps: list[int] = []
    """Steps that all frames have, by all that they depend on."""
    unused: list[list[str | int]] = []
    """Class and name of every object that none of the frames uses."""


def unchanged_passes(results: Sequence[Sequence[str]], keys: Sequence[Sequence[PassKey]], place: int) -> list[int]:
    """Of frame `place`, from 0, the passes whose images are the same in all frames, every byte of them. A pass that
    another frame does not have, by its key, is not the same; nor is one whose images could not be read, which has an
    empty digest.
    """
    keyed = [dict(zip(of_frame, digests, strict=True)) for of_frame, digests in zip(keys, results, strict=True)]
    here = keyed[place]
    return [index for index, key in enumerate(here) if here[key] and all(row.get(key) == here[key] for row in keyed)]


def same_again(passes: Sequence[PassOverTime], frames: int) -> str:
    """What is drawn in every frame though its result stays the same."""
    still = [p for p in passes if p.alike == frames]
    if not still:
        return "Every pass comes out otherwise from frame to frame."
    if len(still) == len(passes):
        return f"Nothing changes in these {frames} frames: capture while something moves to see what stays the same."
    known = [p.ms for p in still if p.ms is not None]
    times = f", {three_digits(sum(known))} ms per frame" if known else ""
    what = listed([p.name for p in sorted(still, key=lambda p: -(p.ms or 0.0))[:4]])
    return (
        f"{plural(len(still), 'pass', 'passes')} of {len(passes)} {verb(len(still), 'gives', 'give')} the same result"
        f" in all {frames} frames{times}: {what}. What stays the same can be drawn once and kept."
    )

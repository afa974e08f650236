"""What changed between two frames of one program, and what each change accounts for.

Steps are known again by the program they draw with (its sources, or those that it became a variant of) and by how much
they draw, within passes of the same name or role. What can be taken back in the later frame is taken back there, and
timed against it as proofs are; the rest is told as seen, not as measured.
"""

from __future__ import annotations

import difflib
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from enum import StrEnum
from pathlib import Path

import msgspec
import numpy as np

from wendascope.errors import ReplayError, TrialError
from wendascope.frame.file import load
from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem
from wendascope.frame.passes import Target
from wendascope.frame.remedy import EditedSource, Remedy
from wendascope.measure.deciding import Decision
from wendascope.measure.statistics import Interval
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.texts import plural
from wendascope.trials.proofs.compare import REPEATS, Comparison, compare_files, match_passes
from wendascope.trials.proofs.runs import time_remedies

_ALIKE = 0.5
"""Part of the lines that two shaders share, from which one is a variant of the other."""
_SECONDS = 6.0
_WORKS = ("draw", "dispatch")
"""Kinds of steps that a program runs in."""
_Sources = tuple[tuple[int, str], ...]
_Signature = tuple[object, str, int, int, int]
"""What a step draws: its program, kind, vertices, triangles and instances."""


class Cause(StrEnum):
    """How two frames differ. The values are how that is told."""

    MORE = "more draws of the same"
    NEW_DRAWS = "new draws of a known program"
    NEW_PROGRAM = "draws with a new program"
    VARIANT = "other variant of a shader"
    FEWER = "fewer draws"
    TARGET = "target of another size"
    LEVELS = "texture without levels"
    TEXTURE = "texture of another size or format"
    NEW_PASS = "new pass"
    GONE_PASS = "pass that is gone"


class Change(msgspec.Struct):
    """One difference of a pass."""

    cause: Cause
    pass_: str = msgspec.field(name="pass")
    what: str
    """In a line."""
    steps: list[int] = []
    """Of the later frame; of the earlier one where they are gone."""
    program: int = 0
    remedies: list[Remedy] = []
    """That take it back in the later frame."""
    ms: Interval | None = None
    """What the later frame takes for it, by taking it back; None where that was not tried or not decided."""
    decision: Decision | None = None
    untried: str = ""
    """Why not, where it was not."""

    @property
    def told(self) -> bool:
        """Whether measuring showed that the later frame takes more or less for it."""
        return self.decision in (Decision.GAIN, Decision.LOSS)


class Bisected(msgspec.Struct):
    """Two frames and what lies between them."""

    before: str
    after: str
    comparison: Comparison
    changes: list[Change]

    @property
    def sentence(self) -> str:
        """How much of the difference of the frame's time the changes account for."""
        d = self.comparison.frame
        found = plural(len(self.changes), "change")
        if not d.changed:
            return f"{found}; the frame's time shows no change ({d.difference.low:+.2f} to {d.difference.high:+.2f} ms)"
        told = [c.ms.median for c in self.changes if c.told and c.ms is not None]
        return (
            f"{d.difference.median:+.2f} ms ({d.difference.low:+.2f} to {d.difference.high:+.2f}); {found},"
            f" {sum(told):+.2f} ms of it by the {len(told)} that could be taken back and told at this noise"
        )


def bisect_frames(
    before: Path, after: Path, repeats: int = REPEATS, seconds: float = _SECONDS, task: Task = QUIET
) -> Bisected:
    """Find the changes, and try to take each back in the later frame. Raises FileError, ReplayError, CancelledError."""
    frames = load(before), load(after)
    changes = changes_between(*frames)
    comparison = compare_files(before, after, repeats, task.part(0.0, 0.4))
    with Replay(after) as replay:
        for number, change in enumerate(changes, 1):
            if change.remedies:
                part = task.part(0.4, 1.0).one_of("taking back", number, len(changes))
                _try(change, frames[1], replay, seconds, part)
    changes.sort(key=lambda item: -(item.ms.median if item.ms is not None else 0.0))
    return Bisected(before.name, after.name, comparison, changes)


def _try(change: Change, frame: Frame, replay: Replay, seconds: float, task: Task) -> None:
    of_step = np.asarray(frame.passes.of_step)
    passes = sorted({int(of_step[step]) for step in change.steps})
    try:
        timed = replay.run(time_remedies.asked(change.remedies, passes, seconds), task)
    except (TrialError, ReplayError) as error:
        change.untried = str(error)
        return
    change.ms, change.decision = timed.work.saved, timed.work.decision
    if change.ms is None:
        change.untried = "too few runs in the time that was given"


# ---- finding them ---------------------------------------------------------------------------------------------


def changes_between(before: Frame, after: Frame) -> list[Change]:
    """What differs, pass by pass, in the order of the frames."""
    known = _Programs(before, after)
    found: list[Change] = []
    for i, j in match_passes(before.passes.names, after.passes.names):
        if i is None and j is not None:
            steps = _steps(after, j)
            name = after.passes.names[j]
            made = Change(Cause.NEW_PASS, name, plural(len(steps), "step"), steps, remedies=_dropped(after, steps))
            found.append(made)
        elif j is None and i is not None:
            steps = _steps(before, i)
            found.append(Change(Cause.GONE_PASS, before.passes.names[i], plural(len(steps), "step"), steps))
        elif i is not None and j is not None:
            found += _in_pass(before, after, i, j, known)
    return found


def _steps(frame: Frame, index: int) -> list[int]:
    return list(range(int(frame.passes.first[index]), int(frame.passes.end[index])))


def _dropped(frame: Frame, steps: Sequence[int]) -> list[Remedy]:
    draws = [step for step in steps if frame.steps.kind_name(step) in _WORKS]
    return [Remedy("drop-steps", draws)] if draws else []


class _Programs:
    """Programs of both frames, known again by their sources."""

    def __init__(self, before: Frame, after: Frame) -> None:
        self.before, self.after = _sources(before), _sources(after)
        old, new = set(self.before.values()), set(self.after.values())
        self.became: dict[_Sources, _Sources] = {}
        """Sources of the later frame -> those of the earlier one that they are a variant of."""
        taken: set[_Sources] = set()
        for fresh in sorted(new - old):
            rated = [(_likeness(gone, fresh), gone) for gone in old - new - taken]
            likeness, gone = max(rated, default=(0.0, ()))
            if likeness >= _ALIKE:
                self.became[fresh] = gone
                taken.add(gone)

    def identity(self, frame: str, program: int) -> object:
        """The same for a program and what it is a variant of."""
        if frame == "before":
            return self.before.get(program, program)
        sources = self.after.get(program)
        return program if sources is None else self.became.get(sources, sources)


def _sources(frame: Frame) -> dict[int, _Sources]:
    used = set(np.unique(frame.steps.program).tolist())
    return {
        name: tuple((shader.stage, shader.source) for shader in record.shaders)
        for name, record in frame.programs.items()
        if name in used and any(shader.source for shader in record.shaders)
    }


def _likeness(a: _Sources, b: _Sources) -> float:
    """The part of their lines that two programs share; 0 where they have other stages."""
    if [stage for stage, _ in a] != [stage for stage, _ in b]:
        return 0.0
    rated = difflib.SequenceMatcher(None, _lines(a), _lines(b), autojunk=False)
    return rated.ratio() if rated.quick_ratio() >= _ALIKE else 0.0


def _lines(sources: _Sources) -> list[str]:
    return [line.strip() for _, source in sources for line in source.splitlines() if line.strip()]


def _in_pass(before: Frame, after: Frame, i: int, j: int, known: _Programs) -> Iterator[Change]:
    name = after.passes.names[j]
    old, new = _signatures(before, i, "before", known), _signatures(after, j, "after", known)
    counts = Counter(old.values()), Counter(new.values())
    extra, fewer = counts[1] - counts[0], counts[0] - counts[1]
    grouped: dict[tuple[Cause, int], list[int]] = defaultdict(list)
    programs_before = {signature[0] for signature in counts[0]}
    for signature, count in extra.items():
        mine = [step for step, own in new.items() if own == signature][-count:]
        cause = (
            Cause.MORE if counts[0][signature] else Cause.NEW_DRAWS if signature[0] in programs_before
            else Cause.NEW_PROGRAM
        )  # fmt: skip
        grouped[cause, int(after.steps.program[mine[0]])] += mine
    for (cause, program), steps in grouped.items():
        triangles = int(np.asarray(after.steps.triangles)[steps].sum())
        what = f"{plural(len(steps), 'step')} with {after.program_name(program)}, {plural(triangles, 'triangle')}"
        yield Change(cause, name, what, sorted(steps), program, _dropped(after, sorted(steps)))
    gone = sum(fewer.values())
    if gone:
        by_signature = {signature: [s for s, own in old.items() if own == signature] for signature in fewer}
        steps = [step for signature, count in fewer.items() for step in by_signature[signature][-count:]]
        yield Change(Cause.FEWER, name, f"{plural(gone, 'step')} of the frame before", sorted(steps))
    yield from _variants(after, j, name, known)
    a, b = before.passes.targets[i], after.passes.targets[j]
    if (a.width, a.height) != (b.width, b.height):
        pixels = b.width * b.height / max(a.width * a.height, 1)
        what = f"{a.width} x {a.height} became {b.width} x {b.height}: {pixels:.2f} times the pixels"
        yield Change(Cause.TARGET, name, what, _steps(after, j), remedies=_as_small(after, j, a, b))
    yield from _textures(before, after, i, j, name)


def _signatures(frame: Frame, index: int, which: str, known: _Programs) -> dict[int, _Signature]:
    steps = frame.steps
    return {
        s: (
            known.identity(which, int(steps.program[s])) if steps.kind_name(s) in _WORKS else 0, steps.kind_name(s),
            int(steps.vertices[s]), int(steps.triangles[s]), int(steps.instances[s]),
        )
        for s in _steps(frame, index)
    }  # fmt: skip


def _variants(after: Frame, j: int, name: str, known: _Programs) -> Iterator[Change]:
    of_program: dict[int, list[int]] = defaultdict(list)
    for step in _steps(after, j):
        if after.steps.kind_name(step) in _WORKS:
            of_program[int(after.steps.program[step])].append(step)
    for program, steps in of_program.items():
        now = known.after.get(program)
        then = known.became.get(now) if now is not None else None
        if now is None or then is None:
            continue
        edited = [EditedSource(stage, text) for (stage, text), (_, own) in zip(then, now, strict=True) if text != own]
        lines = sum(
            line[:1] in "+-" and line[:3] not in ("+++", "---")
            for (_, text), (_, own) in zip(then, now, strict=True)
            for line in difflib.unified_diff(text.splitlines(), own.splitlines(), lineterm="", n=0)
        )
        what = f"{after.program_name(program)}, {plural(lines, 'line')} otherwise, in {plural(len(steps), 'step')}"
        remedy = Remedy("edit-shader", steps, program=program, sources=edited)
        yield Change(Cause.VARIANT, name, what, steps, program, [remedy])


def _textures(before: Frame, after: Frame, i: int, j: int, name: str) -> Iterator[Change]:
    old, new = _read_in(before, i), _read_in(after, j)
    by_label = {item.label: item for item in old if item.label}
    steps = set(_steps(after, j))
    for item in new:
        was = by_label.get(item.label) if item.label else None
        if was is None:
            continue
        mine = sorted(steps & set(item.reads.tolist()))
        if was.levels > 1 and item.levels == 1 and (was.width, was.height) == (item.width, item.height):
            what = f"{item.title}: {plural(was.levels, 'level')} became 1"
            again = Remedy("mip-levels", item.reads.tolist(), textures=[item.name])
            yield Change(Cause.LEVELS, name, what, mine, remedies=[again])
        elif (was.width, was.height, was.format) != (item.width, item.height, item.format):
            what = f"{item.title}: {was.dimensions} {was.format} became {item.dimensions} {item.format}"
            yield Change(Cause.TEXTURE, name, what, mine, remedies=_as_coarse(was, item))


def _as_small(frame: Frame, index: int, was: Target, now: Target) -> list[Remedy]:
    """A pass drawn into a target as small as it was, where that divides it."""
    divide = now.width // max(was.width, 1)
    if divide < 2 or (now.width // divide, now.height // divide) != (was.width, was.height):
        return []
    steps = [step for step in _steps(frame, index) if frame.steps.kind_name(step) in ("draw", "clear")]
    return [Remedy("smaller-view", steps, divide=divide)]


def _as_coarse(was: MemoryItem, now: MemoryItem) -> list[Remedy]:
    """A texture without the finer levels that it did not have, where its format is the same."""
    levels = (max(now.width, 1) // max(was.width, 1)).bit_length() - 1
    halved = max(now.width >> levels, 1), max(now.height >> levels, 1)
    if levels < 1 or halved != (was.width, was.height) or was.format != now.format:
        return []
    kind = "drop-levels" if now.levels > 1 else "smaller-textures"
    return [Remedy(kind, now.reads.tolist(), textures=[now.name], values={"levels": float(levels)})]


def _read_in(frame: Frame, index: int) -> list[MemoryItem]:
    first, end = int(frame.passes.first[index]), int(frame.passes.end[index])
    return [
        item
        for item in frame.memory
        if item.object_class == "texture" and bool(((item.reads >= first) & (item.reads < end)).any())
    ]

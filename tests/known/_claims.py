"""Every claim about a random frame, held against the model."""

from __future__ import annotations

import copy
from dataclasses import dataclass, field

import numpy as np

from wendascope.advice.findings import Case, find
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.backends.opengl.tables.step_inputs import step_inputs
from wendascope.errors import TrialError
from wendascope.frame.call_use import OVERWRITTEN, REPEATS
from wendascope.frame.remedy import Part, Remedy
from wendascope.measure.drawn import measure_drawn
from wendascope.measure.pictures import verify
from wendascope.replay.progress import Job
from wendascope.trials.proofs.outcomes import judge_remedies

from ._random_frames import Model, Op, make, settled, vary

Result = tuple[np.ndarray, list[bytes]]
"""A window, and what the program was handed."""

FRAMES_ON = 4
"""Frames for which the picture has to stay what it is."""
_TURNS = 12
SETTLED_TURNS = 5
_NOT_OPS = (
    "glPixelStorei", "glFenceSync", "glClientWaitSync", "glDeleteSync", "glGetError", "glFlush", "glFinish",
    "glDebugMessageInsert",
)  # fmt: skip


@dataclass
class Report:
    """What was claimed of one frame, and what of it was false."""

    seed: int
    claims: dict[str, int] = field(default_factory=dict)
    false: list[str] = field(default_factory=list)

    def claim(self, kind: str, true: bool, what: str) -> None:
        self.claims[kind] = self.claims.get(kind, 0) + 1
        if not true:
            self.false.append(f"seed {self.seed}, {kind}: {what}")


def check(seed: int, frame: OpenGLFrame) -> Report:
    report, ops = Report(seed), make(seed)
    call_of = _calls_of(frame, ops)
    op_of = {call: number for number, call in enumerate(call_of)}
    step_ops = [op_of[int(call)] for call in frame.steps.call]
    assert frame.reference is not None
    start = _start(seed, ops, frame.reference.pixels)
    truth = _pictures(start, ops, frozenset(), frozenset())
    session = OpenGLSession(frame)
    try:
        assert verify(session, Job()).identical, f"seed {seed}: the replay is not the captured picture"
        drawn = measure_drawn(session, Job())
        case = Case(frame, drawn, None)
        _dropped(report, case, start, ops, step_ops, truth)
        _redundant(report, frame, start, ops, op_of, truth)
        _batches(report, case, session)
        _counts(report, case.drawn, ops, step_ops)
    finally:
        session.close()
    return report


def _calls_of(frame: OpenGLFrame, ops: list[Op]) -> list[int]:
    """The call of each operation: every other call of the frame is none."""
    calls = [c for c in range(len(frame.calls)) if frame.calls.command(c).name not in _NOT_OPS]
    assert len(calls) == len(ops), (len(calls), len(ops))
    return calls


def _start(seed: int, ops: list[Op], reference: np.ndarray) -> Model:
    """The model as it is before the captured frame. Frames may take turns, as where two textures are copied to each
    other.
    """
    model = settled(ops)
    for _ in range(_TURNS):
        before = copy.deepcopy(model)
        if (model.run(ops) == reference).all():
            return before
    raise AssertionError(f"seed {seed}: the model and the driver differ")


def _pictures(start: Model, ops: list[Op], left_out: frozenset[int], painted: frozenset[int]) -> list[Result]:
    model = copy.deepcopy(start)
    return [(model.run(ops, left_out, painted), model.got) for _ in range(FRAMES_ON)]


def _same(a: list[Result], b: list[Result]) -> bool:
    return all((x == y).all() and given == other for (x, given), (y, other) in zip(a, b, strict=True))


def _dropped(report: Report, case: Case, start: Model, ops: list[Op], step_ops: list[int], truth: list[Result]) -> None:
    """What is said to be unseen, unread, outside or drawn over: without it, and with other colours in its place,
    all frames are the same.
    """
    for item in find(case):
        if item.rule not in ("not-visible", "unread-pass", "outside-view", "covered-clear"):
            continue
        gone = frozenset(step_ops[s] for s in item.steps)
        true = True
        if item.rule != "covered-clear":  # the clear of depth stays
            true = _same(_pictures(start, ops, gone, frozenset()), truth)
        painted = frozenset(number for number in gone if ops[number].kind in ("draw", "clear"))
        true &= _same(_pictures(start, ops, frozenset(), painted), truth)
        report.claim(item.rule, true, f"{item.title} {item.steps}")


def _redundant(
    report: Report, frame: OpenGLFrame, start: Model, ops: list[Op], op_of: dict[int, int], truth: list[Result]
) -> None:
    every, none = np.ones(len(frame.calls), bool), np.zeros(len(frame.calls), bool)
    alone, use = frame.call_use(None, {REPEATS: every, OVERWRITTEN: none}).use, frame.call_use().use
    repeats = [op_of[c] for c in np.flatnonzero(alone == REPEATS).tolist() if c in op_of]
    redundant = [op_of[c] for c in np.flatnonzero((use == REPEATS) | (use == OVERWRITTEN)).tolist() if c in op_of]
    for kind, numbers in (("repeats", repeats), ("needless", redundant)):
        if numbers:
            true = _same(_pictures(start, ops, frozenset(numbers), frozenset()), truth)
            report.claim(kind, true, f"{len(numbers)} calls: {[ops[n] for n in numbers[:6]]}")
            report.claims[f"{kind}, calls"] = report.claims.get(f"{kind}, calls", 0) + len(numbers)


def _batches(report: Report, case: Case, session: OpenGLSession) -> None:
    for batch in case.batches.batches:
        remedy = Remedy("batch", batch.steps, parts=[Part(batch.how, part) for part in batch.parts])
        try:
            outcome = judge_remedies(session, [remedy])
        except TrialError:
            report.claim("batches refused", True, "")
            continue
        # said with the batch, and refuted by replay before a finding is made of it
        warned = any("equal depth" in caveat for caveat in batch.caveats)
        kind = "batches" if outcome.same or not warned else "batches, refuted at equal depths"
        report.claim(kind, outcome.same or warned, f"{batch.how} of {batch.steps}: {outcome}")


def _counts(report: Report, drawn: Drawn, ops: list[Op], step_ops: list[int]) -> None:
    """The driver's own counts agree with those of the layers."""
    report.claim("counts", drawn.mismatched == 0, f"{drawn.mismatched} steps")


# ---- sequences ------------------------------------------------------------------------------------------


def check_sequence(seed: int, frames: list[OpenGLFrame]) -> Report:
    """Draws of several frames that are said to depend on the same do, in the model, and all frames replay."""
    report, ops = Report(seed), make(seed)
    seen: dict[int, tuple] = {}
    for frame in frames:
        number = _number(frame)
        varied = vary(ops, number, seed)
        call_of = _calls_of(frame, varied)
        op_of = {call: at for at, call in enumerate(call_of)}
        model = _at(seed, ops, number, frame)
        if model is None:
            report.claims["takes longer turns"] = 1
            continue
        session = OpenGLSession(frame)
        try:
            assert verify(session, Job()).identical, f"seed {seed}: the replay is not the captured picture"
        finally:
            session.close()
        drawn = dict(zip([k for k, op in enumerate(varied) if op.kind == "draw"], model.drawn, strict=True))
        numbers, known = step_inputs(frame)
        for step, call in enumerate(frame.steps.call.tolist()):
            op = op_of[call]
            if known[step] and op in drawn:
                before = seen.setdefault(int(numbers[step]), drawn[op])
                report.claim("same inputs", before == drawn[op], f"step {step} of frame {number}")
    return report


def _number(frame: OpenGLFrame) -> int:
    (call, *_) = frame.calls.calls_of("glDebugMessageInsert").tolist()
    return int(frame.calls.argument(call, "buf").split()[1])


def _at(seed: int, ops: list[Op], number: int, frame: OpenGLFrame) -> Model | None:
    """The model after the frame of a number; None where its turns are longer than its operations'."""
    assert frame.reference is not None
    model = Model()
    first = number % 6
    held = {
        record.name: np.frombuffer(frame.blobs.get(image.contents), np.uint8)
        for record in frame.objects.textures
        for image in record.images
        if image.contents
    }
    for turn in range(first - 6 * SETTLED_TURNS, first + 6 * _TURNS):
        before = [model.colours[name].astype(np.uint8).ravel() for name in held]
        picture = model.run(vary(ops, turn % 6, seed))
        same = all(np.array_equal(a, b) for a, b in zip(before, held.values(), strict=True))
        if turn >= first and turn % 6 == first and same and (picture == frame.reference.pixels).all():
            return model
    return None

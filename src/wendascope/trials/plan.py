"""The plan: recommendations in the best order, and the frame time that they reach, step by step.

Each step is proved together with all before it, as one edited frame; what was not proved yet is subtracted as it is
estimated, and marked so.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np

from wendascope.analysis.estimates import corrections
from wendascope.analysis.findings import Case, Finding
from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.recommend import Gain, Recommendation, leaves_out, recommend
from wendascope.frame.frame import Frame
from wendascope.frame.roles import POST, SCENE, Role
from wendascope.measure.statistics import Interval
from wendascope.replay.client import Progress, Replay
from wendascope.texts import listed, plural
from wendascope.trials.proof import Proof, as_proved, compatible, prove
from wendascope.trials.verdicts import CHANGES, COSTS, LEAVES, NO_DIFFERENCE, NOISE, REFUSED, SAVES

_NAME = "plan-"
"""What proofs of plans are kept under begins with it."""
_UNUSABLE = (CHANGES, LEAVES, REFUSED, COSTS)
_HALF_SAVED = 0.75
"""Of the fragments of a view, what half its width and height leave out."""
_PAIRS = 24
"""Enough for two looks at what was measured."""
_LEAST_TRADE = 0.05
"""Of the frame: a trade of quality that brings less is not worth a word."""


class PlanStep(msgspec.Struct):
    """One recommendation in the plan, ms before and after it."""

    recommendation: str
    title: str
    gpu_before: float
    gpu_after: float
    cpu_before: float
    cpu_after: float
    proved: bool
    """Whether it was proved together with all steps before it."""
    alone: bool = False
    """Whether it was proved by itself."""
    note: str = ""
    """Why it brings nothing here, where it does not."""


class Trade(msgspec.Struct):
    """What a lower quality would bring, ms; estimated."""

    what: str
    ms: float


class Plan(msgspec.Struct):
    """Where a frame stands, where it could get to, and what is left then."""

    sentence: str
    rest: str
    """What is left, and which trades of quality would bring how much; empty where the budget is reached."""
    budget_ms: float
    gpu_ms: float
    cpu_ms: float
    gpu_after: float
    cpu_after: float
    steps: list[PlanStep]
    trades: list[Trade]

    @property
    def proved(self) -> int:
        return sum(step.proved or step.alone for step in self.steps)


def recommendations_of(case: Case, findings: Sequence[Finding], proofs: Mapping[str, Proof]) -> list[Recommendation]:
    """What to change, the largest gain first, with what proofs showed of it."""
    return recommend(case, findings, lambda finding: _saved(proofs.get(finding.id), case), corrections())


def _in_frame(saved: Interval | None, before: Interval | None, now_ms: float | None) -> Interval | None:
    """What a proof saved, as the same part of the frame as the survey timed it: proofs may go by another clock, and
    the machine may have been slower.
    """
    if saved is None or before is None or not now_ms or before.median <= 0:
        return saved
    by = now_ms / before.median
    return Interval(saved.median * by, saved.low * by, saved.high * by)


def in_frame(proof: Proof, frame_ms: float, submit_ms: float) -> Interval | None:
    """What decided a proof, by the side that decided it, in a frame that takes so long and is submitted in so long."""
    if proof.side:
        return submitted_in_frame(proof, submit_ms)
    return _in_frame(proof.saved_ms, proof.frame_ms_before, frame_ms)


def submitted_in_frame(proof: Proof, submit_ms: float | None) -> Interval | None:
    """What a proof saved of submission, in a frame that is submitted in so long."""
    return _in_frame(proof.submit_saved_ms, proof.submit_ms_before, submit_ms)


def _saved(proof: Proof | None, case: Case) -> tuple[str, Gain | None, Gain | None] | None:
    if proof is None or proof.verdict == NOISE:
        return None
    if proof.verdict == REFUSED:
        return "refused", None, None
    if proof.verdict != SAVES:
        return "none", None, None
    gpu = _in_frame(proof.saved_ms, proof.frame_ms_before, case.frame_ms) if not proof.side else None
    by_submission = proof.side or proof.submission_verdict == SAVES
    cpu = submitted_in_frame(proof, case.submit_ms) if by_submission else None
    gains = [None if g is None else Gain(g.median, g.low, g.high, True) for g in (gpu, cpu)]
    return "saves", gains[0], gains[1]


def plan_name(findings: Collection[str]) -> str:
    """What the proof of some findings together is kept under."""
    return _NAME + hashlib.sha1(" ".join(sorted(findings)).encode(), usedforsecurity=False).hexdigest()[:12]


def members_of(
    chosen: Sequence[Recommendation], findings: Mapping[str, Finding], proofs: Mapping[str, Proof]
) -> list[Finding]:
    """The findings of some recommendations that can go into one frame, in the form in which they held."""
    found = []
    for item in chosen:
        for identity in item.findings:
            finding, proof = findings.get(identity), proofs.get(identity)
            if finding is None or finding.remedy is None or (proof is not None and proof.verdict in _UNUSABLE):
                continue
            if proof is not None and proof.verdict == NO_DIFFERENCE:
                continue
            found.append(as_proved(finding, proof) if proof is not None else finding)
    return compatible(found)


def make_plan(
    case: Case, now_ms: tuple[float, float], chosen: Sequence[Recommendation], findings: Sequence[Finding],
    proofs: Mapping[str, Proof], budget_ms: float, program_ms: float = 0.0,
) -> Plan:  # fmt: skip
    """The waterfall of recommendations in their order. `now_ms` are the frame's time and that of its submission;
    `program_ms` is what the program itself takes of its thread outside OpenGL.
    """
    gpu, cpu = now_ms
    walk, steps, gone = _Walk({f.id: f for f in findings}, proofs), list[PlanStep](), set[int]()
    reached_by = [walk.next(item) for item in chosen]
    proved = [found.proof if not found.out else None for found in reached_by]
    saved = _never_less(
        [_in_frame(p.saved_ms, p.frame_ms_before, gpu) if p is not None and not p.side else None for p in proved]
    )
    submitted = _never_less([submitted_in_frame(p, cpu) if p is not None else None for p in proved])
    held = [n for n, p in enumerate(proved) if p is not None]
    untried = (0.0, 0.0)  # what no proof contains, and is expected all the same
    for number, (item, found) in enumerate(zip(chosen, reached_by, strict=True)):
        at_gpu, at_cpu = (steps[-1].gpu_after, steps[-1].cpu_after) if steps else (gpu, cpu)
        after, alone = (at_gpu, at_cpu), False
        if found.proof is not None and not found.out:
            after = max(gpu - saved[number] - untried[0], 0.0), max(cpu - submitted[number] - untried[1], 0.0)
        elif not found.out:
            left = 1.0 if not item.steps else len(set(item.steps) - gone) / len(item.steps)
            less = (item.gpu.ms * left if item.gpu else 0.0, item.cpu.ms * left if item.cpu else 0.0)
            # what comes after it together with it bounds what it can bring
            least = next(
                ((gpu - saved[n] - untried[0], cpu - submitted[n] - untried[1]) for n in held if n > number), (0.0, 0.0)
            )
            if item.state == "cannot be tried":
                least = least[0] - less[0], least[1] - less[1]
            after = (
                min(max(at_gpu - less[0], least[0], 0.0), at_gpu),
                min(max(at_cpu - less[1], least[1], 0.0), at_cpu),
            )
            alone = item.state == "proved"
            if item.state == "cannot be tried":
                untried = untried[0] + less[0], untried[1] + less[1]
        if not found.out and leaves_out(item):
            gone |= set(item.steps)
        steps.append(
            PlanStep(item.id, item.title, at_gpu, after[0], at_cpu, after[1], number in held, alone, found.out)
        )
    reached = (steps[-1].gpu_after, steps[-1].cpu_after) if steps else (gpu, cpu)
    after_ms = _left_of_passes(case, chosen)
    made = Plan("", "", budget_ms, gpu, cpu, *reached, steps, _trades(case, after_ms, reached[0]))
    made.sentence, made.rest = _sentence(made), _rest(case, made, after_ms, program_ms)
    return made


def _never_less(saved: Sequence[Interval | None]) -> list[float]:
    """What some changes saved together, each with all before it, as numbers that never fall: where a later one shows
    less, for its noise, the two are taken as one, the closer one counting more (isotonic regression, by pooling
    neighbours). 0 where nothing was measured.
    """
    blocks: list[tuple[float, float, list[int]]] = []  # (mean, weight, places)
    for place, item in enumerate(saved):
        if item is None:
            continue
        blocks.append((item.median, 1.0 / max(item.high - item.low, 1e-6) ** 2, [place]))
        while len(blocks) > 1 and blocks[-2][0] > blocks[-1][0]:
            (a, wa, pa), (b, wb, pb) = blocks[-2:]
            blocks[-2:] = [((a * wa + b * wb) / (wa + wb), wa + wb, [*pa, *pb])]
    found = [0.0] * len(saved)
    for mean, _, places in blocks:
        for place in places:
            found[place] = mean
    return found


def prove_plan(
    path: Path, frame: Frame, chosen: Sequence[Recommendation], findings: Sequence[Finding],
    proofs: Mapping[str, Proof], replay: Replay, frame_ms: float, seconds: float | None = None,
    progress: Progress = lambda _what, _part: None, cancelled: Callable[[], bool] = lambda: False,
    proved: Callable[[Proof], None] = lambda _proof: None,
) -> list[Proof]:  # fmt: skip
    """Prove each recommendation together with all before it, and keep the proofs in the file. What changes the picture
    with those before it is tried alone first, so that it is known and left out. A proof may take as long as the fewest
    pairs of such a frame need, unless `seconds` says. Raises ReplayError, CancelledError.
    """
    if seconds is None:
        seconds = max(guidelines().proofs.seconds, _PAIRS * 2 * frame_ms / 1000)
    by_id, known = {f.id: f for f in findings}, {k: v for k, v in proofs.items() if v.verdict != NOISE}
    made: list[Proof] = []

    def keep(proof: Proof) -> Proof:
        known[proof.finding] = proof
        made.append(proof)
        proved(proof)
        return proof

    walk = _Walk(by_id, known)
    for number, item in enumerate(chosen, 1):

        def told(what: str, part: float, number: int = number) -> None:
            progress(f"plan, step {number} of {len(chosen)}: {what}", (number - 1 + part) / len(chosen))

        members = walk.members(item)
        if members and walk.proof_of(members) is None:
            found = keep(prove(path, frame, members, replay, seconds, told, cancelled, _proof_name(members)))
            if found.verdict in _UNUSABLE and len(members) > 1:
                # which of them it is, is known once each was tried alone
                for own in [f for f in members if f.id in item.findings and f.id not in known]:
                    keep(prove(path, frame, [own], replay, seconds, told, cancelled))
                better = walk.members(item)
                if better and better != members and walk.proof_of(better) is None:
                    keep(prove(path, frame, better, replay, seconds, told, cancelled, _proof_name(better)))
        walk.next(item)
    return made


def _proof_name(members: Sequence[Finding]) -> str:
    """What a proof of some findings is kept under: a finding alone under its own id."""
    return members[0].id if len(members) == 1 else plan_name([f.id for f in members])


@dataclass(frozen=True)
class _Found:
    """What is known of one recommendation after those before it."""

    proof: Proof | None
    """Of it together with them; None where that was not decided."""
    out: str
    """Why it is left out; empty where it is not."""


class _Walk:
    """Goes along the recommendations of a plan, and takes in those that hold and help with those before them."""

    def __init__(self, findings: Mapping[str, Finding], proofs: Mapping[str, Proof]) -> None:
        self._findings, self._proofs = findings, proofs
        self._taken: list[Recommendation] = []
        self._best: Proof | None = None

    def members(self, item: Recommendation) -> list[Finding]:
        """The findings of what was taken in so far and of one more, as far as they go into one frame."""
        return members_of([*self._taken, item], self._findings, self._proofs)

    def proof_of(self, members: Sequence[Finding]) -> Proof | None:
        """What was decided of some findings together."""
        found = self._proofs.get(plan_name([f.id for f in members]))
        if found is None and len(members) == 1:
            found = self._proofs.get(members[0].id)
        return None if found is None or found.verdict == NOISE else found

    def next(self, item: Recommendation) -> _Found:
        members = self.members(item)
        if not any(f.id in item.findings for f in members):
            if item.state == "cannot be tried":  # nothing speaks against it, and nothing for it
                return _Found(None, "")
            return _Found(None, "what was tried of it shows no gain, or wants steps that others have")
        proof = self.proof_of(members)
        if proof is None:
            self._taken.append(item)
            return _Found(None, "")
        if proof.verdict in _UNUSABLE:
            return _Found(proof, f"with those before it: {proof.told_verdict}")
        if self._best is not None and _worse(proof, self._best):
            return _Found(proof, "it costs time with those before it")
        self._taken.append(item)
        self._best = proof
        return _Found(proof, "")


def _worse(proof: Proof, best: Proof) -> bool:
    """Whether a change saves surely less than what it adds to, on both sides."""
    pairs = ((proof.saved_ms, best.saved_ms), (proof.submit_saved_ms, best.submit_saved_ms))
    known = [(mine, other) for mine, other in pairs if mine is not None and other is not None]
    return (
        bool(known)
        and all(mine.median < other.median for mine, other in known)
        and any(mine.high < other.low for mine, other in known)
    )


# ---- in words ------------------------------------------------------------------------------------------------


def _left_of_passes(case: Case, chosen: Sequence[Recommendation]) -> list[float]:
    """Time of each pass once what is chosen is done, by their shares in its steps."""
    left = case.passes_in_frame
    of_step, step_ms = np.asarray(case.frame.passes.of_step), case.step_ms
    for item in chosen:
        if item.gpu is None or not item.steps or step_ms is None:
            continue
        steps = np.array(item.steps)
        times = step_ms[steps]
        whole = float(times.sum())
        for index in item.passes:
            share = float(times[of_step[steps] == index].sum()) / whole if whole > 0 else 0.0
            left[index] = max(left[index] - item.gpu.ms * share, 0.0)
    return left


def _trades(case: Case, left: Sequence[float], reached: float) -> list[Trade]:
    """Views and images at half size: the largest first. `left` is what each pass takes after the plan, in ms."""
    found: list[Trade] = []
    for index, role in enumerate(case.frame.pass_roles):
        if role.role not in (*SCENE, *POST, Role.SHADOW, Role.SHADOW_COPY) or index >= len(left):
            continue
        vertices = sum(case.drawn.steps[s].vertex_ms or 0.0 for s in case.steps_of(index)) if case.drawn.steps else 0.0
        ms = _HALF_SAVED * max(left[index] - vertices, 0.0)
        if ms > _LEAST_TRADE * reached:
            found.append(Trade(f"half width and height of {case.names[index]}", ms))
    return sorted(found, key=lambda trade: -trade.ms)[:3]


def _sentence(plan: Plan) -> str:
    """What is reached."""
    now, then = max(plan.gpu_ms, plan.cpu_ms), max(plan.gpu_after, plan.cpu_after)
    if not plan.steps:
        return f"{now:.1f} ms of {plan.budget_ms:.1f}; nothing to change was found."
    reached = "is reached" if then <= plan.budget_ms else "is not reached"
    changes = f"{plural(len(plan.steps), 'change')}, {plan.proved} proved"
    return f"{now:.1f} -> {then:.1f} ms with {changes}; the budget of {plan.budget_ms:.1f} ms {reached}."


def _rest(case: Case, plan: Plan, left: Sequence[float], program_ms: float) -> str:
    """What is left where the budget is not reached."""
    own = ""
    if program_ms > max(plan.budget_ms, plan.gpu_after):
        own = (
            f"The program's own code takes {program_ms:.1f} ms of its thread outside OpenGL: no change of the frame"
            " brings it into the budget."
        )
    if max(plan.gpu_after, plan.cpu_after) <= plan.budget_ms:
        return own
    largest = sorted(range(len(left)), key=lambda index: -left[index])[:3]
    parts = [f"{case.names[index]} ({left[index]:.1f} ms)" for index in largest if left[index] > 0]
    text = f"What is left is mostly {listed(parts)}." if parts else ""
    if plan.trades:
        trades = listed([f"{trade.what} about {trade.ms:.1f} ms" for trade in plan.trades])
        text += f" Trades of quality, estimated: {trades}."
    return " ".join(filter(None, [own, text.strip()]))

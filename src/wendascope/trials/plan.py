"""The plan: recommendations in the best order, and the frame time that they reach, step by step.

Each step is proved together with all before it, as one edited frame; what was not proved yet is subtracted as it is
estimated, and marked so.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path

import msgspec
import numpy as np

from wendascope.analysis.estimates import corrections
from wendascope.analysis.findings import Case, Finding
from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.recommend import Gain, Recommendation, leaves_out, recommend
from wendascope.frame.frame import Frame
from wendascope.frame.roles import POST, SCENE, Role
from wendascope.replay.client import Progress, Replay
from wendascope.texts import listed, plural
from wendascope.trials.proof import Proof, as_proved, compatible, prove
from wendascope.trials.verdicts import CHANGES, COSTS, LEAVES, NO_DIFFERENCE, NOISE, REFUSED, SAVES

_NAME = "plan-"
"""What proofs of plans are kept under begins with it."""
_UNUSABLE = (CHANGES, LEAVES, REFUSED, COSTS)
_HALF_SAVED = 0.75
"""Of the fragments of a view, what half its width and height leave out."""
_PAIRS = 13
"""The fewest that decide anything, and some to spare."""
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
    ranges = {rule: (item.low, item.high) for rule, item in corrections().items()}
    return recommend(case, findings, lambda finding: _saved(proofs.get(finding.id)), ranges)


def _saved(proof: Proof | None) -> tuple[str, Gain | None, Gain | None] | None:
    if proof is None or proof.verdict == NOISE:
        return None
    if proof.verdict == REFUSED:
        return "refused", None, None
    if proof.verdict != SAVES:
        return "none", None, None
    gpu = proof.saved_ms if not proof.side else None
    cpu = proof.submit_saved_ms if proof.side or proof.submission_verdict == SAVES else None
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
    proofs: Mapping[str, Proof], budget_ms: float,
) -> Plan:  # fmt: skip
    """The waterfall of recommendations in their order. `now_ms` are the frame's time and that of its submission."""
    by_id = {f.id: f for f in findings}
    gpu, cpu = now_ms
    steps: list[PlanStep] = []
    for number, item in enumerate(chosen, 1):
        members = members_of(chosen[:number], by_id, proofs)
        proof = proofs.get(plan_name([f.id for f in members]))
        if proof is None and len(members) == 1:
            proof = proofs.get(members[0].id)
        before = steps[-1] if steps else None
        at_gpu, at_cpu = (before.gpu_after, before.cpu_after) if before else (gpu, cpu)
        own = [f for f in members if f.id in item.findings]
        if proof is not None and proof.verdict in (SAVES, NO_DIFFERENCE) and own:
            saved = proof.saved_ms.median if proof.saved_ms and not proof.side else 0.0
            submitted = proof.submit_saved_ms.median if proof.submit_saved_ms else 0.0
            after = max(gpu - saved, 0.0), max(cpu - submitted, 0.0)
            steps.append(PlanStep(item.id, item.title, at_gpu, after[0], at_cpu, after[1], True))
            continue
        counts = bool(own) or item.state == "cannot be tried"
        note = "" if counts else "what was tried of it shows no gain, or wants steps that others have"
        gone = {step for other in chosen[: number - 1] if leaves_out(other) for step in other.steps}
        left = 1.0 if not item.steps else len(set(item.steps) - gone) / len(item.steps)
        left = left if counts else 0.0
        less = (item.gpu.ms * left if item.gpu else 0.0, item.cpu.ms * left if item.cpu else 0.0)
        after = max(at_gpu - less[0], 0.0), max(at_cpu - less[1], 0.0)
        alone = item.state == "proved" and counts
        steps.append(PlanStep(item.id, item.title, at_gpu, after[0], at_cpu, after[1], False, alone, note))
    reached = (steps[-1].gpu_after, steps[-1].cpu_after) if steps else (gpu, cpu)
    trades = _trades(case, chosen, reached[0])
    made = Plan("", "", budget_ms, gpu, cpu, *reached, steps, trades)
    made.sentence, made.rest = _sentence(made), _rest(case, made, chosen)
    return made


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
    by_id, known = {f.id: f for f in findings}, dict(proofs)
    made: list[Proof] = []

    def keep(proof: Proof) -> Proof:
        known[proof.finding] = proof
        made.append(proof)
        proved(proof)
        return proof

    for number in range(1, len(chosen) + 1):

        def told(what: str, part: float, number: int = number) -> None:
            progress(f"plan, step {number} of {len(chosen)}: {what}", (number - 1 + part) / len(chosen))

        members = members_of(chosen[:number], by_id, known)
        name = plan_name([f.id for f in members])
        if not members or name in known:
            continue
        if len(members) == 1:
            if members[0].id not in known:
                keep(prove(path, frame, members, replay, seconds, told, cancelled))
            continue
        found = keep(prove(path, frame, members, replay, seconds, told, cancelled, name))
        if found.verdict in _UNUSABLE:
            for item in [f for f in members if f.id in chosen[number - 1].findings and f.id not in known]:
                keep(prove(path, frame, [item], replay, seconds, told, cancelled))
            better = members_of(chosen[:number], by_id, known)
            if better and plan_name([f.id for f in better]) not in known:
                keep(prove(path, frame, better, replay, seconds, told, cancelled, plan_name([f.id for f in better])))
    return made


# ---- in words ------------------------------------------------------------------------------------------------


def _left_of_passes(case: Case, chosen: Sequence[Recommendation]) -> list[float]:
    """Time of each pass once what is chosen is done, by their shares in its steps."""
    left = list(case.pass_ms or [])
    of_step = np.asarray(case.frame.passes.of_step)
    for item in chosen:
        if item.gpu is None or not item.steps:
            continue
        steps = np.array(item.steps)
        times = np.array([case.time_of([s]) or 0.0 for s in item.steps])
        whole = float(times.sum())
        for index in item.passes:
            share = float(times[of_step[steps] == index].sum()) / whole if whole > 0 else 0.0
            left[index] = max(left[index] - item.gpu.ms * share, 0.0)
    return left


def _trades(case: Case, chosen: Sequence[Recommendation], reached: float) -> list[Trade]:
    """Views and images at half size: the largest first."""
    found: list[Trade] = []
    left = _left_of_passes(case, chosen)
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


def _rest(case: Case, plan: Plan, chosen: Sequence[Recommendation]) -> str:
    """What is left where the budget is not reached."""
    if max(plan.gpu_after, plan.cpu_after) <= plan.budget_ms:
        return ""
    left = _left_of_passes(case, chosen)
    largest = sorted(range(len(left)), key=lambda index: -left[index])[:3]
    parts = [f"{case.names[index]} ({left[index]:.1f} ms)" for index in largest if left[index] > 0]
    text = f"What is left is mostly {listed(parts)}." if parts else ""
    if plan.trades:
        trades = listed([f"{trade.what} about {trade.ms:.1f} ms" for trade in plan.trades])
        text += f" Trades of quality, estimated: {trades}."
    return text.strip()

"""The plan: what was proved of a frame put together, what is still expected, and the frame time that they reach.

The headline is made of proofs alone. What is best is looked for among all that was proved, one by one and together; the
rest is expected, and takes no more from any step than proofs have left there.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np

from wendascope.advice.estimates import corrections
from wendascope.advice.findings import Case, Finding
from wendascope.advice.ledger import Ledger
from wendascope.advice.recommend import (
    SMALL_SHARE,
    Gain,
    Recommendation,
    Section,
    State,
    Try,
    recommend,
    whole_frame_ms,
)
from wendascope.advice.rule import Side
from wendascope.measure.statistics import Interval
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.texts import listed, plural, three_digits
from wendascope.trials.proofs.best_set import best_set
from wendascope.trials.proofs.outcomes import differ
from wendascope.trials.proofs.proof import Proof
from wendascope.trials.proofs.prove_all import AllProofs, held_by_wholes, prove_all
from wendascope.trials.proofs.verdicts import Verdict, bound_ms
from wendascope.trials.remedies import Claim, Gains, claim_of, kind_of

_FRAMES_OF_PROVING, _LEAST_SECONDS = 90, 25.0
"""What proving a plan may take: so many times the frame, or this."""


class PlanStep(msgspec.Struct):
    """One recommendation in the plan, ms before and after it."""

    recommendation: str
    title: str
    gpu_before: float
    gpu_after: float
    cpu_before: float
    cpu_after: float
    proved: bool
    """Else it is expected."""
    together: bool = False
    """Whether it was proved as one frame with all other proved ones; else it was proved alone."""


class Plan(msgspec.Struct):
    """Where a frame stands, where it gets to by what was proved, and what is expected beyond that. ms."""

    sentence: str
    rest: str
    """The numbers of the sentence, what is expected, what quality would buy, and what is left."""
    budget_ms: float
    gpu_ms: float
    cpu_ms: float
    gpu_after: float
    """By proofs alone."""
    cpu_after: float
    gpu_expected: float
    """With what was not proved yet, as it is estimated."""
    cpu_expected: float
    steps: list[PlanStep]
    """Proved ones first, the largest gain first."""
    program_ms: float = 0.0
    """What the program's own code takes of its thread in a frame, beside the API."""
    own_ms: float = 0.0
    """Up to so much of that lies between calls that go, by the recording."""

    @property
    def proved(self) -> int:
        return sum(step.proved for step in self.steps)

    @property
    def now_ms(self) -> float:
        return max(self.gpu_ms, self.cpu_ms)

    @property
    def reached(self) -> bool:
        """Whether the frame is within its budget by what was proved (or without any change)."""
        return max(self.gpu_after, self.cpu_after) <= self.budget_ms


# ---- what proofs say of findings -----------------------------------------------------------------------------


def recommendations_of(case: Case, findings: Sequence[Finding], proofs: Mapping[str, Proof]) -> list[Recommendation]:
    """What to change, the largest gain first, with what proofs showed of it."""
    parts = held_by_wholes(findings, findings, proofs)

    def tried(finding: Finding) -> Try | None:
        own, whole = proofs.get(finding.id), parts.get(finding.id)
        if whole is not None and (own is None or proofs[whole].verdict == Verdict.SAVES):
            return _as_part(finding, whole, proofs[whole], case)
        return _tried_in_survey(finding) if own is None else _try_of(finding, own, case)

    return recommend(case, findings, tried, corrections())


def saved_in_frame(saved: Interval | None, before: Interval | None, now_ms: float | None) -> Interval | None:
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
        return saved_in_frame(proof.submission_gain, proof.submit_ms_before, submit_ms)
    return saved_in_frame(proof.saved_ms, proof.frame_ms_before, frame_ms)


def _gains(proof: Proof, case: Case) -> tuple[Gain | None, Gain | None]:
    """Of the GPU and of submission, as far as each is sure."""
    gpu = saved_in_frame(proof.saved_ms, proof.frame_ms_before, case.frame_ms) if not proof.side else None
    cpu = saved_in_frame(proof.submission_gain, proof.submit_ms_before, case.submit_ms)
    found = [None if g is None else Gain(g.median, g.low, g.high, True) for g in (gpu, cpu)]
    return found[0], found[1]


_STATES: dict[str, State] = {
    Verdict.SAVES: State.PROVED,
    Verdict.COSTS: State.COSTS,
    Verdict.NO_DIFFERENCE: State.SMALL,
    Verdict.NOISE: State.UNCLEAR,
    Verdict.CHANGES: State.CHANGES,
    Verdict.LEAVES: State.CHANGES,
    Verdict.REFUSED: State.REFUSED,
}


def _tried_in_survey(finding: Finding) -> Try | None:
    """What the survey's own try of the picture says of a change that is for memory: there is no time to prove."""
    if finding.remedy is None or finding.tried is None or kind_of(finding.remedy).gains is not Gains.MEMORY:
        return None
    pixels, largest = finding.tried.pixels_different, finding.tried.max_difference
    if not pixels:
        return Try(finding.id, finding.title, State.PROVED, "tried in replay: the picture stays the same")
    words = f"tried in replay: {differ(pixels, largest)}"
    return Try(finding.id, finding.title, State.CHANGES, words, pixels=pixels, largest=largest)


_SAME_PICTURE = (State.SMALL, State.UNCLEAR, State.COSTS)


def _try_of(finding: Finding, proof: Proof, case: Case) -> Try:
    state = _STATES[proof.verdict]
    remedy = finding.remedy
    if remedy is not None and proof.trade_ms is not None and claim_of(remedy) in (Claim.NEARLY, Claim.TRADE):
        state = State.TRADE
    elif remedy is not None and kind_of(remedy).gains is Gains.MEMORY and state in _SAME_PICTURE:
        state = State.PROVED  # what it is for is memory, which is counted; the picture stays
    saves = proof.verdict == Verdict.SAVES or state is State.TRADE
    gpu, cpu = _gains(proof, case) if saves else (None, None)
    words = _words(proof, case)
    if state is State.PROVED and proof.verdict != Verdict.SAVES:
        words = f"the picture stays the same; time: {words}"
    return Try(
        finding.id, finding.title, state, words, gpu, cpu, proof.pixels_different, proof.visible,
        proof.max_difference,
    )  # fmt: skip


def _words(proof: Proof, case: Case) -> str:
    """The verdict with its numbers, in ms of the frame as it was surveyed."""
    if proof.verdict == Verdict.REFUSED:
        return f"{Verdict.REFUSED}: {proof.reason}" if proof.reason else Verdict.REFUSED
    saved = in_frame(proof, case.frame_ms or 0.0, case.submit_ms or 0.0)
    words = proof.verdict
    if saved is not None:
        span = f"{three_digits(saved.low)} to {three_digits(saved.high)} ms"
        if proof.verdict == Verdict.NO_DIFFERENCE:
            words += f" (less than {three_digits(bound_ms(saved))} ms)"
        elif proof.verdict == Verdict.NOISE:
            words += f" ({span})"
        elif proof.verdict in (Verdict.SAVES, Verdict.COSTS) or saved.low > 0 or saved.high < 0:
            verb_ = (
                ""
                if proof.verdict in (Verdict.SAVES, Verdict.COSTS)
                else f", {Verdict.SAVES if saved.low > 0 else Verdict.COSTS}"
            )
            words += f"{verb_} {three_digits(abs(saved.median))} ms{f' of {proof.side}' if proof.side else ''}"
    return f"{words}: {proof.picture}" if proof.verdict in (Verdict.CHANGES, Verdict.LEAVES) else words


def _as_part(finding: Finding, whole: str, proof: Proof, case: Case) -> Try:
    """What the proof of a whole says of a finding that is a part of it: its own gain is not known apart."""
    found = _try_of(finding, proof, case)
    found.words, found.part_of = f"with all other batches: {found.words}", whole
    found.gpu = found.cpu = None
    return found


# ---- what is best --------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Best:
    """The best that was proved of some findings."""

    findings: list[str]
    proof: Proof | None
    """Of them together; None where each was proved alone."""


def best_proved(findings: Sequence[Finding], proofs: Mapping[str, Proof]) -> _Best:
    """The set of findings whose proofs, together or one by one, save most: one frame that holds several is what it was
    measured to be, several frames are the best set of them that do not exclude each other.
    """
    ids = {f.id for f in findings}
    saving = [f for f in findings if f.remedy is not None and f.id in proofs and proofs[f.id].verdict == Verdict.SAVES]
    parts = held_by_wholes(saving, saving, proofs)  # a plan of draws is more than its parts
    alone = [f for f in saving if f.id not in parts]
    several = [
        p
        for p in proofs.values()
        if p.verdict == Verdict.SAVES and len(p.together) > 1 and set(p.together) <= ids - parts.keys()
    ]
    chosen = best_set(alone, lambda f: proofs[f.id].both_ms)
    together = max(several, key=lambda p: p.both_ms, default=None)
    one = proofs[chosen[0].id].both_ms if chosen else 0.0
    # what each saves alone says nothing of all together once that was tried
    if together is not None and together.both_ms >= one:
        return _Best(list(together.together), together)
    if several or _tried_together(chosen, proofs):
        return _Best([f.id for f in chosen[:1]], None)
    return _Best([f.id for f in chosen], None)


def _tried_together(chosen: Sequence[Finding], proofs: Mapping[str, Proof]) -> bool:
    mine = {f.id for f in chosen}
    return len(mine) > 1 and any(mine <= set(p.together) for p in proofs.values())


# ---- the plan ------------------------------------------------------------------------------------------------


def make_plan(
    case: Case, now_ms: tuple[float, float], chosen: Sequence[Recommendation], findings: Sequence[Finding],
    proofs: Mapping[str, Proof], budget_ms: float, program_ms: float = 0.0,
) -> Plan:  # fmt: skip
    """The waterfall of some recommendations: what proofs of them reach, then what is expected of the rest. `now_ms` are
    the frame's time and that of its submission; `program_ms` is what the program itself takes of its thread outside
    the API.
    """
    gpu, cpu = now_ms
    program_ms = min(program_ms, case.thread_ms)  # outside the API it may sleep as well
    wanted = {identity for item in chosen for identity in item.findings}
    best = best_proved([f for f in findings if f.id in wanted], proofs)
    ledger = Ledger(case, gpu, cpu)
    steps: list[PlanStep] = []

    def step(item: Recommendation, on: tuple[float, float], proved: bool) -> None:
        before = ledger.gpu.left_ms, ledger.cpu.left_ms
        ledger.gpu.take(item.steps, on[0])
        ledger.cpu.take(item.steps, on[1])
        after = ledger.gpu.left_ms, ledger.cpu.left_ms
        if before == after and not proved:
            return
        row = PlanStep(item.id, item.title, before[0], after[0], before[1], after[1], proved)
        row.together = proved and best.proof is not None
        steps.append(row)

    shares = _shares(case, chosen, best, proofs, (gpu, cpu))
    for item in sorted((i for i in chosen if i.id in shares), key=lambda i: -max(shares[i.id])):
        step(item, shares[item.id], True)
    if best.proof is not None:  # as it was measured, whatever single steps hold
        ledger.gpu.left_ms = gpu - sum(on for on, _ in shares.values())
        ledger.cpu.left_ms = cpu - sum(on for _, on in shares.values())
        _close(steps, ledger.gpu.left_ms, ledger.cpu.left_ms)
    after = ledger.gpu.left_ms, ledger.cpu.left_ms
    for item in chosen:
        expected = _expected(item, item.id in shares)
        if item.section is Section.TIME and max(expected) > 0:
            step(item, expected, False)
    # draws first: what is spent between their calls holds what is spent on setting state for them
    proved = sorted((item for item in chosen if item.id in shares), key=lambda item: not item.steps)
    own = sum(ledger.own.take(item.steps, item.own_ms) for item in proved)
    made = Plan(
        "", "", budget_ms, gpu, cpu, *after, ledger.gpu.left_ms, ledger.cpu.left_ms, steps, program_ms,
        min(own, program_ms) if program_ms else own,
    )  # fmt: skip
    made.sentence, made.rest = _sentence(made), _rest(case, made, chosen, ledger)
    return made


def _close(steps: list[PlanStep], gpu: float, cpu: float) -> None:
    """Let the last proved step end where all of them were measured to end."""
    if steps:
        steps[-1].gpu_after, steps[-1].cpu_after = min(gpu, steps[-1].gpu_before), min(cpu, steps[-1].cpu_before)


def _shares(
    case: Case, chosen: Sequence[Recommendation], best: _Best, proofs: Mapping[str, Proof], now: tuple[float, float]
) -> dict[str, tuple[float, float]]:
    """Recommendation -> what it saves (GPU, submission) among all that is proved, ms: where that was measured together,
    by what each saved alone.
    """
    alone: dict[str, tuple[float, float]] = {}
    for item in chosen:
        mine = [proofs[i] for i in item.findings if i in best.findings and i in proofs]
        if mine:
            gains = [_gains(proof, case) for proof in mine]
            alone[item.id] = (
                sum(max(g.ms, 0.0) for g, _ in gains if g),
                sum(max(c.ms, 0.0) for _, c in gains if c),
            )
    if best.proof is None:
        return alone
    gpu, cpu = _gains(best.proof, case)
    whole = min(gpu.ms, now[0]) if gpu else 0.0, min(cpu.ms, now[1]) if cpu else 0.0
    sums = [sum(pair[side] for pair in alone.values()) for side in (0, 1)]
    count = max(len(alone), 1)
    return {
        key: (
            whole[0] * (pair[0] / sums[0] if sums[0] > 0 else 1 / count),
            whole[1] * (pair[1] / sums[1] if sums[1] > 0 else 1 / count),
        )
        for key, pair in alone.items()
    }


def _expected(item: Recommendation, proved: bool) -> tuple[float, float]:
    """What is expected of it beyond what is proved: nothing of what was tried and came to nothing."""
    if proved or item.state is State.PROVED:
        return item.open_gpu, item.open_cpu
    if item.state is not State.UNTRIED:
        return 0.0, 0.0
    return item.gpu.ms if item.gpu else 0.0, item.cpu.ms if item.cpu else 0.0


# ---- proving -------------------------------------------------------------------------------------------------


def most_saved(case: Case, finding: Finding) -> float:
    """What a finding could bring at the very most, ms: all that its steps take, on either side."""
    frame_ms = whole_frame_ms(case)
    if not finding.steps:
        return max(case.submit_ms or 0.0, finding.facts.own_ms, finding.estimate_ms or 0.0)
    gpu = case.time_of(finding.steps)
    submit = case.step_submit_ms
    cpu = float(submit[np.unique(finding.steps)].sum()) if submit is not None else 0.0
    return max(gpu if gpu is not None else frame_ms, cpu, finding.facts.own_ms)


def _of_memory(finding: Finding) -> bool:
    """Whether it is for memory: then no time is expected of it, and what brings time is tried first."""
    gains = finding.remedy is not None and kind_of(finding.remedy).gains is Gains.MEMORY
    return gains or finding.kept_rule.side is Side.MEMORY


def worth_trying(case: Case, findings: Sequence[Finding]) -> list[Finding]:
    """What could matter by its upper bound: more than a hundredth of the frame, or of its memory. A small estimate
    keeps nothing from being tried.
    """
    frame_ms = max(whole_frame_ms(case), case.submit_ms or 0.0)
    memory = sum(item.size for item in case.frame.memory)
    chosen = []
    for finding in findings:
        if finding.remedy is None or kind_of(finding.remedy).stands_for:
            continue
        if _of_memory(finding):
            known = finding.tried is not None and kind_of(finding.remedy).gains is Gains.MEMORY
            if finding.less_bytes > SMALL_SHARE * memory and not known:
                chosen.append(finding)
        elif most_saved(case, finding) > SMALL_SHARE * frame_ms:
            chosen.append(finding)
    return chosen


def prove_plan(
    path: Path, case: Case, findings: Sequence[Finding], replay: Replay, seconds: float | None = None,
    task: Task = QUIET,
    proved: Callable[[Proof], None] = lambda _proof: None, budget: float | None = None,
    chosen: Collection[str] | None = None,
) -> AllProofs:  # fmt: skip
    """Try whatever could matter, best value for time first, then the best set of it as one frame; all is kept in the
    file as it is made. `chosen` names the findings that may be tried, where not all. Raises ReplayError,
    CancelledError.
    """
    frame_ms = whole_frame_ms(case)
    budget = max(_LEAST_SECONDS, _FRAMES_OF_PROVING * frame_ms / 1000) if budget is None else budget
    wanted = [f for f in worth_trying(case, findings) if chosen is None or f.id in chosen or f.kept_rule.whole]
    return prove_all(
        path, case.frame, wanted, replay, seconds, task, budget=budget, proved=proved,
        most=lambda finding: 0.0 if _of_memory(finding) else most_saved(case, finding), parts_too=False,
    )  # fmt: skip


# ---- in words ------------------------------------------------------------------------------------------------


def _sentence(plan: Plan) -> str:
    """What is reached, by proofs alone."""
    now, then = plan.now_ms, max(plan.gpu_after, plan.cpu_after)
    within = now <= plan.budget_ms
    if not plan.proved:
        open_ = "nothing is proved yet" if plan.steps else "nothing that saves time was found"
        return f"{now:.1f} ms, {'within' if within else 'over'} the budget; {open_}."
    changes = "one proved change" if plan.proved == 1 else "proved changes"
    goal = "it was within its budget" if within else f"the budget is {'' if plan.reached else 'not '}reached"
    return f"{three_digits(now - then)} ms saved by {changes}; {goal}."


def _numbers(plan: Plan) -> str:
    """What the sentence stands on."""
    if not plan.proved:
        return f"The budget is {plan.budget_ms:.1f} ms."
    together = "together" if plan.steps[0].together else "one by one"
    how = f"{plural(plan.proved, 'change')} proved" + (f" {together}" if plan.proved > 1 else "")
    then = max(plan.gpu_after, plan.cpu_after)
    return f"{plan.now_ms:.1f} -> {then:.1f} ms with {how}; the budget is {plan.budget_ms:.1f} ms."


def _rest(case: Case, plan: Plan, chosen: Sequence[Recommendation], ledger: Ledger) -> str:
    """The numbers; what is expected beyond the proofs, what quality would buy, and what is left."""
    texts = [_numbers(plan)]
    then, expected = max(plan.gpu_after, plan.cpu_after), max(plan.gpu_expected, plan.cpu_expected)
    if then - expected >= SMALL_SHARE * plan.now_ms:
        count = plural(sum(not s.proved for s in plan.steps), "change")
        texts.append(
            f"{count} not tried yet {'is' if count.startswith('1 ') else 'are'} expected to reach {expected:.1f} ms."
        )
    trades = [
        (min(item.gain, ledger.gpu.left_of(item.steps)), item) for item in chosen if item.section is Section.QUALITY
    ]
    told = [
        f"{three_digits(ms)} ms for {item.visible:,} visible pixel{'' if item.visible == 1 else 's'}"
        for ms, item in trades[:3]
        if ms >= SMALL_SHARE * plan.now_ms
    ]
    if told:
        texts.append(f"Quality for time, up to: {listed(told)}.")
    if plan.program_ms > max(plan.budget_ms, plan.gpu_after):
        own = (
            f", of which up to {plan.own_ms:.1f} ms lie between calls that go, by the recording"
            if plan.own_ms >= SMALL_SHARE * plan.program_ms
            else ""
        )
        texts.append(f"The program's own code takes {plan.program_ms:.1f} ms of its thread{own}.")
    elif plan.own_ms >= SMALL_SHARE * plan.now_ms:
        texts.append(
            f"Up to {plan.own_ms:.1f} ms of the program's own time between those calls go as well, by the recording."
        )
    if not plan.reached:
        left = _left_of_passes(case, chosen, plan)
        largest = sorted(range(len(left)), key=lambda index: -left[index])[:3]
        parts = [f"{case.names[index]} ({left[index]:.1f} ms)" for index in largest if left[index] > 0]
        texts += [f"What is left is mostly {listed(parts)}."] if parts else []
    return " ".join(texts)


def _left_of_passes(case: Case, chosen: Sequence[Recommendation], plan: Plan) -> list[float]:
    """Time of each pass once what is proved is done, by the shares of passes in its steps."""
    left = case.passes_in_frame
    of_step, step_ms = np.asarray(case.frame.passes.of_step), case.step_ms
    saved = {row.recommendation: row.gpu_before - row.gpu_after for row in plan.steps if row.proved}
    for item in chosen:
        if item.id not in saved or not item.steps or step_ms is None:
            continue
        steps = np.array(item.steps)
        times = step_ms[steps]
        whole = float(times.sum())
        for index in item.passes:
            share = float(times[of_step[steps] == index].sum()) / whole if whole > 0 else 0.0
            left[index] = max(left[index] - saved[item.id] * share, 0.0)
    return left

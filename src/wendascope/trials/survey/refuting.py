"""Cheap tries before a finding is shown: what replay refutes is not claimed. Pictures and contents only, no times;
budgeted.
"""

from __future__ import annotations

import time

import msgspec

from wendascope.backends.doors import Session
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.replay.jobs import remote
from wendascope.task import Task
from wendascope.trials.proofs.outcomes import Outcome, differ, judge_remedies, outcomes
from wendascope.trials.proofs.proof import in_order
from wendascope.trials.remedies import Claim, Clash, Trying, change_of, kind_of

_MAKING_SECONDS = 2.0
"""Spent on finding out which remedies cannot be made."""
_FEW_PIXELS = 0.001
"""Of a picture: differences beyond `FAR` in more of it are not a detail."""
HOLDS, DISPROVED, UNTRIED = "holds", "disproved", "not tried"
CANNOT_TRY = "cannot be tried"


class Tried(msgspec.Struct):
    """What a cheap try came to."""

    state: str
    reason: str = ""
    remedy: Remedy | None = None
    """The part of the remedy that holds, where the whole of it does not."""
    outcome: Outcome | None = None


@remote
def refute(session: Session, job: Task, remedies: list[Remedy], seconds: float) -> list[Tried]:
    """Try remedies whose kinds are tried before they are claimed, as far as some seconds reach; a `Tried` for each.
    Raises ReplayError, CancelledError.
    """
    return _Refuting(session, job, remedies, time.monotonic() + seconds).run()


class _Refuting:
    def __init__(self, session: Session, job: Task, remedies: list[Remedy], until: float) -> None:
        self._session, self._job, self._remedies, self._until = session, job, remedies, until
        self._found = [Tried(UNTRIED) for _ in remedies]

    def run(self) -> list[Tried]:
        self._job.progress("trying what was found", 0.0)
        self._make()
        if outcomes(self._session).ground.trouble:
            return self._found  # nothing can be shown on this frame
        kinds = [kind_of(remedy) for remedy in self._remedies]
        same = [kind.claim_of(r) is Claim.SAME for kind, r in zip(kinds, self._remedies, strict=True)]
        for group in (Trying.TOGETHER, Trying.SHADERS, Trying.DRAWS):
            self._together([n for n, kind in enumerate(kinds) if kind.trying is group and same[n]])
        for number, kind in enumerate(kinds):
            if kind.trying is Trying.BY_ITSELF and same[number]:
                self._together([number])
            elif kind.trying is not Trying.NEVER and not same[number] and not self._late:
                self._near(number, self._remedies[number])
        return self._found

    def _make(self) -> None:
        """Say of remedies that are not tried, and cannot be made here, why, before anybody asks for a proof."""
        until = time.monotonic() + _MAKING_SECONDS
        for number, remedy in enumerate(self._remedies):
            if kind_of(remedy).trying is Trying.NEVER and time.monotonic() < until:
                try:
                    change_of(self._session.frame, [remedy]).edit()
                except TrialError as error:
                    self._found[number] = Tried(CANNOT_TRY, str(error))

    @property
    def _late(self) -> bool:
        return time.monotonic() > self._until

    def _judge(self, remedies: list[Remedy]) -> Outcome:
        self._job.progress("trying what was found", 0.5)
        return judge_remedies(self._session, remedies)

    def _together(self, numbers: list[int]) -> None:
        """All at once where they can be; halves where that is refuted or cannot be made."""
        if not numbers or self._late:
            return
        try:
            outcome = self._judge([self._remedies[n] for n in numbers])
        except TrialError as error:
            if len(numbers) == 1:
                self._found[numbers[0]] = Tried(CANNOT_TRY, str(error))
                return
            outcome = None
        if outcomes(self._session).ground.trouble:
            return  # what differs may be the noise of this frame
        if outcome is not None and outcome.same:
            for number in numbers:
                self._found[number] = Tried(HOLDS, outcome=outcome)
        elif len(numbers) == 1 and outcome is not None:
            self._alone(numbers[0], outcome)
        else:
            middle = len(numbers) // 2
            self._together(numbers[:middle])
            self._together(numbers[middle:])

    def _alone(self, number: int, outcome: Outcome) -> None:
        remedy = self._remedies[number]
        reason = told(outcome)
        kind = kind_of(remedy)
        changed = outcome.pixels_different or outcome.later_pixels
        if kind.leaves_out and len(remedy.steps) > 1 and changed:
            holding = self._holding(remedy.kind, remedy.steps)
            if holding and self._judge([Remedy(remedy.kind, holding)]).same:
                self._found[number] = Tried(HOLDS, reason, Remedy(remedy.kind, holding))
                return
        if kind.clash in (Clash.DRAWS, Clash.ORDER) or remedy.parts:
            careful = in_order(remedy)
            if careful is not None and careful.parts and self._judge([careful]).same:
                self._found[number] = Tried(HOLDS, reason, careful)
                return
            if not self._far(outcome):
                self._found[number] = Tried(HOLDS, reason, outcome=outcome)
                return
        self._found[number] = Tried(DISPROVED, reason, outcome=outcome)

    def _holding(self, kind: str, steps: list[int]) -> list[int]:
        """Of some steps that cannot all be left out, those that can be."""
        middle = len(steps) // 2
        found = []
        for half in (steps[:middle], steps[middle:]):
            if not half or self._late:
                continue
            if self._judge([Remedy(kind, half)]).same:
                found += half
            elif len(half) > 1:
                found += self._holding(kind, half)
        return found

    def _near(self, number: int, remedy: Remedy) -> None:
        try:
            outcome = self._judge([remedy])
        except TrialError as error:
            self._found[number] = Tried(CANNOT_TRY, str(error))
            return
        kind = kind_of(remedy)
        far = kind.claim_of(remedy) is Claim.NEARLY and (
            self._far(outcome) or (kind.nowhere_far and outcome.pixels_far > 0)
        )
        self._found[number] = Tried(DISPROVED if far else HOLDS, told(outcome), outcome=outcome)

    def _far(self, outcome: Outcome) -> bool:
        """Whether a picture that may change a little changes too much."""
        reference = self._session.frame.reference
        pixels = reference.width * reference.height if reference else 1
        return bool(outcome.left_behind or outcome.later_pixels) or outcome.pixels_far > _FEW_PIXELS * pixels


def told(outcome: Outcome) -> str:
    """What differs, in words."""
    if outcome.pixels_different:
        return differ(outcome.pixels_different, outcome.max_difference)
    if outcome.later_pixels:
        return f"{differ(outcome.later_pixels, 0)} in the frame after"
    if outcome.left_behind:
        return f"left behind otherwise: {', '.join(outcome.left_behind[:4])}"
    return ""

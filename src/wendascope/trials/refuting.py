"""Cheap tries before a finding is shown: what replay refutes is not claimed. Pictures and contents only, no times;
budgeted.
"""

from __future__ import annotations

import time
from collections.abc import Sequence

import msgspec

from wendascope.analysis.findings import Finding
from wendascope.analysis.remedy import Remedy
from wendascope.errors import TrialError
from wendascope.frame.frame import Frame
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job
from wendascope.replay.session import ReplaySession
from wendascope.trials.outcomes import Outcome, differ, judge_remedies, outcomes
from wendascope.trials.proof import in_order
from wendascope.trials.remedies import change_of

SAME_PICTURE = {
    "drop-steps",
    "drop-colour-clear",
    "drop-repeats",
    "drop-needless",
    "drop-calls",
    "clean-mesh",
    "without-element",
    "light-off",
    "one-texture",
    "fewer-channels",
    "single-texel",
    "short-indices",
}
"""Kinds of remedy whose claim is that nothing changes, and that are quickly tried: all of them together first."""
BATCHES = {"batch", "join-immediate"}
"""Kinds whose claim is the same, and that take longer to make: tried after the others."""
ORDERS = {"reorder-steps"}
"""Kinds whose claim is the same but for fragments of equal depth: tried one by one, as two seldom go together."""
KEPT = {"keep-result", "keep-part"}
"""Kinds whose claim is that nothing changes, and of which no part is worth anything: tried one by one as well."""
NEAR_PICTURE = {
    "half-size",
    "simple-powers",
    "drop-levels",
    "narrower-target",
    "round-vertices",
    "compress-textures",
    "opaque-blocks",
    "near-texture",
    "two-part-directions",
    "one-sample",
}
"""Kinds of remedy that may change the picture a little, and are tried to see that it is not more."""
SHOWN = {"smaller-textures", "mip-levels"}
"""Kinds that are meant to change the picture, and are tried to tell by how much."""
NOWHERE_FAR = {"one-sample"}
"""Of those, kinds for which a single pixel beyond `FAR` is too much: the edges of a small shape are few pixels."""
PICTURE_ONLY = {
    "one-sample": "multisampling was switched off, and the picture compared: its samples stay in memory here",
    "round-vertices": "narrower attributes are not made here: their values were rounded, and the picture compared",
}
"""Kinds that stand for a change which they do not make: they tell what it does to the picture, and nothing of time."""
_FEW_PIXELS = 0.001
"""Of a picture: differences beyond `FAR` in more of it are not a detail."""
HOLDS, REFUTED, UNTRIED = "holds", "refuted", "not tried"


class Tried(msgspec.Struct):
    """What a cheap try came to."""

    state: str
    reason: str = ""
    remedy: Remedy | None = None
    """The part of the remedy that holds, where the whole of it does not."""
    outcome: Outcome | None = None


def refused_before(frame: Frame, findings: Sequence[Finding], seconds: float) -> None:
    """Say of remedies that cannot be made on this frame why, before anybody asks for a proof. No replay is needed."""
    until = time.monotonic() + seconds
    for item in findings:
        if item.remedy is None or time.monotonic() > until:
            continue
        try:
            change_of(frame, [item.remedy]).edit()
        except TrialError as error:
            item.remedy, item.refused = None, str(error)


@remote
def refute(session: ReplaySession, job: Job, remedies: list[Remedy], seconds: float) -> list[Tried]:
    """Try remedies of the kinds above, as far as some seconds reach; a `Tried` for each. Raises ReplayError,
    CancelledError.
    """
    return _Refuting(session, job, remedies, time.monotonic() + seconds).run()


class _Refuting:
    def __init__(self, session: ReplaySession, job: Job, remedies: list[Remedy], until: float) -> None:
        self._session, self._job, self._remedies, self._until = session, job, remedies, until
        self._found = [Tried(UNTRIED) for _ in remedies]

    def run(self) -> list[Tried]:
        self._job.progress("trying what was found", 0.0)
        if outcomes(self._session).ground.trouble:
            return self._found  # nothing can be shown on this frame
        self._together([n for n, r in enumerate(self._remedies) if r.kind in SAME_PICTURE])
        self._together([n for n, r in enumerate(self._remedies) if r.kind in BATCHES])
        for number, remedy in enumerate(self._remedies):
            if remedy.kind in ORDERS | KEPT:
                self._together([number])
            if remedy.kind in NEAR_PICTURE | SHOWN and not self._late:
                self._near(number, remedy)
        return self._found

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
                self._found[numbers[0]] = Tried(REFUTED, f"cannot be tried: {error}")
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
        if remedy.kind == "drop-steps" and len(remedy.steps) > 1 and (outcome.pixels_different or outcome.later_pixels):
            holding = self._holding(remedy.steps)
            if holding and self._judge([Remedy(remedy.kind, holding)]).same:
                self._found[number] = Tried(HOLDS, reason, Remedy(remedy.kind, holding))
                return
        if remedy.kind in BATCHES | ORDERS:
            careful = in_order(remedy)
            if careful is not None and careful.parts and self._judge([careful]).same:
                self._found[number] = Tried(HOLDS, reason, careful)
                return
            if not self._far(outcome):
                self._found[number] = Tried(HOLDS, reason, outcome=outcome)
                return
        self._found[number] = Tried(REFUTED, reason, outcome=outcome)

    def _holding(self, steps: list[int]) -> list[int]:
        """Of some steps that cannot all be left out, those that can be."""
        middle = len(steps) // 2
        found = []
        for half in (steps[:middle], steps[middle:]):
            if not half or self._late:
                continue
            if self._judge([Remedy("drop-steps", half)]).same:
                found += half
            elif len(half) > 1:
                found += self._holding(half)
        return found

    def _near(self, number: int, remedy: Remedy) -> None:
        try:
            outcome = self._judge([remedy])
        except TrialError as error:
            self._found[number] = Tried(REFUTED, f"cannot be tried: {error}")
            return
        far = remedy.kind in NEAR_PICTURE and (
            self._far(outcome) or (remedy.kind in NOWHERE_FAR and outcome.pixels_far > 0)
        )
        self._found[number] = Tried(REFUTED if far else HOLDS, told(outcome), outcome=outcome)

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

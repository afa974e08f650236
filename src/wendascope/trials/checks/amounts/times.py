"""Times: they are measured in turns until they are decided, not read once (see `trials/checks/timing.py`)."""

from __future__ import annotations

from wendascope.trials.checks.amounts._registry import How, Known, amount
from wendascope.trials.checks.scopes import Scope

WORK, SUBMISSION = "work ms", "submission ms"


@amount(WORK, How.MEASURED, unit="ms")
def work(_known: Known, _scope: Scope) -> float | None:
    """Until the work of the frame, or of its passes, is done."""
    return None


@amount(SUBMISSION, How.MEASURED, unit="ms", whole_only=True)
def submission(_known: Known, _scope: Scope) -> float | None:
    """CPU time of submitting the calls."""
    return None

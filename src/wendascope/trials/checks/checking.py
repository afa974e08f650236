"""Checks frames against a budget: counts exactly, times by measuring until it is decided."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path

import msgspec

from wendascope.errors import CancelledError, FileError, UsageError, WendascopeError
from wendascope.frame.file import load
from wendascope.measure.deciding import Decision
from wendascope.measure.pictures import verify
from wendascope.measure.statistics import Interval
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.texts import memory, three_digits
from wendascope.trials.checks.amounts import Amount, How, Known, amount_named
from wendascope.trials.checks.amounts.shaders import most_expensive
from wendascope.trials.checks.amounts.times import SUBMISSION
from wendascope.trials.checks.budget import Allowance, Budget, Limit, allowance
from wendascope.trials.checks.scopes import Scope, of_pass, scopes_of
from wendascope.trials.checks.timing import Asked, Told, check_times
from wendascope.trials.proofs.compare import match_passes


class State(StrEnum):
    """What came of one check."""

    WITHIN = "within"
    OVER = "over"
    UNSURE = "cannot be told"


class ShaderPlace(msgspec.Struct):
    """Where in a shader of the frame something lies."""

    name: str
    """Of the file that its source may be kept in: `program-7.frag`."""
    source: str
    line: int
    """From 1; 0 for all of it."""


class Check(msgspec.Struct):
    """One limit of one part of a frame. Amounts are plain numbers, bytes, or milliseconds, as `unit` says."""

    what: str
    where: str
    how: str
    unit: str
    state: State
    counts_as: str
    """What it means for the whole: `pass`, `warn` or `fail`."""
    limit: str
    """As the budget says it."""
    value: float | None = None
    allowed: float | None = None
    base: float | None = None
    """Of the baseline."""
    beyond: Interval | None = None
    """Of times: what it takes beyond the limit, ms."""
    why: str = ""
    """What is missing, where it cannot be told."""
    note: str = ""
    """From the budget."""
    place: ShaderPlace | None = None

    def text(self, value: float | None) -> str:
        """An amount as it is told."""
        if value is None:
            return "-"
        if self.unit == "bytes":
            return memory(round(value))
        number = f"{value:,.0f}" if value == round(value) and self.unit != "ms" else three_digits(value)
        return f"{number} {self.unit}".strip()

    @property
    def sentence(self) -> str:
        """`draws of the frame: 1,064, more than the 1,000 allowed`."""
        subject = f"{self.what} ({self.where})"
        if self.state is State.UNSURE:
            return f"{subject}: cannot be told: {self.why}"
        word = "more than" if self.state is State.OVER else "within"
        text = f"{subject}: {self.text(self.value)}, {word} {self.text(self.allowed)}"
        if self.base is not None:
            text += f" ({self.limit} of the baseline's {self.text(self.base)})"
        return text + (f". {self.note}" if self.note and self.state is State.OVER else "")


class FrameCheck(msgspec.Struct):
    """All checks of one frame."""

    file: str
    checks: list[Check]
    warnings: list[str] = []

    def counted(self, counts_as: str) -> list[Check]:
        """Those that count as `pass`, `warn` or `fail`."""
        return [item for item in self.checks if item.counts_as == counts_as]


class Checked(msgspec.Struct):
    """What came of a budget."""

    budget: str
    baseline: str
    frames: list[FrameCheck]

    @property
    def passed(self) -> bool:
        """Whether no check counts as failed."""
        return not any(frame.counted("fail") for frame in self.frames)

    @property
    def sentence(self) -> str:
        """The whole in one line."""
        checks = [item for frame in self.frames for item in frame.checks]
        over = sum(item.state is State.OVER for item in checks)
        unsure = sum(item.state is State.UNSURE for item in checks)
        parts = [f"{len(checks) - over - unsure} of {len(checks)} limits are kept"]
        parts += [f"{over} {'is' if over == 1 else 'are'} exceeded"] if over else []
        parts += [f"{unsure} cannot be told"] if unsure else []
        return ", ".join(parts)


def check_files(
    files: Sequence[Path], budget: Budget, budget_path: Path, baseline: Path | None = None, task: Task = QUIET
) -> Checked:
    """Check frames one after another. `baseline` takes the place of the one that the budget names. Raises FileError,
    UsageError, ReplayError, CancelledError.
    """
    for limit in budget.limit:
        amount_named(limit.what)
    base = baseline or (budget_path.parent / budget.baseline if budget.baseline else None)
    relative = [limit.what for limit in budget.limit if allowance(limit.at_most).relative]
    if relative and base is None:
        raise UsageError(
            f"the limit of {relative[0]} is on top of a baseline: name one in {budget_path} or give --baseline"
        )
    found = []
    with contextlib.ExitStack() as stack:
        known = Known(load(base), stack.enter_context(Replay(base)), task.quietly()) if base else None
        for number, path in enumerate(files, 1):
            part = task.one_of("frame", number, len(files)) if len(files) > 1 else task
            found.append(_check_frame(path, budget, known, part))
    return Checked(str(budget_path), str(base) if base else "", found)


def _check_frame(path: Path, budget: Budget, base: Known | None, task: Task) -> FrameCheck:
    frame = load(path)
    with Replay(path) as replay:
        known = Known(frame, replay, task)
        pairs = match_passes(base.frame.passes.names, frame.passes.names) if base else []
        counterparts = {after: before for before, after in pairs if before is not None and after is not None}
        found, timed = list[Check](), list[tuple[Check, Asked]]()
        for limit in budget.limit:
            for check, asked in _checks_of(known, limit, budget, base, counterparts):
                found.append(check)
                if asked is not None:
                    timed.append((check, asked))
        warnings = _verify(replay, task) if timed or any(c.how != How.COUNTED for c in found) else []
        if timed:
            told = check_times(
                [asked for _, asked in timed], replay, base.replay if base else None, budget.seconds, task
            )
            for (check, asked), item in zip(timed, told, strict=True):
                _take(check, asked, item)
    return FrameCheck(str(path), found, warnings)


def _verify(replay: Replay, task: Task) -> list[str]:
    found = replay.run(verify.asked(), task)
    return [] if found.identical else [f"{found.sentence}: what replay counts and measures is of another picture"]


_Checks = list[tuple[Check, Asked | None]]


def _checks_of(known: Known, limit: Limit, budget: Budget, base: Known | None, counterparts: dict[int, int]) -> _Checks:
    item, allowed = amount_named(limit.what), allowance(limit.at_most)
    _fits(item, limit, allowed)
    unsure = (limit.unsure or budget.unsure).value
    scopes = scopes_of(known.frame, limit)
    if not scopes:
        where = next(f"{kind} {name}" for kind, name in _named(limit) if name)
        why = f"the frame has nothing that fits {where}"
        return [
            (Check(limit.what, where, item.how, item.unit, State.UNSURE, unsure, str(limit.at_most), why=why), None)
        ]
    return [_check(known, item, scope, limit, allowed, unsure, base, counterparts) for scope in scopes]


def _named(limit: Limit) -> list[tuple[str, str]]:
    return [("pass", limit.pass_), ("role", limit.role), ("label", limit.label)]


def _fits(item: Amount, limit: Limit, allowed: Allowance) -> None:
    """Raises UsageError for a limit that makes no sense."""
    of_part = any(name for _, name in _named(limit))
    if of_part and item.whole_only:
        raise UsageError(f"{item.name} is known of whole frames only: leave out pass, role and label")
    if item.how == How.MEASURED and limit.label:
        raise UsageError(f"{item.name} is measured of frames and passes, not of the label {limit.label}")
    if (allowed.of_bytes and item.unit != "bytes") or (allowed.in_ms and item.unit != "ms"):
        raise UsageError(f"{limit.at_most} is no limit of {item.name}, which is told in {item.unit or 'plain numbers'}")


def _check(
    known: Known, item: Amount, scope: Scope, limit: Limit, allowed: Allowance, unsure: str, base: Known | None,
    counterparts: dict[int, int],
) -> tuple[Check, Asked | None]:  # fmt: skip
    """One check; of a time with what is still to be measured for it."""
    made = Check(item.name, scope.name, item.how, item.unit, State.UNSURE, unsure, str(limit.at_most), note=limit.note)
    base_scope = _counterpart(scope, base, limit, counterparts) if allowed.relative and base else None
    if allowed.relative and base_scope is None:
        made.why = "the baseline has no such part"
        return made, None
    if item.how == How.MEASURED:
        passes = () if scope.whole else tuple(scope.passes.tolist())
        others = () if scope.whole or base_scope is None else tuple(base_scope.passes.tolist())
        return made, Asked(passes, others, item.name == SUBMISSION, allowed)
    try:
        made.value = item.of(known, scope)
        if base_scope is not None and base is not None:
            made.base = item.of(base, base_scope)
    except (CancelledError, FileError):
        raise
    except WendascopeError as error:
        made.why = str(error)
        return made, None
    if made.value is None or (allowed.relative and made.base is None):
        made.why = "not all of it can be counted on this frame"
        return made, None
    made.allowed = allowed.beyond(made.base or 0.0)
    made.state = State.WITHIN if made.value <= made.allowed else State.OVER
    made.counts_as = "pass" if made.state is State.WITHIN else "fail"
    if item.name == "shader cost":
        made.place = _place(known, scope)
    return made, None


def _counterpart(scope: Scope, base: Known | None, limit: Limit, counterparts: dict[int, int]) -> Scope | None:
    """The same part of the baseline."""
    if base is None:
        return None
    if limit.pass_:  # its name may have changed with what it draws
        mine = counterparts.get(int(scope.passes[0]))
        return None if mine is None else of_pass(base.frame, mine)
    return next(iter(scopes_of(base.frame, limit)), None)


def _place(known: Known, scope: Scope) -> ShaderPlace | None:
    """Where the most expensive fragments are made."""
    program = most_expensive(known, scope)
    stage = next((s for s in program.stages if s.name == "fragment"), None) if program else None
    if program is None or stage is None or stage.cost is None:
        return None
    line = max(stage.cost.lines.items(), key=lambda pair: pair[1])[0] if stage.cost.lines else 0
    return ShaderPlace(f"program-{program.program}.frag", stage.source, line)


def _take(check: Check, asked: Asked, told: Told) -> None:
    """What measuring came to."""
    check.value, check.beyond = told.ms.median, told.beyond
    check.base = told.base_ms.median if told.base_ms else None
    check.allowed = asked.allowed.beyond(check.base or 0.0)
    match told.decision:
        case Decision.GAIN:
            check.state, check.counts_as = State.WITHIN, "pass"
        case Decision.LOSS:
            check.state, check.counts_as = State.OVER, "fail"
        case _:
            range_ = (
                f"{told.beyond.low:+.2f} to {told.beyond.high:+.2f} ms beyond the limit" if told.beyond else "too slow"
            )
            check.why = f"{range_} in {told.runs} runs"

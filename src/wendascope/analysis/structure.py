"""What can be told of a frame's calls and steps without any replay: their use, what keeps steps apart, what could go together."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.analysis.breaks import Accepted, Breaks, find_breaks
from wendascope.analysis.call_use import KINDS, NO_STATE, OVERWRITTEN, REPEATS, STEP, CallUse, call_ms, call_use
from wendascope.analysis.companies import Companies, find_companies
from wendascope.analysis.drawn import Drawn
from wendascope.analysis.sharing import Sharing
from wendascope.analysis.switches import Switches, find_switches
from wendascope.analysis.yardsticks import DeviceClass, yardsticks
from wendascope.frame.frame import Frame


@dataclass
class Structure:
    """All of it for one frame."""

    sharing: Sharing
    use: CallUse
    ms: npt.NDArray[np.float64]
    """CPU time inside each call as recorded, ms."""
    setting: npt.NDArray[np.int64]
    """Calls that set state, sorted by kind, then by program, then as they come."""
    program: npt.NDArray[np.int64]
    """The program in use after each of `setting`."""
    passes: npt.NDArray[np.int64]
    """The pass of the step that each of `setting` comes before."""
    companies: Companies
    breaks: Breaks
    switches: list[Switches]


def study(frame: Frame, accepted: list[Accepted] | None = None, drawn: Drawn | None = None) -> Structure:
    """Work everything out. With `drawn`, blended steps that do not overlap may change places in the count of switches."""
    sharing = Sharing(frame)
    use = call_use(frame)
    setting = np.flatnonzero((use.use != NO_STATE) & (use.use != STEP))
    program = frame.history.column("program", setting + 1)
    names = np.unique(program)
    # numbers of 16 bits are sorted by counting
    key = use.kind[setting].astype(np.int64) * len(names) + np.searchsorted(names, program)
    order = np.argsort(key.astype(np.uint16) if len(names) * len(KINDS) < 1 << 16 else key, kind="stable")
    setting, program = setting[order], program[order]
    step = np.minimum(np.searchsorted(frame.steps.call, setting), max(len(frame.steps) - 1, 0))
    passes = np.asarray(frame.passes.of_step[step] if len(frame.steps) else np.full(len(setting), -1), np.int64)
    return Structure(
        sharing, use, call_ms(frame), setting, program, passes, find_companies(sharing), find_breaks(sharing, accepted), find_switches(sharing, drawn)
    )


def needless_share(found: Structure) -> float:
    """Of the calls that set state, those that need not."""
    setting = len(found.setting)
    return int(found.use.needless.sum()) / setting if setting else 0.0


def state_answer(found: Structure) -> tuple[str, str]:
    """(answer, evidence) to what is set for nothing."""
    use = found.use
    setting = len(found.setting)
    if setting == 0:
        return "The frame sets no state.", ""
    needless = int(use.needless.sum())
    repeats, over = int((use.use == REPEATS).sum()), int((use.use == OVERWRITTEN).sum())
    steps = max(len(found.sharing.calls), 1)
    ms, total = float(found.ms[use.needless].sum()), float(found.ms.sum())
    answer = f"{needless / setting:.0%} of {setting:,} calls that set state are for nothing; they took {ms:.1f} of {total:.1f} ms in calls."
    evidence = (
        f"{repeats:,} set what is already set, {over:,} are replaced before anything uses them. {setting / steps:.1f} calls a step set state; {(setting - needless) / steps:.1f} would do."
    )
    now = {name: sum(s.now[name] for s in found.switches) for name in ("program", "textures", "vertex array")}
    best = {name: sum(s.best[name] for s in found.switches) for name in now}
    parts = [f"{name} {now[name]:,}" + (f" ({best[name]:,} in another order)" if best[name] < now[name] else "") for name in now]
    return answer, f"{evidence} Switches: {', '.join(parts)}."


def batching_answer(found: Structure) -> tuple[str, str]:
    """(answer, evidence) to what could be drawn together."""
    steps = len(found.sharing.calls)
    companies = found.companies.companies
    saved = found.companies.saved
    if not steps:
        return "The frame has no steps.", ""
    if saved:
        answer = f"{steps:,} steps; {steps - saved:,} would do: {len(companies)} {'companies' if len(companies) > 1 else 'company'} of draws can be drawn together."
    else:
        answer = f"{steps:,} steps; nothing here could be drawn together."
    largest = [f"{r.reason} {len(r.pairs):,}" for r in found.breaks.reasons if len(r.pairs) and r.reason != "target"][:3]
    differs = f" Of {found.breaks.pairs:,} pairs of neighbours {found.breaks.broken:,} differ: {', '.join(largest)}." if largest else ""
    return answer, devices_sentence(steps, steps - saved) + differs


def devices_sentence(steps: int, then: int) -> str:
    """Where a number of steps stands among the yardsticks of device classes, and where fewer would."""
    classes = sorted(yardsticks().steps, key=lambda c: c.high)
    within = [c for c in classes if steps <= c.high]
    if len(within) == len(classes):
        return f"Within every yardstick; the strictest is {_class(classes[0])}." if classes else ""
    more = [c for c in classes if steps > c.high >= then]
    text = f"Within the yardstick of {_listed(within)} only" if within else "Above every yardstick"
    if len(more) + len(within) == len(classes):
        return f"{text}; {then:,} would be within all, the strictest being {_class(classes[0])}."
    return f"{text}; {then:,} would be within {_listed(more)} too." if more else f"{text}."


def _class(item: DeviceClass) -> str:
    return f"{item.device} ({f'{item.low:,}-' if item.low else ''}{item.high:,})"


def _listed(classes: list[DeviceClass]) -> str:
    return ", ".join(_class(c) for c in classes)

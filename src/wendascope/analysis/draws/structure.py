"""What can be told of a frame's calls and steps without any replay: their use, what keeps steps apart, what could
go together.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.batches import Batches, find_batches
from wendascope.analysis.draws.breaks import Accepted, Breaks, find_breaks
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.draws.switches import Switches, find_switches
from wendascope.analysis.geometry.drawn import Drawn, touched_of
from wendascope.analysis.guidelines import DeviceClass, guidelines
from wendascope.frame.call_use import KINDS, NO_STATE, OVERWRITTEN, REPEATS, STEP, CallUse
from wendascope.frame.frame import Frame
from wendascope.texts import plural, share, verb


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
    batches: Batches
    breaks: Breaks
    switches: list[Switches]


def study(frame: Frame, accepted: list[Accepted] | None = None, drawn: Drawn | None = None) -> Structure:
    """Work everything out. With `drawn`, steps that do not overlap may change places, in batches and in the count
    of switches.
    """
    sharing = Sharing(frame)
    use = frame.call_use()
    setting = np.flatnonzero((use.use != NO_STATE) & (use.use != STEP))
    program = frame.program_at(setting + 1)
    names = np.unique(program)
    # numbers of 16 bits are sorted by counting
    key = use.kind[setting].astype(np.int64) * len(names) + np.searchsorted(names, program)
    order = np.argsort(key.astype(np.uint16) if len(names) * len(KINDS) < 1 << 16 else key, kind="stable")
    setting, program = setting[order], program[order]
    step = np.minimum(np.searchsorted(frame.steps.call, setting), max(len(frame.steps) - 1, 0))
    passes = np.asarray(frame.passes.of_step[step] if len(frame.steps) else np.full(len(setting), -1), np.int64)
    return Structure(
        sharing,
        use,
        frame.call_ms,
        setting,
        program,
        passes,
        find_batches(sharing, touched=touched_of(drawn)),
        find_breaks(sharing, accepted),
        find_switches(sharing, drawn),
    )


def redundant_share(found: Structure) -> float:
    """Of the calls that set state, those that need not."""
    setting = len(found.setting)
    return int(found.use.redundant.sum()) / setting if setting else 0.0


def state_answer(found: Structure) -> tuple[str, str]:
    """(answer, evidence) to which state calls are redundant."""
    use = found.use
    setting = len(found.setting)
    if setting == 0:
        return "The frame sets no state.", ""
    redundant = int(use.redundant.sum())
    repeats, over = int((use.use == REPEATS).sum()), int((use.use == OVERWRITTEN).sum())
    steps = max(len(found.sharing.calls), 1)
    ms, total = float(found.ms[use.redundant].sum()), float(found.ms.sum())
    answer = f"{share(redundant / setting)} of all state calls are redundant."
    evidence = (
        f"{redundant:,} of {setting:,} calls, which took {ms:.1f} of {total:.1f} ms. {repeats:,} repeat the"
        f" current value, {over:,} are overwritten before any use. {setting / steps:.1f} state calls per draw;"
        f" {(setting - redundant) / steps:.1f} needed."
    )
    now = {name: sum(s.now[name] for s in found.switches) for name in ("program", "textures", "vertex array")}
    best = {name: sum(s.best[name] for s in found.switches) for name in now}
    parts = [
        f"{name} {now[name]:,}" + (f" ({best[name]:,} in another order)" if best[name] < now[name] else "")
        for name in now
    ]
    return answer, f"{evidence} Switches: {', '.join(parts)}."


def batching_answer(found: Structure) -> tuple[str, str]:
    """(answer, evidence) to what could be drawn together."""
    steps = len(found.sharing.calls)
    saved = found.batches.saved
    if not steps:
        return "The frame draws nothing.", ""
    now = found.batches.draws_now()
    answer = plan_answer(now, now - saved, found.batches.least())
    largest = [f"{r.reason} {len(r.pairs):,}" for r in found.breaks.reasons if len(r.pairs) and r.reason != "target"][
        :3
    ]
    differs = (
        f" Of {plural(found.breaks.pairs, 'pair')} of neighbours {found.breaks.broken:,}"
        f" {verb(found.breaks.broken, 'differs', 'differ')}: {', '.join(largest)}."
        if largest
        else ""
    )
    return answer, devices_sentence(steps, steps - saved) + differs


def plan_answer(now: int, then: int, least: int) -> str:
    """How many draws would give the same picture, and how few there can be."""
    if now == 0:
        return "No draws of the frame can be drawn with others."
    if then == now:
        return f"{plural(now, 'draw')}; no order of them lets any be drawn together."
    fewer = "no order of them has fewer" if least >= then else f"no order of them has fewer than {least:,}"
    return f"{then:,} of {plural(now, 'draw')} {verb(then, 'gives', 'give')} the same picture; {fewer}."


def devices_sentence(steps: int, then: int) -> str:
    """Where a number of steps stands among the guidelines of device classes, and where fewer would."""
    classes = sorted(guidelines().steps, key=lambda c: c.high)
    within = [c for c in classes if steps <= c.high]
    if len(within) == len(classes):
        return f"Meets every guideline; the strictest is {_class(classes[0])}." if classes else ""
    more = [c for c in classes if steps > c.high >= then]
    text = f"Meets the guideline of {_listed(within)} only" if within else "Exceeds every guideline"
    if len(more) + len(within) == len(classes):
        return f"{text}; {then:,} would meet all, the strictest being {_class(classes[0])}."
    return f"{text}; {then:,} would meet {_listed(more)} too." if more else f"{text}."


def _class(item: DeviceClass) -> str:
    return f"{item.device} ({f'{item.low:,}-' if item.low else ''}{item.high:,})"


def _listed(classes: list[DeviceClass]) -> str:
    return ", ".join(_class(c) for c in classes)

"""Why neighbouring steps do not go together: for each pair of consecutive steps, exactly what differs."""

from __future__ import annotations

from dataclasses import dataclass, field

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.sharing import ASPECTS, Sharing

Ints = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]

REASONS = (*ASPECTS, "order")
"""`order`: the second step could join an earlier one, but steps between them must keep their place."""


class Accepted(msgspec.Struct):
    """A break that cannot be helped, with a note; kept in the file. An empty name stands for the whole reason, a step
    of -1 for every pair with it."""

    reason: str
    name: str = ""
    step: int = -1
    note: str = ""
    withdrawn: bool = False
    """Records are only ever added: this one takes an earlier one back."""


@dataclass
class Reason:
    """One reason, or one named thing within it (a sampler, a uniform); `pairs` are the first steps of its pairs."""

    reason: str
    name: str
    pairs: Ints
    alone: int
    """Pairs that nothing else keeps apart."""
    parts: list[Reason] = field(default_factory=list)
    accepted: Accepted | None = None
    """What took it out of the counts."""


@dataclass
class Breaks:
    """All breaks of a frame. Pair i is of steps i and i + 1."""

    reasons: list[Reason]
    """Those that occur, most pairs first."""
    pairs: int
    """Pairs of consecutive draws within a pass."""
    broken: int
    """Pairs that something keeps apart and nobody has accepted."""
    differs: dict[str, Mask]
    """Reason -> which pairs it breaks, shape (steps - 1,)."""
    named: list[tuple[str, str, Mask]]
    """The same by (reason, name)."""

    def of_pair(self, step: int) -> list[str]:
        """What steps `step` and `step` + 1 differ in, in words."""
        found = []
        for reason, mask in self.differs.items():
            if not mask[step]:
                continue
            names = [name for of, name, which in self.named if of == reason and which[step]]
            found.append(f"{reason} {', '.join(names)}" if names else reason)
        return found


def find_breaks(sharing: Sharing, accepted: list[Accepted] | None = None) -> Breaks:
    """Compare every two consecutive steps. What is accepted stays in the list, and out of the counts."""
    columns = sharing.columns
    count = max(len(sharing.calls) - 1, 0)
    same_pass = columns["target"][1:] == columns["target"][:-1] if count else np.zeros(0, bool)
    both_draw = sharing.draws[1:] & sharing.draws[:-1] if count else same_pass
    same_program = columns["program"][1:] == columns["program"][:-1] if count else same_pass
    differs: dict[str, Mask] = {}
    for reason in ASPECTS:
        mask = columns[reason][1:] != columns[reason][:-1] if count else np.zeros(0, bool)
        if reason == "kind":
            mask = same_pass & ~both_draw
        elif reason != "target":
            mask = mask & same_pass & both_draw
        if reason in ("texture", "uniform", "block"):
            mask = mask & same_program  # of different programs there is nothing to compare
        differs[reason] = mask
    differs["order"] = _order(sharing, count) & same_pass & both_draw
    named = []
    for detail in sharing.details:
        mask = np.zeros(count, bool)
        near = np.flatnonzero((np.diff(detail.steps) == 1) & (detail.numbers[1:] != detail.numbers[:-1]))
        mask[detail.steps[near]] = True
        mask &= differs[detail.aspect]
        if mask.any():
            named.append((detail.aspect, detail.name, mask))
    named = _joined(named)
    taken, out = _accepted(differs, named, accepted or [], count)
    inside = same_pass & both_draw
    breaking = np.zeros(count, np.int64)
    for mask in differs.values():
        breaking += mask
    breaking[out] = 0
    found = []
    for reason, mask in differs.items():
        if not mask.any():
            continue
        parts = [
            Reason(
                reason,
                name,
                np.flatnonzero(which & ~out),
                int((which & ~out & (breaking == 1)).sum()),
                accepted=taken.get((reason, name)),
            )
            for of, name, which in named
            if of == reason
        ]
        parts.sort(key=lambda part: -len(part.pairs))
        left = mask & ~out
        found.append(
            Reason(
                reason, "", np.flatnonzero(left), int((left & (breaking == 1)).sum()), parts, taken.get((reason, ""))
            )
        )
    found.sort(key=lambda item: -len(item.pairs))
    return Breaks(found, int(inside.sum()), int((inside & (breaking > 0)).sum()), differs, named)


def _joined(named: list[tuple[str, str, Mask]]) -> list[tuple[str, str, Mask]]:
    """One entry a name: programs share names of uniforms and samplers."""
    found: dict[tuple[str, str], Mask] = {}
    for reason, name, mask in named:
        found[(reason, name)] = found[(reason, name)] | mask if (reason, name) in found else mask
    return [(reason, name, mask) for (reason, name), mask in found.items()]


def _order(sharing: Sharing, count: int) -> Mask:
    """Pairs whose second step has a batch earlier in the pass that it may not move to."""
    found = np.zeros(count, bool)
    if not count:
        return found
    anywhere = sharing.family(ordered=False)
    near = sharing.family(ordered=True)
    _, first, which = np.unique(anywhere, return_index=True, return_inverse=True)
    _, first_near, which_near = np.unique(near, return_index=True, return_inverse=True)
    rows = np.arange(len(anywhere))
    has_earlier = first[which] < rows
    may_join = first_near[which_near] < rows
    found[:] = (has_earlier & ~may_join & sharing.draws)[1:] & (anywhere[1:] != anywhere[:-1])
    return found


def _accepted(
    differs: dict[str, Mask], named: list[tuple[str, str, Mask]], accepted: list[Accepted], count: int
) -> tuple[dict[tuple[str, str], Accepted], Mask]:
    """(what was accepted as a whole, pairs that are out of the counts)."""
    current: dict[tuple[str, str, int], Accepted] = {}
    for item in accepted:
        current[(item.reason, item.name, item.step)] = item
    out = np.zeros(count, bool)
    whole = {}
    by_name = {(reason, name): mask for reason, name, mask in named}
    for item in current.values():
        mask = by_name.get((item.reason, item.name)) if item.name else differs.get(item.reason)
        if item.withdrawn or mask is None:
            continue
        if item.step < 0:
            whole[(item.reason, item.name)] = item
            out |= mask
        elif item.step < count:
            out[item.step] |= mask[item.step]
    return whole, out

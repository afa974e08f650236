"""How often program, textures and vertex array change from step to step, and how few changes a legal order would do
with.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.drawn import Drawn

Ints = npt.NDArray[np.int64]
WHAT = ("program", "textures", "vertex array", "target")
_LONGEST_BLENDED = 2000
"""Longer runs of blended steps are left in their order: which overlap is looked at pair by pair."""


@dataclass(frozen=True)
class Switches:
    """Switches of one pass, by WHAT; `best` with the order of `runs`."""

    now: dict[str, int]
    best: dict[str, int]
    runs: list[tuple[list[int], list[int]]]
    """(steps, the same in a better order) for each run that may be reordered and gains by it."""


def find_switches(sharing: Sharing, drawn: Drawn | None = None) -> list[Switches]:
    """One entry a pass. Blended steps change places only where `drawn` tells that they do not overlap."""
    keys = _keys(sharing)
    passes = sharing.frame.passes
    found = []
    for index in range(len(passes)):
        rows = np.arange(int(passes.first[index]), int(passes.end[index]))
        rows = rows[sharing.draws[rows]]
        order = rows.copy()
        runs = []
        for run in _runs(sharing, rows, drawn):
            better = _sorted(run, keys, sharing, drawn)
            if sum(_count(keys, better).values()) < sum(_count(keys, run).values()):
                at = int(np.searchsorted(rows, run[0]))
                order[at : at + len(run)] = better
                runs.append((run.tolist(), better.tolist()))
        now, best = _count(keys, rows), _count(keys, order)
        entered = int(len(rows) > 0)
        found.append(Switches(now | {"target": entered}, best | {"target": entered}, runs))
    return found


def _keys(sharing: Sharing) -> dict[str, npt.NDArray[np.uint64]]:
    arrays = sharing.uses.vertex_array.astype(np.uint64)
    return {"program": sharing.columns["program"], "textures": sharing.columns["texture"], "vertex array": arrays}


def _count(keys: dict[str, npt.NDArray[np.uint64]], rows: Ints) -> dict[str, int]:
    return {name: int((key[rows][1:] != key[rows][:-1]).sum()) for name, key in keys.items()}


def _runs(sharing: Sharing, rows: Ints, drawn: Drawn | None) -> Iterator[Ints]:
    """Steps one after the other that may change places, as far as their state tells."""
    if len(rows) == 0:
        return
    free, epoch = sharing.order_free[rows], sharing.epoch[rows]
    cuts = (epoch[1:] != epoch[:-1]) | (np.diff(rows) != 1)
    if drawn is not None:  # blended neighbours of one kind may change places where they do not overlap
        blended = np.array(
            [drawn.steps[s].kind == "blended" and drawn.steps[s].box is not None for s in rows.tolist()], bool
        )
        cuts &= ~(blended[1:] & blended[:-1] & (np.diff(rows) == 1))
    else:
        blended = np.zeros(len(rows), bool)
    for run in np.split(np.arange(len(rows)), np.flatnonzero(cuts) + 1):
        if len(run) > 2 and (bool(free[run].all()) or (bool(blended[run].all()) and len(run) <= _LONGEST_BLENDED)):
            yield rows[run]


def _sorted(run: Ints, keys: dict[str, npt.NDArray[np.uint64]], sharing: Sharing, drawn: Drawn | None) -> Ints:
    """By program, then textures, then vertex array, each in the order in which it is first needed."""
    ranks = []
    for key in keys.values():
        _, first, which = np.unique(key[run], return_index=True, return_inverse=True)
        ranks.append(np.argsort(np.argsort(first))[which])
    rank = np.lexsort(tuple(reversed(ranks)))
    if bool(sharing.order_free[run].all()):
        return run[rank]
    assert drawn is not None
    place = np.empty(len(run), np.int64)
    place[rank] = np.arange(len(run))
    return run[_without_crossing(np.array([drawn.steps[s].box for s in run.tolist()], np.int64), place)]


def _without_crossing(boxes: Ints, place: Ints) -> list[int]:
    """An order as near to `place` as can be in which no two boxes that overlap change places."""
    count = len(boxes)
    over = (boxes[:, None, 0] < boxes[None, :, 2]) & (boxes[None, :, 0] < boxes[:, None, 2])
    over &= (boxes[:, None, 1] < boxes[None, :, 3]) & (boxes[None, :, 1] < boxes[:, None, 3])
    waits = np.tril(over, -1).sum(axis=1)  # how many earlier ones it must come after
    done = np.zeros(count, bool)
    order = []
    for _ in range(count):
        ready = np.flatnonzero((waits == 0) & ~done)
        chosen = int(ready[np.argmin(place[ready])])
        order.append(chosen)
        done[chosen] = True
        waits[chosen + 1 :] -= over[chosen, chosen + 1 :]
    return order

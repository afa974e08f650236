"""In which order steps may be drawn, and the order in which the fewest draws are left.

Steps touch tiles of their target. Two that touch a common tile must stay in their order, unless they commute: they have
one *commuting class*, a number other than 0 (opaque ones tested and written by one depth test, or ones that only add).
In a *strict* tile nothing commutes: opaque fragments of one depth meet there, and which comes first is seen. Everything
else may change places. Steps of one *group* can be one draw when they come next to each other.

`plan` looks for the fewest draws: first each step joins the earliest draw of its group that it may join, forwards and
backwards; then draws of one group that nothing between them keeps apart are joined until none is left. `least_draws`
says how few there can be at all: along a chain of steps that must stay in order, a group that comes back after another
one needs one more draw.
"""

from __future__ import annotations

import bisect
import functools
import time
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from wendascope.frame.numbers import Ints, Mask

_MOST_JOINED = 3000
"""More draws than this are not joined any further: it takes the square of their number."""


@dataclass(frozen=True)
class Touched:
    """The tiles of n steps: those of step i are `tiles[starts[i]:starts[i + 1]]`. `starts` has n + 1 entries; tiles are
    numbered from 0, each once a step. `strict` has one entry a tile number, as far as any of them is strict.
    """

    starts: Ints
    tiles: Ints
    strict: Mask = field(default_factory=lambda: np.zeros(0, bool))

    @classmethod
    def each(cls, tiles: Sequence[Ints]) -> Touched:
        """From the tiles of every step."""
        starts = np.concatenate([[0], np.cumsum([len(t) for t in tiles])]).astype(np.int64)
        return cls(starts, np.concatenate([np.zeros(0, np.int64), *tiles]))

    def with_strict(self, other: Touched) -> Touched:
        """The tiles of another one for the same steps beside these, as strict ones."""
        first, count = self.count, other.count
        steps = np.concatenate([self.steps, other.steps])
        tiles = np.concatenate([self.tiles, other.tiles + first])
        strict = np.concatenate([self.is_strict, np.ones(count, bool)])
        order = np.argsort(steps, kind="stable")
        sizes = np.diff(self.starts) + np.diff(other.starts)
        starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        return Touched(starts, tiles[order], strict)

    @property
    def only_strict(self) -> Touched:
        """The strict tiles alone."""
        kept = self.is_strict[self.tiles]
        sizes = np.bincount(self.steps[kept], minlength=len(self.starts) - 1)
        starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        return Touched(starts, self.tiles[kept], self.strict)

    @functools.cached_property
    def is_strict(self) -> Mask:
        """Of every tile number, whether nothing commutes there."""
        found = np.zeros(self.count, bool)
        found[: len(self.strict)] = self.strict[: self.count]
        return found

    def of(self, step: int) -> Ints:
        return self.tiles[self.starts[step] : self.starts[step + 1]]

    @functools.cached_property
    def count(self) -> int:
        """One more than the highest tile."""
        return int(self.tiles.max(initial=-1)) + 1

    @property
    def steps(self) -> Ints:
        """The step of every entry of `tiles`."""
        return np.repeat(np.arange(len(self.starts) - 1), np.diff(self.starts))

    def chosen(self, rows: Ints) -> Touched:
        """Of some steps, in that order, with the tiles numbered anew."""
        sizes = np.diff(self.starts)[rows]
        starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        at = np.repeat(self.starts[rows] - starts[:-1], sizes) + np.arange(int(starts[-1]))
        numbers, tiles = np.unique(self.tiles[at], return_inverse=True)
        return Touched(starts, tiles.reshape(-1).astype(np.int64), self.is_strict[numbers])

    def backwards(self) -> Touched:
        return self.chosen(np.arange(len(self.starts) - 1)[::-1])


def everywhere(steps: int) -> Touched:
    """Steps of which nothing is known: each touches one and the same tile."""
    return Touched(np.arange(steps + 1), np.zeros(steps, np.int64))


@dataclass(frozen=True)
class Plan:
    """Draws in order: the steps of each, in their order."""

    draws: list[list[int]]
    least: int
    """No order has fewer draws, by what was looked at in the time there was."""

    @property
    def order(self) -> list[int]:
        return [step for draw in self.draws for step in draw]


def plan(touched: Touched, groups: Ints, commuting: Ints, seconds: float = 0.5) -> Plan:
    """The fewest draws found for n steps; `groups` and `commuting` have shape (n,). The bound may take `seconds`."""
    if len(groups) == 0:
        return Plan([], 0)
    kinds = len(np.unique(groups))
    best: list[list[int]] = []
    for backwards in (False, True):
        draws = _gathered(touched, groups, commuting, backwards)
        if len(draws) > kinds:
            draws = _joined(draws, touched, groups, commuting)
        if not best or len(draws) < len(best):
            best = draws
        if len(best) == kinds:
            return Plan(best, kinds)
    return Plan(best, least_draws(touched, groups, commuting, best, seconds))


class _Heights:
    """For every tile, the largest number that a step left there, and the largest of another commuting class."""

    def __init__(self, touched: Touched) -> None:
        tiles = touched.count
        self._top = np.full(tiles, -1, np.int64)
        self._class = np.zeros(tiles, np.int64)
        self._other = np.full(tiles, -1, np.int64)
        self._strict = touched.is_strict if touched.strict.any() else None

    def below(self, tiles: Ints, commuting: int) -> int:
        """The largest number of steps that one of a class must stay behind; -1 for none."""
        if commuting == 0:
            return int(self._top[tiles].max(initial=-1))
        alike = self._class[tiles] == commuting
        if self._strict is not None:
            alike &= ~self._strict[tiles]
        return int(np.where(alike, self._other[tiles], self._top[tiles]).max(initial=-1))

    def put(self, tiles: Ints, commuting: int, number: int) -> None:
        """Leave a number, which is not below what `below` told."""
        if commuting == 0:
            self._top[tiles] = number
            self._class[tiles] = 0
            return
        top = self._top[tiles]
        alike = self._class[tiles] == commuting
        self._other[tiles] = np.where(alike, self._other[tiles], top)
        self._top[tiles] = np.maximum(top, number)
        self._class[tiles] = commuting


def _gathered(touched: Touched, groups: Ints, commuting: Ints, backwards: bool) -> list[list[int]]:
    """Each step in the earliest draw of its group that is not before one it must follow, or in a new last one."""
    count = len(groups)
    if backwards:
        found = _gathered(touched.backwards(), groups[::-1], commuting[::-1], False)
        return [[count - 1 - step for step in reversed(draw)] for draw in reversed(found)]
    heights = _Heights(touched)
    draws: list[list[int]] = []
    of_group: dict[int, list[int]] = {}
    for step, (group, alike) in enumerate(zip(groups.tolist(), commuting.tolist(), strict=True)):
        tiles = touched.of(step)
        behind = heights.below(tiles, alike)
        mine = of_group.setdefault(group, [])
        place = bisect.bisect_left(mine, behind)
        at = mine[place] if place < len(mine) else len(draws)
        if at == len(draws):
            draws.append([])
            mine.append(at)
        draws[at].append(step)
        heights.put(tiles, alike, at)
    return draws


def edges(touched: Touched, of_step: Ints, commuting: Ints) -> tuple[Ints, Ints]:
    """Pairs (before, after) of draws that touch a common tile one right after the other without commuting."""
    steps = touched.steps
    order = np.lexsort((steps, touched.tiles))
    tiles, steps = touched.tiles[order], steps[order]
    draws, classes = of_step[steps], commuting[steps]
    # a run: steps of one tile that commute with each other, or a single one
    fresh = np.ones(len(tiles), bool)
    fresh[1:] = (tiles[1:] != tiles[:-1]) | (classes[1:] != classes[:-1]) | (classes[1:] == 0)
    fresh[1:] |= touched.is_strict[tiles[1:]]
    runs = np.cumsum(fresh) - 1
    width = int(draws.max(initial=0)) + 1
    pairs = np.unique(runs * width + draws)
    run, draw = pairs // width, pairs % width
    counts = np.bincount(run) if len(run) else np.zeros(0, np.int64)
    first = np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(np.int64) if len(counts) else counts
    tile_of_run = tiles[fresh]
    linked = np.flatnonzero(tile_of_run[1:] == tile_of_run[:-1])
    sizes = counts[linked] * counts[linked + 1]
    which = np.repeat(np.arange(len(linked)), sizes)
    inside = np.arange(int(sizes.sum())) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    a = draw[first[linked][which] + inside // counts[linked + 1][which]]
    b = draw[first[linked + 1][which] + inside % counts[linked + 1][which]]
    codes = np.unique(a[a != b] * width + b[a != b])
    return codes // width, codes % width


def _joined(draws: list[list[int]], touched: Touched, groups: Ints, commuting: Ints) -> list[list[int]]:
    """Draws of one group joined wherever no draw must come between them, in an order that all allow."""
    count = len(draws)
    if count > _MOST_JOINED:
        return draws
    of_step = np.zeros(len(groups), np.int64)
    for number, draw in enumerate(draws):
        of_step[draw] = number
    before, after = edges(touched, of_step, commuting)
    reach = np.zeros((count, count), bool)
    reach[before, after] = True
    for number in range(count - 1, -1, -1):  # draws come in an order that all edges go along with
        for to in np.flatnonzero(reach[number]).tolist():
            reach[number] |= reach[to]
    members = {number: list(draw) for number, draw in enumerate(draws)}
    of_group: dict[int, list[int]] = {}
    for number, draw in enumerate(draws):
        of_group.setdefault(int(groups[draw[0]]), []).append(number)
    for numbers in of_group.values():
        at = 0
        while at < len(numbers):
            other = at + 1
            while other < len(numbers):
                a, b = numbers[at], numbers[other]
                if _apart(reach, a, b) or _apart(reach, b, a):
                    other += 1
                    continue
                _contract(reach, a, b)
                members[a] = sorted(members[a] + members.pop(b))
                del numbers[other]
            at += 1
    # by how many come before: what must precede another has fewer
    kept = np.array(list(members))
    ancestors = reach[np.ix_(kept, kept)].sum(axis=0)
    first = np.array([members[number][0] for number in kept.tolist()])
    return [members[int(number)] for number in kept[np.lexsort((first, ancestors))]]


def _apart(reach: Mask, a: int, b: int) -> bool:
    """Whether another draw must come after `a` and before `b`."""
    between = reach[a] & reach[:, b]
    between[a] = between[b] = False
    return bool(between.any())


def _contract(reach: Mask, a: int, b: int) -> None:
    """`b` becomes a part of `a`."""
    reach[a] |= reach[b]
    reach[:, a] |= reach[:, b]
    reach[a, a] = reach[a, b] = False
    reach[b] = False
    reach[:, b] = False
    sources = reach[:, a].copy()
    reach[sources] |= reach[a]


def least_draws(touched: Touched, groups: Ints, commuting: Ints, draws: list[list[int]], seconds: float = 0.5) -> int:
    """A number of draws that no order goes below. Groups that the given draws hold in one need one; of the others,
    those with the most draws first, as far as the seconds last, the longest chain in which they come back is counted.
    """
    of_group: dict[int, int] = {}
    for draw in draws:
        group = int(groups[draw[0]])
        of_group[group] = of_group.get(group, 0) + 1
    total, until = len(of_group), time.monotonic() + seconds
    several = sorted((group for group, many in of_group.items() if many > 1), key=lambda g: -of_group[g])
    for group in several:
        if time.monotonic() > until:
            break
        total += _returns(touched, groups == group, commuting) - 1
    return total


def _returns(touched: Touched, member: Mask, commuting: Ints) -> int:
    """How many draws of a group the longest chain needs. A step's number is odd in the draws of the group, even after
    them: it grows where a chain leaves the group and where it comes back.
    """
    heights = _Heights(touched)
    most = 0
    for step, (mine, alike) in enumerate(zip(member.tolist(), commuting.tolist(), strict=True)):
        tiles = touched.of(step)
        number = max(heights.below(tiles, alike), 0)
        number += (number % 2 == 0) if mine else (number % 2)
        heights.put(tiles, alike, number)
        most = max(most, number)
    return (most + 1) // 2


def moves_together(touched: Touched, member: Mask, commuting: Ints) -> bool:
    """Whether some steps may be drawn where the last of them is, while all others stay; `member` has shape (n,)."""
    steps = np.flatnonzero(member)
    last = int(steps[-1])
    owner = touched.steps
    mine = member[owner]
    first = np.full(touched.count, last, np.int64)
    np.minimum.at(first, touched.tiles[mine], owner[mine])
    between = ~mine & (owner < last) & (owner > first[touched.tiles])
    alike = commuting[steps[0]]
    same = bool((commuting[steps] == alike).all()) and alike != 0
    kept = (commuting[owner] != alike) | touched.is_strict[touched.tiles] if same else True
    return not bool((between & kept).any())

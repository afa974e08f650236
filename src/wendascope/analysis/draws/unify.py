"""What keeps draws apart that the plan would bring together: for each key in which they differ, and for each few of its
values, how many draws less there would be if they shared it.

Nothing is tried here: whether two shaders or two blend states can become one is the programmer's to say. The plan is
worked out again as if they were.
"""

from __future__ import annotations

import functools
import time
from collections.abc import Iterable
from dataclasses import dataclass

import msgspec
import numpy as np

from wendascope.analysis.draws.draw_order import Touched
from wendascope.analysis.draws.draw_plans import Region, plan_regions
from wendascope.analysis.draws.groups import find_groups
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.guidelines import BatchGuidelines, guidelines
from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Ints, Mask, Numbers
from wendascope.frame.resources import Texture
from wendascope.frame.uses import Detail

KEYS = {
    "program": "shader program",
    "texture": "texture array",
    "blend": "blend state",
    "depth": "depth state",
    "raster": "raster state",
    "scissor or stencil": "clip rectangle or stencil",
    "viewport": "viewport",
    "layout": "vertex layout",
    "calls": "uploads and other calls in between",
    "order": "draw order: what lies over what",
}
"""Key -> what it is called."""
_MOST_PARTS = 4
"""Sets of values that are looked at for each key."""
_PARTS_SECONDS = 4.0
"""What looking at them may take."""


@dataclass(frozen=True)
class Shared:
    """A key taken as shared: by all draws, or by those that have the value of one of some steps."""

    key: str
    steps: tuple[int, ...] = ()

    def __str__(self) -> str:
        return self.key + (f"={','.join(map(str, self.steps))}" if self.steps else "")


class KeyGain(msgspec.Struct):
    """What sharing one key more would bring."""

    key: str
    of: list[int]
    """Steps that have the values which would be one, a step for each; empty for all values of the key."""
    saved: int
    """Draws less than the plan has."""
    values: int
    """Different values of the key among the draws that would come together; 0 for what has no values."""
    steps: list[int]
    """The largest draw that would come together."""
    what: str = ""
    """The values in words, where they are not all."""

    @property
    def shared(self) -> Shared:
        return Shared(self.key, tuple(self.of))


class _Unified(Sharing):
    """A frame whose steps are alike in some keys."""

    def __init__(self, frame: Frame, base: Sharing, shared: frozenset[Shared]) -> None:
        super().__init__(frame)
        self._base, self._shared = base, shared

    def _joined(self, key: str, column: Numbers) -> Numbers:
        for shared in self._shared:
            if shared.key != key:
                continue
            if not shared.steps:
                return np.zeros(len(self.calls), np.uint64)
            values = column[list(shared.steps)]
            column = np.where(np.isin(column, values), values[0], column)
        return column

    @functools.cached_property
    def columns(self) -> dict[str, Numbers]:
        base = self._base.columns
        return {name: column if name == "texture" else self._joined(name, column) for name, column in base.items()}

    @functools.cached_property
    def texture_shapes(self) -> Numbers:
        return self._joined("texture", self._base.texture_shapes)

    @property
    def layout(self) -> Numbers:
        return self._joined("layout", self._base.layout)

    @property
    def _separated(self) -> Mask:
        found = self._base._separated
        return np.zeros(len(found), bool) if Shared("calls") in self._shared else found

    # what may change places, and all that does not ask for keys, is what it was: worked out once for all

    @property
    def details(self) -> list[Detail]:
        return self._base.details

    @property
    def geometry(self) -> Numbers:
        return self._base.geometry

    @property
    def order_free(self) -> Mask:
        return self._base.order_free

    @property
    def _reads_target(self) -> Mask:
        return self._base._reads_target

    @property
    def epoch(self) -> Ints:
        return self._base.epoch

    @property
    def movable(self) -> Mask:
        return self._base.movable

    @property
    def commuting(self) -> Ints:
        return self._base.commuting

    @property
    def hiders(self) -> Mask:
        return self._base.hiders

    @property
    def hidden_by_depth(self) -> Mask:
        return self._base.hidden_by_depth

    @property
    def _unclear(self) -> Mask:
        return self._base._unclear

    @property
    def texture_looks(self) -> Numbers:
        return self._base.texture_looks

    @property
    def _kept_textures(self) -> dict[int, Texture]:
        return self._base._kept_textures


def plan_with(
    sharing: Sharing, touched: Touched | None, shared: Iterable[Shared] = (), measure: BatchGuidelines | None = None
) -> list[Region]:
    """The plan of a frame as if its steps were alike in some keys."""
    wanted = frozenset(shared)
    alike = _Unified(sharing.frame, sharing, wanted)
    groups = find_groups(alike, measure or guidelines().batches)
    if Shared("order") in wanted:
        touched = Touched.each([np.zeros(0, np.int64)] * len(sharing.calls))
    return plan_regions(alike, [group.steps for group in groups], touched, seconds=0.0)


def draws_in(regions: list[Region]) -> int:
    """Draws of some plans together."""
    return sum(region.count for region in regions)


def keys_to_unify(
    sharing: Sharing, touched: Touched | None, shared: Iterable[Shared] = (), measure: BatchGuidelines | None = None
) -> list[KeyGain]:
    """Every key that would leave fewer draws, and the sets of its values that would bring most of that, the largest
    gain first. `shared` counts as shared already.
    """
    given, until = frozenset(shared), time.monotonic() + _PARTS_SECONDS
    now = draws_in(plan_with(sharing, touched, given, measure))
    found = []
    for key in KEYS:
        whole = Shared(key)
        if whole in given:
            continue
        regions = plan_with(sharing, touched, {*given, whole}, measure)
        gain = _gain(sharing, whole, now - draws_in(regions), regions)
        if gain.saved <= 0:
            continue
        found.append(gain)
        parts = _parts(sharing, key, regions)
        for part in parts[:_MOST_PARTS] if len(parts) > 1 else []:
            if time.monotonic() > until:
                break
            alone = Shared(key, part)
            if alone in given:
                continue
            regions = plan_with(sharing, touched, {*given, alone}, measure)
            gain = _gain(sharing, alone, now - draws_in(regions), regions)
            if gain.saved > 0:
                found.append(gain)
    return sorted(found, key=lambda gain: (-gain.saved, len(gain.of)))


def _column(sharing: Sharing, key: str) -> Numbers | None:
    return sharing.layout if key == "layout" else sharing.columns.get(key)


def _mixed(column: Numbers, regions: list[Region]) -> list[Ints]:
    """Draws that hold several values of a key."""
    draws = [draw.steps for region in regions for draw in region.draws]
    return [steps for steps in draws if len(set(column[steps].tolist())) > 1]


def _parts(sharing: Sharing, key: str, regions: list[Region]) -> list[tuple[int, ...]]:
    """Sets of values that come together in some draw: a step for each value, those of the most draws first."""
    column = _column(sharing, key)
    if column is None:
        return []
    sets: list[tuple[set[int], int]] = []
    for steps in _mixed(column, regions):
        values, count = set(column[steps].tolist()), len(steps)
        apart = [(other, many) for other, many in sets if not other & values]
        for other, many in sets:
            if other & values:
                values, count = values | other, count + many
        sets = [*apart, (values, count)]
    first = dict(zip(reversed(column.tolist()), reversed(range(len(column))), strict=True))
    sets.sort(key=lambda item: -item[1])
    return [tuple(sorted(first[value] for value in values)) for values, _ in sets]


def _gain(sharing: Sharing, shared: Shared, saved: int, regions: list[Region]) -> KeyGain:
    column = _column(sharing, shared.key)
    mixed = [draw.steps for region in regions for draw in region.draws] if column is None else _mixed(column, regions)
    values = set() if column is None else {value for steps in mixed for value in column[steps].tolist()}
    if shared.steps and column is not None:
        kept = set(column[list(shared.steps)].tolist())
        mixed = [steps for steps in mixed if set(column[steps].tolist()) & kept]
        values &= kept
    largest = max(mixed, key=len, default=np.zeros(0, np.int64))
    what = ", ".join(dict.fromkeys(sharing.frame.setting_text(step, shared.key) for step in shared.steps))
    return KeyGain(shared.key, list(shared.steps), saved, len(values), largest.tolist(), what)

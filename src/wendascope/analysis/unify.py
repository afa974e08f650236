"""What keeps draws apart that the plan would bring together: for each key in which they differ, how many draws less
there would be if they shared it.

Nothing is tried here: whether two shaders or two blend states can become one is the programmer's to say. The plan is
worked out again as if they were.
"""

from __future__ import annotations

import functools
from collections.abc import Iterable

import msgspec
import numpy as np

from wendascope.analysis.draw_order import Touched
from wendascope.analysis.draw_plans import Region, plan_regions
from wendascope.analysis.groups import find_groups
from wendascope.analysis.guidelines import BatchGuidelines, guidelines
from wendascope.analysis.sharing import Sharing
from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Mask, Numbers

KEYS = {
    "program": "shader program",
    "texture": "textures of other sizes or formats",
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


class KeyGain(msgspec.Struct):
    """What sharing one key more would bring."""

    key: str
    saved: int
    """Draws less than the plan has."""
    values: int
    """Different values of the key among the draws that would come together; 0 for what has no values."""
    steps: list[int]
    """The largest draw that would come together."""


class _Unified(Sharing):
    """A frame whose steps are alike in some keys."""

    def __init__(self, frame: Frame, base: Sharing, keys: frozenset[str]) -> None:
        super().__init__(frame)
        # what is worked out once for all
        _ = base.columns, base.movable, base.order_free, base.commuting  # what may change places is what it was
        _ = base.texture_shapes, base.texture_looks
        self.__dict__.update({k: v for k, v in base.__dict__.items() if k not in ("columns", "sides")})
        self._base, self._keys = base, keys

    @functools.cached_property
    def columns(self) -> dict[str, Numbers]:
        zeros = np.zeros(len(self.calls), np.uint64)
        return {name: zeros if name in self._keys else column for name, column in self._base.columns.items()}

    @property
    def layout(self) -> Numbers:
        found = self._base.layout
        return np.zeros(len(found), np.uint64) if "layout" in self._keys else found

    @property
    def _separated(self) -> Mask:
        found = self._base._separated
        return np.zeros(len(found), bool) if "calls" in self._keys else found


def plan_with(
    sharing: Sharing, touched: Touched | None, keys: Iterable[str] = (), measure: BatchGuidelines | None = None
) -> list[Region]:
    """The plan of a frame as if its steps were alike in some of `KEYS`."""
    wanted = frozenset(keys)
    alike = _Unified(sharing.frame, sharing, wanted)
    groups = find_groups(alike, measure or guidelines().batches)
    if "order" in wanted:
        touched = Touched.each([np.zeros(0, np.int64)] * len(sharing.calls))
    return plan_regions(alike, [group.steps for group in groups], touched, seconds=0.0)


def draws_in(regions: list[Region]) -> int:
    """Draws of some plans together."""
    return sum(region.count for region in regions)


def keys_to_unify(
    sharing: Sharing, touched: Touched | None, shared: Iterable[str] = (), measure: BatchGuidelines | None = None
) -> list[KeyGain]:
    """Every key that would leave fewer draws, the largest gain first. `shared` are keys that count as shared."""
    given = frozenset(shared)
    now = draws_in(plan_with(sharing, touched, given, measure))
    found = []
    for key in KEYS:
        if key in given:
            continue
        regions = plan_with(sharing, touched, {*given, key}, measure)
        saved = now - draws_in(regions)
        if saved > 0:
            found.append(_gain(sharing, key, saved, regions))
    return sorted(found, key=lambda gain: -gain.saved)


def _gain(sharing: Sharing, key: str, saved: int, regions: list[Region]) -> KeyGain:
    column = sharing.layout if key == "layout" else sharing.columns.get(key)
    mixed, values = [], set()
    for region in regions:
        for draw in region.draws:
            if column is None or len(set(column[draw.steps].tolist())) > 1:
                mixed.append(draw.steps)
                values |= set() if column is None else set(column[draw.steps].tolist())
    largest = max(mixed, key=len, default=np.zeros(0, np.int64))
    return KeyGain(key, saved, len(values), largest.tolist())

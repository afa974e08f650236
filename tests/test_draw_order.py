"""Plans of the fewest draws: against every order of small frames, and against numbers known by construction."""

from __future__ import annotations

import itertools
import zlib

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.analysis.draws.coverage import Coverage, DepthTouches, coverage_of, of_boxes
from wendascope.analysis.draws.draw_order import Plan, Touched, edges, everywhere, plan
from wendascope.analysis.draws.draw_plans import plan_regions
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.drawn import Drawn, StepDrawn, touched_of
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.frame.blobs import BlobStore
from wendascope.frame.layers import PassLayers, Touch
from wendascope.registry import GL

from .synthetic import draw, frame_of, objects


def touched(steps: list[set[int]]) -> Touched:
    return Touched.each([np.array(sorted(s), np.int64) for s in steps])


def legal(steps: list[set[int]], commuting: list[int], order: tuple[int, ...]) -> bool:
    place = {step: at for at, step in enumerate(order)}
    return all(
        place[a] < place[b]
        for a, b in itertools.combinations(range(len(steps)), 2)
        if steps[a] & steps[b] and not (commuting[a] == commuting[b] != 0)
    )


def draws_of(order: tuple[int, ...], groups: list[int]) -> int:
    return 1 + sum(groups[a] != groups[b] for a, b in itertools.pairwise(order))


def planned(steps: list[set[int]], groups: list[int], commuting: list[int] | None = None) -> Plan:
    alike = [0] * len(steps) if commuting is None else commuting
    return plan(touched(steps), np.array(groups), np.array(alike))


def follows(touched: Touched, commuting: np.ndarray, order: list[int]) -> bool:
    """Whether an order keeps all steps that must stay in order so, by the pairs that the planner looks at."""
    place = np.argsort(order)
    before, after = edges(touched, np.arange(len(order)), commuting)
    return bool((place[before] < place[after]).all())


small = st.integers(1, 6).flatmap(
    lambda n: st.tuples(
        st.lists(st.sets(st.integers(0, 3), max_size=3), min_size=n, max_size=n),
        st.lists(st.integers(0, 2), min_size=n, max_size=n),
        st.lists(st.integers(0, 2), min_size=n, max_size=n),
    )
)


@settings(max_examples=300)
@given(small)
def test_against_every_order(case: tuple[list[set[int]], list[int], list[int]]) -> None:
    """The plan is legal, holds every step once and only steps of one group a draw; the bound is never above the truth,
    nor the plan below it.
    """
    steps, groups, commuting = case
    found = planned(steps, groups, commuting)
    best = min(draws_of(o, groups) for o in itertools.permutations(range(len(steps))) if legal(steps, commuting, o))
    assert sorted(found.order) == list(range(len(steps)))
    assert all(len({groups[s] for s in draw}) == 1 and draw == sorted(draw) for draw in found.draws)
    assert legal(steps, commuting, tuple(found.order))
    assert follows(touched(steps), np.array(commuting), found.order)
    assert found.least <= best <= len(found.draws)


@settings(max_examples=300)
@given(small, st.lists(st.sets(st.integers(0, 2), max_size=2), min_size=6, max_size=6))
def test_nothing_commutes_in_strict_tiles(
    case: tuple[list[set[int]], list[int], list[int]], more: list[set[int]]
) -> None:
    """Tiles of a second kind, in which steps of one commuting class keep their order as well."""
    steps, groups, commuting = case
    strict = more[: len(steps)]
    both = touched(steps).with_strict(touched(strict))
    found = plan(both, np.array(groups), np.array(commuting))
    order = tuple(found.order)
    plain = [0] * len(steps)
    orders = itertools.permutations(range(len(steps)))
    best = min(draws_of(o, groups) for o in orders if legal(steps, commuting, o) and legal(strict, plain, o))
    assert legal(steps, commuting, order) and legal(strict, plain, order)
    assert follows(both, np.array(commuting), found.order)
    assert found.least <= best <= len(found.draws)
    rows = np.arange(len(steps))[::-1]
    chosen = both.chosen(rows)
    assert [len(chosen.only_strict.of(k)) for k in range(len(rows))] == [len(strict[s]) for s in rows.tolist()]


def test_how_often_the_best_is_reached() -> None:
    """Random frames of seven steps: the plan is the best in all but a few, and never more than one draw above."""
    random = np.random.default_rng(3)
    missed = 0
    for _ in range(300):
        n = 7
        steps = [set(random.integers(0, 5, random.integers(1, 3)).tolist()) for _ in range(n)]
        groups, alike = random.integers(0, 3, n).tolist(), random.integers(0, 2, n).tolist()
        found = planned(steps, groups, alike)
        best = min(draws_of(o, groups) for o in itertools.permutations(range(n)) if legal(steps, alike, o))
        assert len(found.draws) <= best + 1
        missed += len(found.draws) > best
    assert missed <= 6, missed


def test_backgrounds_and_labels_of_buttons_that_do_not_overlap() -> None:
    """150 buttons, each a background, an icon and a label on it: three draws, and no order has fewer."""
    steps = [{b} for b in range(150) for _ in range(3)]
    found = planned(steps, [0, 1, 2] * 150)
    assert len(found.draws) == found.least == 3
    assert found.draws[0] == list(range(0, 450, 3))


def test_cards_that_overlap_their_neighbours_stay_as_they_are() -> None:
    """A fan of cards: each covers a part of the one before, so every border and face keeps its place."""
    steps = [tiles for card in range(20) for tiles in ({card, card + 1}, {card, card + 1})]
    found = planned(steps, [0, 1] * 20)
    assert len(found.draws) == found.least == 40


def test_opaque_ones_change_places_and_blended_ones_do_not() -> None:
    groups = [0, 1, 0, 1, 2, 3, 2]
    found = plan(everywhere(7), np.array(groups), np.array([1, 1, 1, 1, 0, 0, 0]))
    assert [sorted(draw) for draw in found.draws] == [[0, 2], [1, 3], [4], [5], [6]] and found.least == 5


def test_steps_that_only_add_commute() -> None:
    found = plan(everywhere(6), np.array([0, 1, 0, 1, 0, 1]), np.full(6, 5))
    assert len(found.draws) == found.least == 2
    kept = plan(everywhere(6), np.array([0, 1, 0, 1, 0, 1]), np.array([5, 5, 5, 6, 6, 6]))
    assert len(kept.draws) == 3 and kept.least == 2, "two kinds of adding do not commute; chains do not tell it all"


def test_one_that_must_come_between_keeps_two_apart() -> None:
    found = planned([{0}, {0, 1}, {1}], [0, 1, 0])
    assert len(found.draws) == found.least == 3
    assert len(planned([{0}, {2}, {1}], [0, 1, 0]).draws) == 2


def test_later_ones_are_waited_for() -> None:
    """Joining early is not enough: here the first of a group must be drawn later than it is."""
    found = planned([{0}, {1}, {1, 2}, {2, 0}], [0, 1, 2, 0])
    assert len(found.draws) == 3 and found.least == 3


def test_nothing_and_steps_that_draw_nothing() -> None:
    assert plan(everywhere(0), np.zeros(0, np.int64), np.zeros(0, np.int64)).draws == []
    assert len(planned([set(), {0}, set()], [0, 1, 0]).draws) == 2


@pytest.mark.parametrize("count", [4, 9])
def test_layers_of_a_tile_map(count: int) -> None:
    """Three layers of tiles over each other, of four textures each: every layer needs its four, no more."""
    steps = [{tile} for _ in range(3) for tile in range(count * count)]
    groups = [layer * 4 + tile % 4 for layer in range(3) for tile in range(count * count)]
    found = planned(steps, groups)
    assert len(found.draws) == 12 == found.least


def test_the_bound_is_that_of_what_lies_where_even_where_the_plan_is_that_of_state_alone() -> None:
    """State alone keeps all seven in their order: five draws, and no other order. As they lie there is an order of four
    draws, which the planner misses: then it may not say that none has fewer than five.
    """
    steps: list[set[int]] = [{3}, {0, 1, 2}, {1, 3}, {2}, {3}, set(), {1, 2}]
    groups = [1, 2, 2, 1, 0, 0, 2]
    orders = [o for o in itertools.permutations(range(7)) if legal(steps, [0] * 7, o)]
    assert min(draws_of(order, groups) for order in orders) == 4
    batch = CallBatch()
    batch.call("glEnable", GL.BLEND)
    for group in groups:
        draw(batch, group + 1, 1, 1)
    blobs = BlobStore()
    sharing = Sharing(frame_of(batch, objects(blobs, programs=3), blobs))
    members = [np.flatnonzero(np.array(groups) == group) for group in range(3)]
    (region,) = plan_regions(sharing, members, touched(steps))
    assert (region.count, region.least) == (5, 4)
    (alone,) = plan_regions(sharing, members, None)
    assert (alone.count, alone.least) == (5, 5)


# ---- what lies where -----------------------------------------------------------------------------------


def _pass(masks: list[np.ndarray]) -> PassLayers:
    touches = [Touch(step, "blended", 0, 0, mask.astype(np.uint8)) for step, mask in enumerate(masks)]
    return PassLayers(0, masks[0].shape[1], masks[0].shape[0], touches=touches)


masks_of = st.lists(st.integers(0, (1 << 24) - 1), min_size=1, max_size=6).map(
    lambda values: [np.array([v >> k & 1 for k in range(24)], bool).reshape(4, 6) for v in values]
)


@given(masks_of)
def test_cells_tell_exactly_who_shares_a_sample(masks: list[np.ndarray]) -> None:
    boxes = np.tile(np.array([0, 0, 6, 4]), (len(masks), 1))
    found = coverage_of([_pass(masks)], boxes, np.zeros(len(masks), bool), DepthTouches.none(len(masks))).touched()
    for a, b in itertools.combinations(range(len(masks)), 2):
        assert bool(np.intersect1d(found.of(a), found.of(b)).size) == bool((masks[a] & masks[b]).any())


def test_steps_that_are_not_counted_take_their_box() -> None:
    masks = [np.zeros((4, 6), bool), np.ones((4, 6), bool)]
    boxes = np.array([[1, 1, 3, 3], [0, 0, 6, 4], [0, 0, 9, 9]])
    found = coverage_of([_pass(masks)], boxes, np.array([True, False, True]), DepthTouches.none(3)).touched()
    assert len(found.of(0)) == 1 and len(found.of(2)) == 4, "one cell of the pass; tiles of a pass that was not counted"
    assert np.intersect1d(found.of(0), found.of(1)).size == 1
    assert len(of_boxes(boxes).of(1)) == 1


@pytest.mark.parametrize(
    "bad",
    [
        Coverage(1, b"", b""),
        Coverage(1, b"junk", b"junk"),
        Coverage(1, zlib.compress(b"\0\0\0"), zlib.compress(b"")),
        Coverage(1, zlib.compress(np.array([0, 5], np.int32).tobytes()), zlib.compress(b"")),
        Coverage(1, zlib.compress(np.zeros(1, np.int32).tobytes()), zlib.compress(bytes(80 << 20))),
    ],
)
def test_damaged_coverage_is_refused_and_done_without(bad: Coverage) -> None:
    with pytest.raises(ValueError, match="damaged"):
        bad.touched()
    drawn = Drawn([StepDrawn(box=(0, 0, 4, 4), triangles=1)], [], [], coverage=bad)
    found = touched_of(drawn)
    assert found is not None and len(found.starts) == 2, "by its box"

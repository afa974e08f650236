"""Analysis held against a rasteriser: what it says may be done to a frame is done, and the picture compared."""

from __future__ import annotations

import dataclasses
import functools

import numpy as np
import numpy.typing as npt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.advice.findings import Case, Finding, find
from wendascope.analysis.draws.atlas import plan_atlases
from wendascope.analysis.draws.batches import find_batches
from wendascope.analysis.draws.breaks import find_breaks
from wendascope.analysis.draws.draw_order import Touched
from wendascope.analysis.draws.liveness import live, reads_of_targets, without_effect
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.draws.structure import study
from wendascope.analysis.geometry.drawn import touched_of
from wendascope.frame.layers import layer_map, owner_map, step_layers
from wendascope.frame.summary import summarise
from wendascope.frame.uses import Compare

from .raster import Clear, Draw, RasterFrame, Rasteriser, Step, quad

SIZE = 24
NOISE = np.random.default_rng(7).integers(0, 255, (4, 4, 4, 4), np.uint8)
IMAGES = {10 + k: NOISE[k] for k in range(3)}
QUIET = settings(max_examples=60, deadline=None)


def frame_of(*scene: Step) -> RasterFrame:
    return RasterFrame(list(scene), SIZE, SIZE, IMAGES)


@functools.cache
def _corner() -> st.SearchStrategy[int]:
    return st.integers(0, SIZE)


@st.composite
def scenes(draw: st.DrawFn, blended: bool = True, targets: bool = True, equal: bool = False) -> RasterFrame:
    """Rectangles of any state, each at a depth of its own (unless `equal`), after a clear of each target."""
    count = draw(st.integers(1, 10))
    depths = draw(st.permutations([(k + 1) / 16 for k in range(count)]))
    scene: list[Step] = [Clear(), Clear(target=1)] if targets else [Clear()]
    for k in range(count):
        x0, y0 = draw(st.integers(0, SIZE - 2)), draw(st.integers(0, SIZE - 2))
        x1, y1 = draw(st.integers(x0 + 1, SIZE)), draw(st.integers(y0 + 1, SIZE))
        texture = draw(st.sampled_from([0, 0, 10, 11, 1] if targets else [0, 0, 10, 11]))
        scene.append(
            quad(
                x0,
                y0,
                x1,
                y1,
                draw(st.sampled_from([0.25, 0.5])) if equal else depths[k],
                colour=(*(draw(st.integers(0, 4)) / 4 for _ in range(3)), draw(st.sampled_from([0.5, 1.0]))),
                texture=texture,
                tests=draw(st.booleans()),
                writes=draw(st.booleans()),
                compare=draw(st.sampled_from([Compare.LESS, Compare.LESS_OR_EQUAL, Compare.GREATER, Compare.ALWAYS])),
                blend=blended and draw(st.booleans()),
                target=draw(st.sampled_from([0, 0, 1])) if targets and texture != 1 else 0,
            )
        )
    return frame_of(*scene)


def shuffled(order: list[int], groups: npt.NDArray[np.int64], random: np.random.Generator) -> list[int]:
    """The steps of each group in another order, at the places of the group."""
    result = list(order)
    for group in set(groups.tolist()):
        places = np.flatnonzero(groups == group)
        for place, step in zip(places.tolist(), random.permutation(places).tolist(), strict=True):
            result[place] = step
    return result


def drawn_so(frame: RasterFrame, order: list[int]) -> bool:
    rasteriser = Rasteriser(frame)
    return bool((rasteriser.picture(order) == rasteriser.picture()).all())


# ---- the rasteriser itself ------------------------------------------------------------------------------------


def test_two_triangles_of_a_rectangle_cover_each_pixel_once() -> None:
    frame = frame_of(Clear(), quad(3, 2, 17, 19, 0.5))
    item = Rasteriser(frame).layers()[0]
    counts = layer_map([item])
    assert counts.sum() == 14 * 17 and counts.max() == 1 and counts[2:19, 3:17].all()


def test_depth_blending_and_textures_do_what_they_say() -> None:
    red, half = (1.0, 0.0, 0.0, 1.0), (0.0, 0.0, 1.0, 0.5)
    picture = Rasteriser(
        frame_of(
            Clear(),
            quad(0, 0, 8, 8, 0.5, colour=red),
            quad(4, 0, 12, 8, 0.7),  # behind where they overlap
            quad(0, 4, 8, 8, 0.9, colour=half, blend=True, tests=False),
            quad(16, 16, 20, 20, 0.5, texture=10),
        )
    ).picture()
    assert picture[1, 1].tolist() == [255, 0, 0, 255] and picture[1, 10].tolist() == [255, 255, 255, 255]
    assert picture[6, 2].tolist() == [128, 0, 128, 191] and picture[22, 22].tolist() == [0, 0, 0, 255]
    assert (picture[16:20, 16:20] == IMAGES[10]).all()


# ---- order ----------------------------------------------------------------------------------------------------


@QUIET
@given(scenes(), st.integers(0, 1000))
def test_steps_of_one_epoch_may_change_places(frame: RasterFrame, seed: int) -> None:
    sharing, random = Sharing(frame), np.random.default_rng(seed)
    fixed = np.where(sharing.order_free, sharing.epoch, -1 - np.arange(len(frame.scene)))
    order = shuffled(list(range(len(frame.scene))), np.asarray(fixed, np.int64), random)
    assert drawn_so(frame, order)


@pytest.mark.parametrize(
    "change",
    [
        {"blend": True},
        {"tests": False},
        {"writes": False},
        {"compare": Compare.ALWAYS},
        {"compare": Compare.EQUAL},
    ],
)
def test_what_depends_on_its_order_is_never_free(change: dict[str, object]) -> None:
    """The trap of each: opaque and tested in all but one thing."""
    draws = [quad(2 * k, 2, 2 * k + 8, 12, 0.1 * (k + 1)) for k in range(3)]
    frame = frame_of(Clear(), *draws, *(dataclasses.replace(d, **change) for d in draws))  # type: ignore[arg-type]
    free = Sharing(frame).order_free.tolist()
    assert free == [False, True, True, True, False, False, False]


def test_reading_the_own_target_keeps_the_place() -> None:
    frame = frame_of(Clear(target=1), quad(0, 0, 9, 9, 0.5, target=1), quad(2, 2, 9, 9, 0.4, target=1, texture=1))
    assert Sharing(frame).order_free.tolist() == [False, True, False]


def test_other_depth_tests_are_other_epochs() -> None:
    near = [quad(0, 0, 9, 9, 0.1 * k) for k in range(1, 4)]
    far = [dataclasses.replace(d, compare=Compare.GREATER) for d in near]
    epoch = Sharing(frame_of(Clear(), *near, *far)).epoch.tolist()
    assert len(set(epoch[1:4])) == 1 and len(set(epoch[4:])) == 1 and epoch[1] != epoch[4]


# ---- drawn together -------------------------------------------------------------------------------------------


def moved_together(frame: RasterFrame, steps: list[int]) -> list[int]:
    """All of them where the last of them is drawn."""
    others = [step for step in range(len(frame.scene)) if step not in steps]
    at = sum(step < steps[-1] for step in others)
    return [*others[:at], *steps, *others[at:]]


@QUIET
@given(scenes())
def test_batches_draw_the_same_picture(frame: RasterFrame) -> None:
    """By state alone, each at a depth of its own: equal depths are a caveat then, and the next tests'."""
    check_batches(frame, None)


@QUIET
@given(scenes(equal=True))
def test_batches_draw_the_same_picture_where_it_is_known_what_lies_where(frame: RasterFrame) -> None:
    """Equal depths and what is hidden behind glass are known as well then."""
    check_batches(frame, touched_of(Rasteriser(frame).drawn()))


def check_batches(frame: RasterFrame, known: Touched | None) -> None:
    found = find_batches(Sharing(frame), touched=known)
    for batch in found.batches:
        if batch.in_place:
            assert drawn_so(frame, moved_together(frame, batch.steps)), batch.steps
    order = list(range(len(frame.scene)))
    for region in found.regions:
        order[min(region.order) : max(region.order) + 1] = region.order
    assert drawn_so(frame, order), order


@QUIET
@given(scenes(equal=True))
def test_batches_that_equal_depths_may_undo_say_so(frame: RasterFrame) -> None:
    for batch in find_batches(Sharing(frame)).batches:
        if not drawn_so(frame, moved_together(frame, batch.steps)):
            assert any("equal depth" in caveat for caveat in batch.caveats)


def test_copies_are_instances_and_others_are_merged() -> None:
    corner, other, third = (3.0, 3.0, 0.5), (9.0, 3.0, 0.5), (3.0, 9.0, 0.5)
    copies = [Draw(((corner, other, third),) * 200, colour=(k / 9, 0, 0, 1.0)) for k in range(9)]
    others = [quad(k, 0, k + 2, 3, 0.3, texture=10) for k in range(9)]
    found = find_batches(Sharing(frame_of(Clear(), *copies, *others)))
    assert {(batch.how, batch.program, len(batch.steps)) for batch in found.batches} == {
        ("instance", 1, 9),
        ("merge", 2, 9),
    }
    assert [batch.varies for batch in found.batches] == [["colour"], []]
    assert found.saved == 16 and found.single_draws == {}


def test_a_blended_draw_in_between_splits_a_batch_only_where_it_overlaps() -> None:
    sprites = [quad(8 * (k % 3), 0, 8 * (k % 3) + 4, 4, 0.5, blend=True, tests=False) for k in range(6)]
    over = quad(0, 0, 4, 4, 0.5, texture=10, blend=True, tests=False)
    beside = quad(0, 20, 4, 24, 0.5, texture=10, blend=True, tests=False)
    for between, wanted in ((over, [[1, 2, 3], [5, 6, 7]]), (beside, [[1, 2, 3, 5, 6, 7]])):
        frame = frame_of(Clear(), *sprites[:3], between, *sprites[3:])
        found = find_batches(Sharing(frame), touched=touched_of(Rasteriser(frame).drawn())).batches
        assert [batch.steps for batch in found if batch.program == 1] == wanted


def test_textures_of_one_size_are_layers_and_of_several_a_page() -> None:
    frame = frame_of(Clear(), *(quad(0, 0, 9, 9, 0.05 * (k + 1), texture=10 + k % 3) for k in range(12)))
    (batch,) = find_batches(Sharing(frame)).batches
    assert batch.samplers == ["surface"] and batch.gather == "array" and batch.textures == 3
    (plan,) = plan_atlases(Sharing(frame))
    assert plan.textures == 3 and plan.draws_then == 1 and plan.bytes_before == 3 * 64


@pytest.mark.parametrize(
    ("change", "aspect"),
    [
        ({"blend": True}, "blend"),
        ({"writes": False}, "depth"),
        ({"compare": Compare.ALWAYS}, "depth"),
        ({"texture": 11}, "texture"),
        ({"colour": (0.5, 0.5, 0.5, 1.0)}, "uniform"),
    ],
)
def test_a_break_is_named_by_what_differs(change: dict[str, object], aspect: str) -> None:
    first = quad(0, 0, 9, 9, 0.5, texture=10)
    second = dataclasses.replace(first, **change)  # type: ignore[arg-type]
    sharing = Sharing(frame_of(Clear(), first, first, second))
    differs = [name for name, column in sharing.columns.items() if column[2] != column[3]]
    assert differs == [aspect]
    assert [name for name, column in sharing.columns.items() if column[1] != column[2]] == []
    assert aspect in str(find_breaks(sharing).of_pair(2)) or aspect == "uniform"


# ---- what is seen ---------------------------------------------------------------------------------------------


@QUIET
@given(scenes(targets=False))
def test_steps_without_survivors_are_not_seen(frame: RasterFrame) -> None:
    """Left out all together where none of them writes depth that others are tested against."""
    drawn = Rasteriser(frame).drawn()
    everything = list(range(len(frame.scene)))
    for step, row in enumerate(drawn.steps):
        draw = frame.scene[step]
        if row.kind == "opaque" and row.survivors == 0 and isinstance(draw, Draw) and not draw.writes:
            assert drawn_so(frame, [s for s in everything if s != step])
    idle = [s for s, row in enumerate(drawn.steps) if row.kind == "blended" and row.idle == row.fragments]
    idle = [s for s in idle if not (isinstance(d := frame.scene[s], Draw) and d.tests and d.writes)]
    assert drawn_so(frame, [s for s in everything if s not in idle])


@QUIET
@given(scenes(blended=False, targets=False))
def test_owners_are_who_would_be_missed(frame: RasterFrame) -> None:
    """Every pixel shows the step that owns it: painted in a colour of its own, it shows that colour there."""
    layers = Rasteriser(frame).layers()
    owner = owner_map(layers)
    painted = [
        step if isinstance(step, Clear) else dataclasses.replace(step, colour=((k + 1) / 32, 1.0, 0.0, 1.0), texture=0)
        for k, step in enumerate(frame.scene)
    ]
    picture = Rasteriser(frame_of(*painted)).picture()
    expected = np.round((owner + 1) / 32 * 255).astype(np.int64)
    assert (picture[..., 0][owner >= 0] == expected[owner >= 0]).all() and (picture[..., 1][owner < 0] == 0).all()
    survivors = {s: row.survivors for item in layers for s, row in step_layers(item).items()}
    assert sum(survivors.values()) == int((owner >= 0).sum())


@QUIET
@given(scenes())
def test_steps_without_effect_leave_the_window_as_it_is(frame: RasterFrame) -> None:
    dead = without_effect(frame)
    assert drawn_so(frame, np.flatnonzero(~dead).tolist())
    assert not dead[[step.target == 0 for step in frame.scene]].any()
    reads = reads_of_targets(frame)
    assert len(reads) == len(frame.passes)


def test_a_chain_of_reads_is_followed_to_the_window() -> None:
    near = (0, 0, 9, 9, 0.5)
    scene = [
        quad(*near, target=1),
        quad(*near, target=2, texture=1),
        quad(*near, target=3, texture=2),
        quad(*near, texture=10),
    ]
    assert without_effect(frame_of(*scene)).tolist() == [True, True, True, False]
    used = [*scene[:3], quad(*near, texture=3)]
    assert without_effect(frame_of(*used)).tolist() == [False] * 4
    flow = dataclasses.replace(frame_of(*scene).resource_flow, read_back=(np.array([-1]), np.array([2])))
    assert live(flow, np.arange(4)).tolist() == [True, True, False, True], (
        "what is read back has an effect, and what it reads"
    )


# ---- findings -------------------------------------------------------------------------------------------------


def found_in(frame: RasterFrame) -> dict[str, list[Finding]]:
    case = Case(frame, Rasteriser(frame).drawn(), None)
    found: dict[str, list[Finding]] = {}
    for finding in find(case):
        found.setdefault(finding.rule, []).append(finding)
    return found


def large(depth: float, **more: object) -> Draw:
    return quad(0, 0, 200, 200, depth, **more)


def big_frame(*scene: Step) -> RasterFrame:
    return RasterFrame(list(scene), 200, 200, IMAGES)


def test_back_to_front_is_found_with_an_order_that_draws_the_same() -> None:
    frame = big_frame(Clear(), *(large(0.9 - 0.1 * k, colour=(k / 9, 0, 0, 1)) for k in range(6)))
    (finding,) = found_in(frame)["back-to-front"]
    assert finding.remedy is not None and finding.remedy.order == [6, 5, 4, 3, 2, 1]
    assert drawn_so(frame, [0, *finding.remedy.order])
    front = big_frame(Clear(), *(large(0.1 + 0.1 * k) for k in range(6)))
    assert "back-to-front" not in found_in(front)


@pytest.mark.parametrize("change", [{"blend": True}, {"tests": False}, {"writes": False}])
def test_back_to_front_is_right_for_what_needs_it(change: dict[str, object]) -> None:
    """Blended draws must come back to front, and without depth nothing else decides."""
    frame = big_frame(Clear(), *(large(0.9 - 0.1 * k, **change) for k in range(6)))
    assert "back-to-front" not in found_in(frame)


def test_a_pass_that_nobody_reads_is_found_and_one_that_is_read_is_not() -> None:
    unread = found_in(big_frame(Clear(target=1), large(0.5, target=1), Clear(), large(0.5)))["unread-pass"]
    assert [finding.steps for finding in unread] == [[0, 1]]
    read = big_frame(Clear(target=1), large(0.5, target=1), Clear(), large(0.5, texture=1))
    assert "unread-pass" not in found_in(read)


def test_hidden_steps_that_are_found_can_be_left_out() -> None:
    hidden = [quad(20 * k, 20, 20 * k + 10, 30, 0.5, tests=False) for k in range(4)]
    frame = big_frame(Clear(), *hidden, large(0.4, tests=False), quad(9, 9, 30, 30, 0.3, tests=False, texture=10))
    found = [f for findings in found_in(frame).values() for f in findings if f.remedy and f.remedy.kind == "drop-steps"]
    assert any(set(f.steps) >= {1, 2, 3, 4} for f in found)
    for finding in found:
        left = [s for s in range(len(frame.scene)) if s not in finding.steps]
        assert drawn_so(frame, left), finding.title


@QUIET
@given(scenes())
def test_findings_of_any_scene_hold(frame: RasterFrame) -> None:
    """Whatever is claimed to change nothing changes nothing.

    What is covered in colour may still hide others by the depth that it writes: there the survey tries by replay before
    it claims anything, and nothing is asked of the analysis alone.
    """
    hiding = {k for k, draw in enumerate(frame.scene) if isinstance(draw, Draw) and draw.tests and draw.writes}
    for findings in found_in(frame).values():
        for finding in findings:
            remedy = finding.remedy
            if remedy is not None and remedy.kind == "drop-steps" and not hiding & set(remedy.steps):
                assert drawn_so(frame, [s for s in range(len(frame.scene)) if s not in remedy.steps]), finding.title
            if remedy is not None and remedy.kind == "reorder-steps":
                order = list(range(len(frame.scene)))
                for place, step in zip(sorted(remedy.order), remedy.order, strict=True):
                    order[place] = step
                assert drawn_so(frame, order), finding.title


def test_everything_that_needs_no_driver_works_on_a_frame_of_no_api() -> None:
    frame = frame_of(Clear(), quad(0, 0, 9, 9, 0.5), quad(3, 3, 9, 9, 0.4, texture=10))
    found = study(frame, drawn=Rasteriser(frame).drawn())
    assert len(found.setting) == 0 and len(found.batches.of_step) == 3
    told = summarise(frame)
    assert told.steps == 3 and told.triangles == 4 and told.width == SIZE
    assert frame.step_names == ["clear", "draw", "draw"] and frame.waits == [] and frame.call_ms.tolist() == [0.5] * 3
    assert frame.program_name(1) == "program 1" and frame.program_name(0) == "none" and frame.target_frame_ms is None

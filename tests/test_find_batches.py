"""What steps share, what keeps them apart, who could be drawn together, orders with fewer switches, atlas pages."""

from __future__ import annotations

import itertools
import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.analysis.draws.atlas import Options, page_picture, plan_atlases, plan_csv, plan_json
from wendascope.analysis.draws.batches import Batches, find_batches
from wendascope.analysis.draws.breaks import Accepted, find_breaks
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.draws.structure import batching_answer, devices_sentence, redundant_share, state_answer, study
from wendascope.analysis.draws.switches import find_switches
from wendascope.analysis.geometry.drawn import Drawn, StepDrawn
from wendascope.analysis.guidelines import guidelines, own_file, read_guidelines
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.errors import FileError
from wendascope.frame.blobs import BlobStore
from wendascope.frame.remedy import ARRAY, ATLAS, INSTANCE, MERGE, UNITS
from wendascope.registry import GL
from wendascope.report.atlas import write_atlas
from wendascope.texts import share

from .synthetic import crowded, draw, frame_of, objects


def _frame(batch: CallBatch, sides: tuple[int, ...] = (), **shape: int) -> OpenGLFrame:
    blobs = BlobStore()
    made = objects(blobs, **{"programs": 2, "meshes": 3, "textures": 4, **shape})
    for texture, side in zip(made.textures, sides, strict=False):
        image = texture.images[0]
        image.width = image.height = side
        image.contents = blobs.put(np.full((side, side, 4), texture.name, np.uint8).tobytes())
    return frame_of(batch, made, blobs)


def _batches(batch: CallBatch, **shape: Any) -> Batches:
    return find_batches(Sharing(_frame(batch, **shape)))


def test_copies_become_instances_and_other_meshes_are_merged() -> None:
    batch = CallBatch()
    for k in range(5):
        draw(batch, 1, 1, 1, model=float(k), tint=float(k))
    draw(batch, 1, 2, 1, model=9.0, tint=4.0)
    draw(batch, 1, 3, 1, model=10.0, tint=4.0)
    found = _batches(batch)
    assert [(c.how, c.steps, c.varies) for c in found.batches] == [
        (INSTANCE, [0, 1, 2, 3, 4], ["model", "tint"]),
        (MERGE, [5, 6], ["model"]),
    ]
    assert found.saved == 5 and found.single_draws == {}
    assert found.of_step.tolist() == [0, 0, 0, 0, 0, 1, 1]
    assert found.batches[0].data_bytes == 80 and found.batches[0].bytes_after == found.batches[0].bytes_before + 5 * 80


def test_equal_meshes_in_buffers_of_their_own_are_copies() -> None:
    batch = CallBatch()
    for mesh in (1, 2, 3, 4):
        draw(batch, 1, mesh, 1, model=float(mesh))
    frame = _frame(batch, meshes=4)
    same = frame.objects.buffers[0].contents
    for buffer in frame.objects.buffers[::2]:
        buffer.contents = same
    assert [c.how for c in find_batches(Sharing(frame)).batches] == [INSTANCE]


def test_textures_of_one_shape_are_an_array_and_few_others_are_bound_side_by_side() -> None:
    batch = CallBatch()
    for texture in (1, 2, 3, 4):
        draw(batch, 1, 1, texture, model=float(texture))
    near = _batches(batch).batches
    assert [(c.samplers, c.gather, c.textures, c.saved) for c in near] == [(["surface"], ARRAY, 4, 3)]
    sizes = _frame(batch, sides=(8, 16, 32, 64))
    measure = read_guidelines(None).batches
    beside = find_batches(Sharing(sizes), measure).batches
    assert [(c.gather, c.textures, c.data_bytes) for c in beside] == [(UNITS, 4, 80)]
    measure.texture_units = 3
    apart = find_batches(Sharing(sizes), measure).batches
    assert [(c.gather, c.data_bytes) for c in apart] == [(ATLAS, 80)] and "lose precision" in apart[0].caveats[-1]
    for k, record in enumerate(sizes.objects.textures):
        record.parameters = {"TEXTURE_MIN_FILTER": [float(k)]}
    three = find_batches(Sharing(sizes), measure)
    assert [(c.steps, c.gather) for c in three.batches] == [([0, 1, 2], UNITS)], "three units, so the fourth is alone"


def test_textures_that_no_array_can_copy_are_bound_side_by_side() -> None:
    """What the frame writes, or keeps no contents of, cannot be a layer: but it can be read where it is."""
    batch = CallBatch()
    for texture in (1, 2, 3, 4):
        draw(batch, 1, 1, texture, model=float(texture))
    frame = _frame(batch)
    for record in frame.objects.textures:
        record.images[0].contents = None
    assert [c.gather for c in find_batches(Sharing(frame)).batches] == [UNITS]


def test_arrays_of_more_layers_than_a_guideline_allows_are_several() -> None:
    batch = CallBatch()
    for k in range(12):
        draw(batch, 1, 1, 1 + k % 6, model=float(k))
    measure = read_guidelines(None).batches
    measure.array_layers = measure.texture_units = 4
    frame = _frame(batch, sides=(8,) * 6, textures=6)
    for record in frame.objects.textures:
        record.parameters = {"TEXTURE_WRAP_S": [float(GL.REPEAT)]}
    found = find_batches(Sharing(frame), measure).batches
    assert [(c.gather, sorted({s % 6 for s in c.steps})) for c in found] == [(ARRAY, [0, 1, 2, 3]), (ARRAY, [4, 5])]


def test_limits_split_a_batch_and_say_so() -> None:
    batch = CallBatch()
    for k in range(500):
        draw(batch, 1, 1 + k % 3, 1, model=float(k))
    frame = _frame(batch)
    measure = read_guidelines(None).batches
    whole = find_batches(Sharing(frame), measure).batches
    assert [len(p) for p in whole[0].parts] == [167], "167 x 64 bytes fit into one block"
    measure.uniform_block_bytes = 4096
    texels = find_batches(Sharing(frame), measure).batches[0]
    assert [len(p) for p in texels.parts] == [167] and not texels.limits, "a buffer texture holds more than a block"
    assert any("buffer texture" in caveat for caveat in texels.caveats)
    frame.context.limits["MAX_TEXTURE_BUFFER_SIZE"] = 512
    split = find_batches(Sharing(frame), measure).batches
    assert [len(p) for p in split[0].parts] == [128, 39] and "buffer texture of 8,192 bytes" in split[0].limits[0]
    frame.context.limits["MAX_TEXTURE_BUFFER_SIZE"] = 0
    split = find_batches(Sharing(frame), measure).batches
    assert [len(p) for p in split[0].parts] == [64, 64, 39] and "4,096 bytes" in split[0].limits[0]
    measure.least_copies, measure.vertices_a_batch, measure.uniform_block_bytes = 1000, 360, 1 << 20
    merged = find_batches(Sharing(frame), measure).batches
    assert (
        merged[0].how == MERGE
        and [len(p) for p in merged[0].parts] == [10] * 50
        and "360 vertices" in merged[0].limits[0]
    )


def test_steps_that_must_keep_their_place_only_join_their_neighbours() -> None:
    batch = CallBatch()
    batch.call("glEnable", GL.BLEND)
    for program in (1, 2, 1, 1, 2):
        draw(batch, program, 1, 1, model=float(program))
    found = _batches(batch)
    assert [(c.steps, c.in_order) for c in found.batches] == [([2, 3], True)]
    assert found.single_draws == {
        "draw order: no depth test decides visibility, and positions were not measured yet": [0, 1, 4]
    }
    opaque = CallBatch()
    for program in (1, 2, 1, 1, 2):
        draw(opaque, program, 1, 1, model=float(program))
    assert [(c.steps, c.in_order) for c in _batches(opaque).batches] == [([0, 2, 3], False), ([1, 4], False)]


def test_a_call_that_nobody_follows_keeps_steps_on_their_sides() -> None:
    batch = CallBatch()
    draw(batch, 1, 1, 1, model=1.0)
    batch.call("glTexSubImage2D", GL.TEXTURE_2D, 0, 0, 0, 1, 1, GL.RGBA, GL.UNSIGNED_BYTE, bytes(4))
    draw(batch, 1, 1, 1, model=2.0)
    assert _batches(batch).batches == []


# ---- breaks ------------------------------------------------------------------------------------------------


def _mixed() -> CallBatch:
    batch = CallBatch()
    draw(batch, 1, 1, 1, model=1.0)
    draw(batch, 1, 1, 1, model=2.0)  # another model only
    draw(batch, 1, 2, 2, model=2.0)  # other geometry and texture
    draw(batch, 2, 2, 2, model=2.0)  # another program
    batch.call("glClear", GL.DEPTH_BUFFER_BIT)
    batch.call("glDepthFunc", GL.LEQUAL)
    draw(batch, 2, 2, 2, model=2.0)
    return batch


def test_each_pair_says_exactly_what_differs() -> None:
    found = find_breaks(Sharing(_frame(_mixed())))
    assert found.of_pair(0) == ["uniform model"]
    assert found.of_pair(1) == ["texture surface", "geometry"]
    assert found.of_pair(2) == ["program"]
    counts = {r.reason: (len(r.pairs), r.alone) for r in found.reasons}
    assert counts["uniform"] == (1, 1) and counts["texture"] == (1, 0) and counts["program"] == (1, 1)
    assert [(p.name, len(p.pairs)) for r in found.reasons if r.reason == "uniform" for p in r.parts] == [("model", 1)]


def test_accepted_breaks_are_out_of_the_counts_until_they_are_taken_back() -> None:
    sharing = Sharing(_frame(_mixed()))
    before = find_breaks(sharing)
    accepted = [Accepted("texture", "surface", note="another font")]
    found = find_breaks(sharing, accepted)
    assert found.broken == before.broken - 1
    texture = next(r for r in found.reasons if r.reason == "texture")
    assert (
        len(texture.pairs) == 0
        and texture.parts[0].accepted is not None
        and texture.parts[0].accepted.note == "another font"
    )
    assert len(next(r for r in found.reasons if r.reason == "geometry").pairs) == 0, "the pair is out for every reason"
    one = find_breaks(sharing, [Accepted("uniform", "model", 0)])
    assert one.broken == before.broken - 1
    again = find_breaks(sharing, [*accepted, Accepted("texture", "surface", withdrawn=True)])
    assert again.broken == before.broken


def test_order_is_a_reason_where_earlier_batches_may_not_be_joined() -> None:
    batch = CallBatch()
    batch.call("glEnable", GL.BLEND)
    for program in (1, 2, 1):
        draw(batch, program, 1, 1)
    found = find_breaks(Sharing(_frame(batch)))
    assert found.of_pair(1) == ["program", "order"] and found.of_pair(0) == ["program"]


# ---- switches ----------------------------------------------------------------------------------------------


def test_a_legal_order_has_as_few_switches_as_there_are_kinds() -> None:
    batch = CallBatch()
    for k in range(12):
        draw(batch, 1 + k % 2, 1, 1 + k % 3, model=float(k))
    found = find_switches(Sharing(_frame(batch)))[0]
    assert found.now["program"] == 11 and found.best["program"] == 1 and found.best["textures"] == 5
    run, order = found.runs[0]
    assert sorted(order) == run == list(range(12))


def test_blended_steps_change_places_only_where_they_do_not_overlap() -> None:
    batch = CallBatch()
    batch.call("glEnable", GL.BLEND)
    for program in (1, 2, 1, 2):
        draw(batch, program, 1, 1)
    frame = _frame(batch)

    def drawn(boxes: list[tuple[int, int, int, int]]) -> Drawn:
        return Drawn([StepDrawn(kind="blended", box=box) for box in boxes], [], [])

    apart = drawn([(0, 0, 8, 8), (8, 0, 16, 8), (16, 0, 24, 8), (24, 0, 32, 8)])
    assert find_switches(Sharing(frame), apart)[0].runs == [([0, 1, 2, 3], [0, 2, 1, 3])]
    chained = drawn([(0, 0, 9, 8), (8, 0, 17, 8), (16, 0, 25, 8), (24, 0, 33, 8)])
    assert find_switches(Sharing(frame), chained)[0].runs == []
    assert find_switches(Sharing(frame))[0].runs == [], "where they lie is not known"


# ---- answers and guidelines ----------------------------------------------------------------------------------


def test_answers_tell_the_numbers() -> None:
    found = study(crowded(1000, programs=2, meshes=2, textures=2))
    assert batching_answer(found)[0].startswith("2 of 1,000 draws ") and "desktop (2,000)" in batching_answer(found)[1]
    assert state_answer(found)[0].startswith(f"{share(redundant_share(found))} of ")
    empty = study(frame_of(CallBatch()))
    assert (
        batching_answer(empty)[0] == "The frame draws nothing." and state_answer(empty)[0] == "The frame sets no state."
    )
    assert (
        devices_sentence(40, 40).startswith("Meets every guideline")
        and devices_sentence(3000, 2500) == "Exceeds every guideline."
    )


def test_own_guidelines_of_the_first_name_get_the_new_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    folder = tmp_path / "wendascope"
    folder.mkdir()
    (folder / "yardsticks.toml").write_text("[batches]\nleast_saved = 3\n")
    assert own_file() == folder / "guidelines.toml"
    assert read_guidelines(own_file()).batches.least_saved == 3
    (folder / "yardsticks.toml").write_text("")
    assert read_guidelines(own_file()).batches.least_saved == 3, "what has the new name counts"


def test_own_guidelines_change_some_and_bad_ones_are_one_clear_error(tmp_path: Path) -> None:
    own = tmp_path / "guidelines.toml"
    own.write_text("[batches]\nleast_saved = 3\n")
    assert read_guidelines(own).batches.least_saved == 3 and read_guidelines(own).geometry == guidelines().geometry
    for bad in ("[batches]\nleast_saved = 'few'\n", "[batches\n", "[batches]\nleast_savd = 3\n"):
        own.write_text(bad)
        with pytest.raises(FileError, match=r"guidelines\.toml: .*; fix the file, or remove it"):
            read_guidelines(own)
    assert own_file().name == "guidelines.toml"


# ---- atlas -----------------------------------------------------------------------------------------------


def _posters(sides: tuple[int, ...]) -> OpenGLFrame:
    batch = CallBatch()
    for k in range(len(sides)):
        draw(batch, 1, 1, k + 1, model=float(k))
    return _frame(batch, sides=sides, textures=len(sides))


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.integers(1, 60), min_size=2, max_size=12),
    st.sampled_from([64, 128]),
    st.integers(0, 2),
    st.booleans(),
    st.booleans(),
)
def test_pages_hold_every_texture_once_and_none_overlap(
    sides: list[int], page: int, padding: int, rotation: bool, power: bool
) -> None:
    frame = _posters(tuple(sides))
    plan = plan_atlases(Sharing(frame), Options(page, padding, rotation, power))[0]
    places = [place for found in plan.pages for place in found.places]
    assert sorted(p.texture for p in places) == list(range(1, len(sides) + 1)) and plan.left_out == {}
    for found in plan.pages:
        assert found.width <= max(page, 1) and found.height <= page
        assert not power or (found.width & (found.width - 1) == 0 and found.height & (found.height - 1) == 0)
        taken = np.zeros((found.height, found.width), np.int64)
        for p in found.places:
            taken[p.y - padding : p.y + p.height + padding, p.x - padding : p.x + p.width + padding] += 1
            assert p.x >= padding and p.y >= padding and p.x + p.width + padding <= found.width
        assert taken.max() == 1
        picture = page_picture(frame, found, padding)
        for p in found.places:
            assert (picture[p.y, p.x] == p.texture).all()


def test_what_cannot_be_on_a_page_says_why_and_draws_on_their_own() -> None:
    frame = _posters((16, 16, 16, 600))
    frame.objects.textures[1].images[0].internal_format = GL.RGB8
    plan = plan_atlases(Sharing(frame), Options(page=128))[0]
    assert plan.left_out == {"larger than a page of 128 pixels": [4], "another format than the others": [2]}
    assert plan.draws_then == 3 and plan.textures == 2 and plan.bytes_before == 2 * 16 * 16 * 4
    assert plan.compressed()["BC1"][0] == 256 and not plan.caveats
    frame.objects.textures[0].parameters = {}
    assert "some of them repeat" in plan_atlases(Sharing(frame), Options(page=128))[0].caveats[0]


def test_plans_are_written_as_pictures_json_and_csv(tmp_path: Path) -> None:
    frame = _posters((16, 24))
    plans = plan_atlases(Sharing(frame))
    written = write_atlas(frame, plans, 2, tmp_path / "out")
    assert sorted(path.suffix for path in written) == [".csv", ".json", ".png"]
    told = json.loads(plan_json(plans[0]))
    place = told["pages"][0]["places"][0]
    assert (
        place["u0"] == place["x"] / told["pages"][0]["width"]
        and told["compressed_by_arithmetic"]["BC1"]["bytes_before"] > 0
    )
    assert (
        plan_csv(plans[0]).splitlines()[0].startswith("texture,label,page")
        and len(plan_csv(plans[0]).splitlines()) == 3
    )
    (tmp_path / "file").write_text("")
    with pytest.raises(FileError, match="cannot make the folder"):
        write_atlas(frame, plans, 2, tmp_path / "file" / "out")


def test_many_steps_are_looked_at_without_a_loop_over_each() -> None:
    found = study(crowded(2000))
    assert len(found.batches.of_step) == 2000 and found.breaks.pairs == 1999
    assert all(set(part) <= set(c.steps) for c in found.batches.batches for part in c.parts)
    steps = list(itertools.chain.from_iterable(c.steps for c in found.batches.batches))
    assert len(steps) == len(set(steps)), "no step is in two batches"

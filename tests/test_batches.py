"""Batches really drawn: shaders rewritten, vertices merged, textures in arrays; and proofs of them on running
programs.
"""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.advice.findings import Case, Finding, find
from wendascope.advice.findings.batching import parts_of
from wendascope.analysis.draws.batches import find_batches
from wendascope.analysis.draws.sharing import Sharing
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.batching import NewObjects, plan_batch
from wendascope.backends.opengl.changes.batching.rewrite import DrawData, Names, Source, Store, rewrite
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.objects.primitives import separate, triangles
from wendascope.backends.opengl.objects.records import ProgramRecord, ShaderRecord, UniformRecord
from wendascope.backends.opengl.objects.uniform_blocks import block_layout
from wendascope.backends.opengl.objects.uniform_values import uniform_value
from wendascope.errors import TrialError
from wendascope.frame.blobs import BlobStore
from wendascope.frame.file import load
from wendascope.frame.remedy import INSTANCE, MERGE, MULTI_DRAW, SAME, UNITS, Part, Remedy
from wendascope.frame.uses import UnknownContentsError
from wendascope.glsl.compiler import compile_glsl
from wendascope.glsl.globals import Globals, UnclearSourceError
from wendascope.glsl.preprocessor import Dialect
from wendascope.glsl.std140 import pack, struct_layout, type_named
from wendascope.measure.drawn import measure_drawn
from wendascope.registry import GL
from wendascope.replay.client import Replay
from wendascope.trials.proofs.best_set import best_set
from wendascope.trials.proofs.proof import Proof, in_order, prove
from wendascope.trials.proofs.prove_all import prove_all
from wendascope.trials.proofs.runs import outcome_of
from wendascope.trials.proofs.verdicts import SHOWN, Verdict
from wendascope.trials.remedies import change_of
from wendascope.trials.survey.examine import examine_file, stored_examination

from .conftest import Capture, program
from .synthetic import draw, frame_of, objects
from .test_cli import run

# ---- sources -------------------------------------------------------------------------------------------


def test_globals_find_declarations_in_every_branch_and_leave_other_things_alone() -> None:
    source = """#version 330 core
#extension GL_ARB_shading_language_420pack : enable
// uniform vec4 not_me;
#define WRAPPED uniform \\
   vec4 nor_me;
layout(std140) uniform Block { vec4 inside; };
layout(location = 3) uniform highp mat4 model, other;
#ifdef A
uniform float[2] list;
#else
uniform float list[3];
#endif
const float half_ = 0.5;
vec3 f(vec3 p);
void main() { vec4 model2 = vec4(1.0); }
"""
    found = Globals(source)
    names = {n.text: (d.type, n.array) for d in found.declarations for n in d.names}
    assert names == {"model": ("mat4", ""), "other": ("mat4", ""), "list": ("float", "[3]"), "half_": ("float", "")}
    assert found.declarations[0].qualifiers == ("layout(location = 3)", "uniform", "highp")
    assert found.version == (330, "core") and source[: found.head].endswith("enable\n")
    assert found.main is not None and source[found.main :].startswith(" vec4 model2")
    assert [source[a:b].split("(")[0].split(" ")[0] for a, b in found.other] == ["layout", "vec3"]


@settings(max_examples=200, deadline=None)
@given(st.text('uniform vec4 main(){};,=[]#\n/*\\ "x1.', max_size=80))
def test_globals_of_any_text_are_found_or_refused(text: str) -> None:
    try:
        found = Globals(text)
    except UnclearSourceError:
        return
    for declaration in found.declarations:
        assert text[declaration.first : declaration.end].endswith(";")
        assert all(n.text in text[declaration.first : declaration.end] for n in declaration.names)
    assert 0 <= found.head <= len(text) and (found.main is None or text[found.main - 1] == "{")


def _rewritten(
    text: str,
    layers: tuple[str, ...] = (),
    pages: tuple[str, ...] = (),
    places: dict[str, str] | None = None,
    several: dict[str, int] | None = None,
) -> str:
    stage = GL.FRAGMENT_SHADER
    places = {"tint": "tint"} if places is None else places
    names = Names()
    rows = [(name, GL.FLOAT_VEC4, 1, False) for name in places] + [
        (names.layer_of(s), GL.INT, 1, False) for s in layers
    ]
    rows += [(names.place_of(s), GL.FLOAT_VEC4, 1, False) for s in pages]
    several = several or {}
    rows += [(names.unit_of(s), GL.INT, 1, False) for s in several]
    members, stride = struct_layout(rows)
    data = DrawData(tuple(members), places, layers, pages, several, {}, stride, 7, True, Store.BLOCK, names)
    return rewrite(Source(stage, text, False), data, True)


_TYPES = (
    "float vec2 vec3 vec4 int ivec2 ivec3 ivec4 uint uvec2 uvec3 uvec4 bool bvec2 bvec3 bvec4 mat2 mat3 mat4 mat2x3"
    " mat2x4 mat3x2 mat3x4 mat4x2 mat4x3"
).split()


def test_every_type_is_read_from_texels_of_a_buffer() -> None:
    """The same structure as in a block, in words of four, one element of an array after the other."""
    members, stride = struct_layout(
        [(f"{t}_", type_named(t) or 0, 1, False) for t in _TYPES]
        + [(f"{t}_s", type_named(t) or 0, 3, True) for t in _TYPES]
    )
    declared = "".join(f"uniform {t} {t}_; uniform {t} {t}_s[3];\n" for t in _TYPES)
    text = f"#version 330\n{declared}void main() {{ gl_Position = vec4(float_); }}\n"
    places = {m.name: m.name for m in members}
    data = DrawData(tuple(members), places, (), (), {}, {}, stride, 9, True, Store.TEXELS, Names())
    found = rewrite(Source(GL.VERTEX_SHADER, text, False), data, False)
    compile_glsl(found, GL.VERTEX_SHADER, Dialect())
    assert "uniform usamplerBuffer per_draw;" in found and "layout(std140)" not in found
    assert f"texelFetch(per_draw, draw_index * {stride // 16} + 0)" in found
    assert "vec2_ = uintBitsToFloat(per_draw_0.zw);" in found  # aligned to two words, after a float


def test_uniforms_become_variables_that_main_fills() -> None:
    text = (
        "#version 330\nuniform vec4 tint, other; // tint\nout vec4 c;\nvec4 f() { vec4 x = tint; return x; }\nvoid"
        " main() { c = f(); }\n"
    )
    made = _rewritten(text)
    assert "uniform vec4 other; vec4 tint; // tint" in made
    assert "void main() {\n    tint = per_draw[draw_index].tint; c = f(); }" in made
    assert "layout(std140) uniform PerDrawData { PerDraw per_draw[7]; };" in made and "flat in int draw_index;" in made


def test_look_ups_get_their_layer_whatever_stands_in_them() -> None:
    text = (
        "#version 330\nuniform sampler2D s; in vec2 uv; out vec4 c;\nvoid main() { c = texture(s, texture(s, uv.yx).xy"
        " + vec2(0.5, uv.y)) + texelFetch(s, ivec2(uv), 0) + vec4(textureSize(s, 0), 0, 0); }\n"
    )
    made = _rewritten(text, layers=("s",), places={})
    assert "texture(s, vec3(texture(s, vec3(uv.yx, float(s_layer))).xy + vec2(0.5, uv.y), float(s_layer)))" in made
    assert "texelFetch(s, ivec3(ivec2(uv), s_layer), 0)" in made and "textureSize(s, 0).xy" in made
    assert "uniform sampler2DArray s; int s_layer;" in made


def test_look_ups_on_a_page_are_moved_and_parts_of_structures_filled() -> None:
    text = (
        "#version 330\nstruct L { vec4 c; float f; };\nuniform L look[2]; uniform sampler2D s; in vec2 uv; out vec4"
        " c;\nvoid main() { c = texture(s, uv * 2.0) * look[1].c; }\n"
    )
    made = _rewritten(text, pages=("s",), places={"look_1_c": "look[1].c"})
    assert "texture(s, s_place.xy + clamp(uv * 2.0, 0.0, 1.0) * s_place.zw)" in made
    assert (
        "L look[2];" in made
        and "look[1].c = per_draw[draw_index].look_1_c;" in made
        and "uniform sampler2D s; vec4 s_place;" in made
    )
    with pytest.raises(TrialError, match="handed to texelFetch, which cannot be moved onto a page"):
        _rewritten(
            "#version 330\nuniform sampler2D s; void main() { vec4 c = texelFetch(s, ivec2(0), 0); }",
            pages=("s",),
            places={},
        )


@pytest.mark.parametrize(
    ("text", "layers", "says"),
    [
        ("uniform vec4 tint; vec4 twice = tint * 2.0; void main() { }", (), "computes twice from a uniform"),
        ("uniform vec4 tint; vec4 late() { return tint; }", (), "no main"),
        ("uniform sampler2D s; vec4 f(sampler2D t) { return vec4(0); } void main() { f(s); }", ("s",), "handed to f"),
        ("uniform sampler2D s; void main() { vec4 c = textureProj(s, vec3(1)); }", ("s",), "handed to textureProj"),
        (
            "uniform sampler2D s;\n#define LOOK texture(s, vec2(0))\nvoid main() { vec4 c = LOOK; }",
            ("s",),
            "used in a macro",
        ),
        ("uniform vec4 tint; void main() { { }", (), "brackets do not match"),
    ],
)
def test_what_cannot_be_rewritten_says_why(text: str, layers: tuple[str, ...], says: str) -> None:
    with pytest.raises(TrialError, match=says):
        _rewritten("#version 330\n" + text, layers=layers, places={} if layers else None)


def test_new_names_avoid_those_of_the_shaders() -> None:
    assert Names.free_of({"per_draw", "draw_index2"}).array == "per_draw3"


def test_std140_has_the_offsets_of_the_specification() -> None:
    rows = [
        ("a", GL.FLOAT, 1, False),
        ("b", GL.FLOAT_VEC3, 1, False),
        ("c", GL.FLOAT, 1, False),
        ("d", GL.FLOAT_MAT3, 1, False),
        ("e", GL.FLOAT, 3, True),
        ("f", GL.FLOAT_VEC2, 1, False),
    ]
    members, size = struct_layout(rows)
    assert [m.offset for m in members] == [0, 16, 28, 32, 80, 128] and size == 144
    assert len(pack(members[3], bytes(36))) == 48 and len(pack(members[4], bytes(12))) == 48


def test_uniform_values_follow_every_way_of_setting_them() -> None:
    batch = CallBatch()
    batch.call("glUseProgram", 1)
    batch.call("glUniform1fv", 10, 2, np.array([1, 2], np.float32).tobytes())
    batch.call("glUniform1f", 11, 5.0)
    batch.call("glProgramUniformMatrix2fv", 1, 20, 1, 1, np.array([1, 2, 3, 4], np.float32).tobytes())
    batch.call("glFlush")
    weights = UniformRecord("w[0]", GL.FLOAT, 3, [10, 11, 12], np.array([7, 8, 9], np.float32).tobytes())
    turn = UniformRecord("turn", GL.FLOAT_MAT2, 1, [20], bytes(16))
    record = ProgramRecord(1, [], uniforms=[weights, turn])
    frame = frame_of(batch)
    frame.objects.programs.append(record)
    assert np.frombuffer(uniform_value(frame, record, weights, 4), np.float32).tolist() == [1, 5, 9]
    assert np.frombuffer(uniform_value(frame, record, weights, 1), np.float32).tolist() == [7, 8, 9]
    assert np.frombuffer(uniform_value(frame, record, turn, 4), np.float32).tolist() == [
        1,
        3,
        2,
        4,
    ], "transposed as it was set"


def test_buffer_contents_follow_the_writes_of_the_frame() -> None:
    batch = CallBatch()
    batch.call("glBindBuffer", GL.ARRAY_BUFFER, 2)
    batch.call("glBufferSubData", GL.ARRAY_BUFFER, 4, 2, b"xy")
    batch.call("glBufferData", GL.ARRAY_BUFFER, 3, b"abc", GL.STATIC_DRAW)
    batch.call("glCopyBufferSubData", GL.COPY_READ_BUFFER, GL.ARRAY_BUFFER, 0, 0, 1)
    batch.call("glFlush")
    blobs = BlobStore()
    contents = BufferContents(frame_of(batch, objects(blobs), blobs))
    assert contents.at(2, 1)[4:6] != b"xy" and contents.at(2, 2)[4:6] == b"xy" and contents.at(2, 3) == b"abc"
    with pytest.raises(UnknownContentsError, match="glCopyBufferSubData"):
        contents.at(2, 4)


def test_primitives_come_apart_as_the_driver_takes_them() -> None:
    order = np.arange(5, dtype=np.uint32)
    assert triangles(GL.TRIANGLE_STRIP, order, None).tolist() == [[0, 1, 2], [2, 1, 3], [2, 3, 4]]
    assert triangles(GL.TRIANGLE_STRIP, np.array([0, 1, 2, 9, 3, 4, 5], np.uint32), 9).tolist() == [
        [0, 1, 2],
        [3, 4, 5],
    ]
    assert separate(GL.LINE_LOOP, order[:3], None)[1].tolist() == [0, 1, 1, 2, 2, 0]
    assert separate(GL.POINTS, np.array([1, 9, 2], np.uint32), 9)[1].tolist() == [1, 2]
    with pytest.raises(ValueError, match="patches"):
        separate(GL.PATCHES, order, None)


# ---- plans without a replay ------------------------------------------------------------------------------


def test_one_of_several_textures_is_read_by_its_number() -> None:
    text = (
        "#version 330\nuniform sampler2D s; in vec2 uv; out vec4 c;\nvoid main() { c = texture(s, texture(s, uv.yx).xy"
        " + vec2(0.5, uv.y), 1.0) + texelFetch(s, ivec2(uv), 0) + vec4(textureSize(s, 0), 0, 0); }\n"
    )
    made = _rewritten(text, places={}, several={"s": 3})
    assert "c = s_unit_texture(s_unit_texture(uv.yx).xy + vec2(0.5, uv.y), 1.0)" in made
    assert "uniform sampler2D s_unit0; uniform sampler2D s_unit1; uniform sampler2D s_unit2; int s_unit;" in made
    assert (
        "if (s_unit == 1) return texture(s_unit1, a0, a1);" in made and "s_unit = per_draw[draw_index].s_unit;" in made
    )
    compile_glsl(made, GL.FRAGMENT_SHADER, Dialect())
    with pytest.raises(TrialError, match="handed to shade, which cannot pick"):
        _rewritten(
            "#version 330\nuniform sampler2D s; out vec4 c; vec4 shade(sampler2D t) { return texture(t, vec2(0.0)); }\n"
            "void main() { c = shade(s); }\n",
            places={},
            several={"s": 2},
        )


def _plain_frame() -> OpenGLFrame:
    batch = CallBatch()
    for k in range(4):
        draw(batch, 1, 1 + k % 2, 1 + k, model=float(k), tint=float(k))
    blobs = BlobStore()
    return frame_of(batch, objects(blobs, meshes=2, textures=4), blobs)


def test_a_plan_says_what_to_write() -> None:
    frame = _plain_frame()
    new = NewObjects(frame)
    plan = plan_batch(frame, Part(MERGE, [0, 1, 2, 3]), new)
    titles = [c.title for c in plan.code]
    assert titles == ["Calls", "Data of each draw", "Vertex shader", "Fragment shader"]
    calls = plan.code[0].text
    assert (
        "glBufferSubData(GL_UNIFORM_BUFFER, 0, 384, data);" in calls
        and "glUseProgram(program_for_all);" in calls
        and "glBindTexture(GL_TEXTURE_2D_ARRAY, surface_array);" in calls
    )
    assert "     0  mat4 model;" in plan.code[1].text and "    80  int surface_layer;" in plan.code[1].text
    assert new.objects.textures[0].images[0].depth == 4 and plan.new_bytes > 4 * 8 * 8 * 4
    assert len(new.objects.vertex_arrays) == 1 and {a.index for a in new.objects.vertex_arrays[0].attributes} == {0, 15}


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda f: setattr(f.objects.programs[0], "binary", b"x"), "no source to rewrite"),
        (lambda f: setattr(f.objects.programs[0], "feedback_varyings", ["gl_Position"]), "feeds its vertices back"),
        (lambda f: setattr(f.objects.buffers[0], "contents", f.blobs.put(b"")), "beyond the end of its buffer"),
        (lambda f: setattr(f.objects.textures[0].images[0], "contents", None), "not known"),
        (
            lambda f: setattr(f.objects.textures[1].images[0], "internal_format", GL.RGB8),
            "no array: .* size or format; no atlas page: .* differ in format",
        ),
        (lambda f: setattr(f.objects.textures[1], "parameters", {}), "filtered or repeated differently"),
        (
            lambda f: f.context.limits.update(MAX_UNIFORM_BLOCK_SIZE=100, MAX_TEXTURE_BUFFER_SIZE=7),
            "uniform block here has 100, and a buffer texture 112",
        ),
    ],
)
def test_what_cannot_be_drawn_together_says_why(change: object, says: str) -> None:
    frame = _plain_frame()
    change(frame)  # type: ignore[operator]
    with pytest.raises(TrialError, match=says):
        plan_batch(frame, Part(MERGE, [0, 1, 2, 3]), NewObjects(frame))


def test_a_hostile_remedy_is_refused() -> None:
    frame = _plain_frame()
    for parts in ([Part(MERGE, [0, 99])], [Part(MERGE, [0, 1]), Part(MERGE, [1, 2])], [Part(MERGE, [-1, 2])]):
        with pytest.raises(TrialError):
            change_of(frame, [Remedy("batch", [], parts=parts)]).edit()


def test_in_order_splits_a_batch_where_others_lie_between() -> None:
    found = in_order(Remedy("batch", [1, 2, 5, 7, 8], parts=[Part(MERGE, [1, 2, 5, 7, 8])]))
    assert found is not None and [p.steps for p in found.parts] == [[1, 2], [7, 8]] and found.steps == [1, 2, 7, 8]
    assert in_order(Remedy("batch", [1, 2], parts=[Part(MERGE, [1, 2])])) is None


# ---- on running programs -----------------------------------------------------------------------------------


def _finding(steps: list[int], parts: list[Part], name: str = "batch") -> Finding:
    return Finding(name, "test", "", "", steps, {}, None, "", "", "", Remedy("batch", steps, parts=parts))


@pytest.mark.parametrize("kind", ["core", "old", "es"])
def test_every_batch_of_a_running_program_is_drawn_together(capture: Capture, kind: str) -> None:
    path, frame = capture(program("crowd", kind))
    found = find_batches(Sharing(frame)).batches
    hows = {(c.how, bool(c.samplers)) for c in found}
    assert hows >= {(INSTANCE, False), (MERGE, False), (MERGE, True)} and {c.gather for c in found} >= {SAME, UNITS}
    with Replay(path) as replay:
        for batch in found:
            proof = prove(path, frame, [_finding(batch.steps, parts_of(batch))], replay, seconds=3)
            assert (
                proof.verdict in (Verdict.SAVES, Verdict.COSTS, Verdict.NO_DIFFERENCE, Verdict.NOISE)
                and proof.pixels_different == 0
            ), (
                batch,
                proof.summary,
            )
            assert proof.in_order == (not batch.in_order), "surfaces of one depth keep their order"
            assert proof.steps_after < proof.steps_before and proof.submit_saved_ms is not None
            assert proof.steps_after == len(frame.steps) - batch.saved or proof.in_order


def test_what_must_keep_its_order_is_never_called_identical(capture: Capture) -> None:
    path, frame = capture(program("crowd", "core"))
    ties = [s for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "draw" and frame.steps.vertices[s] == 4]
    first = next(
        s
        for s in ties
        if frame.steps.program[s] != frame.steps.program[s + 1] and frame.steps.program[s] == frame.steps.program[s + 2]
    )
    alone = [first, first + 2, first + 4]
    with Replay(path) as replay:
        proof = prove(path, frame, [_finding(alone, [Part(MERGE, alone)])], replay, seconds=3)
    assert proof.verdict == Verdict.CHANGES and proof.pixels_different > 0 and not proof.in_order


def test_ranges_of_one_buffer_are_one_call(capture: Capture) -> None:
    path, frame = capture(program("crowd", "core"))
    ranges = [
        s
        for s in range(len(frame.steps))
        if frame.steps.kind_name(s) == "draw"
        and frame.steps.vertices[s] == 3
        and frame.calls.command(int(frame.steps.call[s])).name == "glDrawArrays"
    ]
    ranges = [s for s in ranges if s + 1 in ranges or s - 1 in ranges][-8:]
    with Replay(path) as replay:
        proof = prove(path, frame, [_finding(ranges, [Part(MULTI_DRAW, ranges)])], replay, seconds=3)
    assert proof.pixels_different == 0 and proof.steps_after == proof.steps_before - 7 and proof.new_bytes == 0


def test_a_part_that_cannot_be_drawn_is_left_out_and_named(capture: Capture, tmp_path: Path) -> None:
    path, frame = capture(program("crowd", "core"))
    batch = find_batches(Sharing(frame)).batches[0]
    clear = next(s for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "clear")
    parts = [Part(batch.how, batch.steps), Part(MERGE, [clear, len(frame.steps) - 1])]
    with Replay(path) as replay:
        proof = prove(path, frame, [_finding([*batch.steps, clear], parts)], replay, seconds=3)
        assert proof.pixels_different == 0 and proof.left_out == [
            f"2 steps from {clear} on: only single draws can be drawn together"
        ]
        refused = prove(path, frame, [_finding([clear], parts[1:], "refused")], replay, seconds=3)
    assert refused.verdict == Verdict.REFUSED and "only single draws" in refused.reason


def test_findings_of_the_program_hold_together(capture: Capture, tmp_path: Path) -> None:
    captured, _ = capture(program("crowd", "core"))
    path = Path(shutil.copy(captured, tmp_path / "crowd.wend"))
    found = examine_file(path, repeats=2)
    rules = {f.rule for f in found.findings}
    assert {"copies", "mergeable", "textured-batch"} <= rules, rules
    _, findings = stored_examination(path)
    assert msgspec.to_builtins(findings) == msgspec.to_builtins(found.findings), "kept with all their parts"
    with Replay(path) as replay:
        wanted = [f for f in findings if f.kept_rule.page in ("Batching", "State")]
        reached = prove_all(path, load(path), wanted, replay, seconds=3)
        proofs, combined = reached.proofs, reached.combined
        asked = best_set([f for f in wanted if f.remedy is not None], lambda f: float(len(f.steps)))
        everything = prove(path, load(path), asked, replay, seconds=3)
    assert combined is None or (len(combined.together) > 1 and combined.pixels_different == 0)
    assert everything.pixels_different == 0 and everything.steps_after <= 22, everything.summary
    assert all(isinstance(p, Proof) and (p.pixels_different == 0 or p.verdict == Verdict.CHANGES) for p in proofs)


def test_blocks_that_cannot_be_taken_apart_say_why() -> None:
    for text, says in (
        ("uniform B { vec4 a; };", "not declared as std140"),
        ("layout(std140, row_major) uniform B { mat4 a; };", "row by row"),
        ("struct S { vec4 x; }; layout(std140) uniform B { S a; };", "is a structure"),
        ("layout(std140) uniform B { vec4 a; } list[2];", "not declared as std140"),
    ):
        with pytest.raises(UnclearSourceError, match=says):
            block_layout(ProgramRecord(1, [ShaderRecord(GL.VERTEX_SHADER, "#version 330\n" + text)]), "B", Dialect())
    told = block_layout(
        ProgramRecord(
            1,
            [
                ShaderRecord(
                    GL.VERTEX_SHADER,
                    "#version 330\nlayout(std140) uniform B { highp vec3 a; /* x */ float b[2]; } one;",
                )
            ],
        ),
        "B",
        Dialect(),
    )
    assert (told.instance, told.bytes, told.last_byte) == ("one", 48, 36) and [m.offset for m in told.members] == [
        0,
        16,
    ]


def test_the_command_line_proves_one_and_writes_its_code(capture: Capture, tmp_path: Path) -> None:
    captured, _ = capture(program("crowd", "core"))
    path = Path(shutil.copy(captured, tmp_path / "crowd.wend"))
    identity = next(f.id for f in examine_file(path, repeats=2).findings if f.rule == "copies")
    answered = run("prove", path, "--finding", identity, "--seconds", "3", "--code", tmp_path / "code", "--json")
    proof = json.loads(answered.stdout)["proofs"][0]
    assert answered.returncode == (0 if proof["verdict"] in SHOWN else 1)
    assert (
        proof["pixels_different"] == 0
        and proof["steps_after"] < proof["steps_before"]
        and proof["submit_saved_ms"]["low"] <= proof["submit_saved_ms"]["high"]
    )
    names = {p.name for p in (tmp_path / "code" / identity).iterdir()}
    assert names == {"calls.c", "data-of-each-draw.txt", "vertex-shader.vert", "fragment-shader.frag"}
    assert "gl_InstanceID" in (tmp_path / "code" / identity / "vertex-shader.vert").read_text()


def test_each_of_two_windows_reaches_its_fewest_draws(capture: Capture) -> None:
    """Twelve rows of two draws in each: two draws a window, and both pictures stay."""
    path, frame = capture(program("two_lists"))
    with Replay(path) as replay:
        drawn = replay.run(measure_drawn.asked())
        plans = [f for f in find(Case(frame, drawn, None)) if f.rule == "draw-plan"]
        (whole,) = [f for f in plans if f.id == "draw-plan"]
        plans.remove(whole)
        assert (whole.draws_now, whole.draws_together) == (48, 4)
        assert replay.run(outcome_of.asked([whole.remedy] if whole.remedy else [])).same
        assert [(f.evidence["draws now"], f.evidence["draws then"]) for f in plans] == [(24, 2), (24, 2)]
        together = replay.run(outcome_of.asked([f.remedy for f in plans if f.remedy]))
    assert together.same, together


def test_a_stream_of_small_uploads_is_followed_in_the_time_of_the_uploads() -> None:
    """Forwards, backwards and in between, against each write carried out by hand; what is kept stays small."""
    blobs, batch, count = BlobStore(), CallBatch(), 300
    batch.call("glBindBuffer", GL.ARRAY_BUFFER, 1)
    places = np.random.default_rng(5).integers(0, 280, count).tolist()
    for number, at in enumerate(places):
        batch.call("glBufferSubData", GL.ARRAY_BUFFER, at, 8, number.to_bytes(8, "little"))
    frame = frame_of(batch, objects(blobs), blobs)
    held = bytearray(frame.buffer_contents.at(1, 0))
    states = [bytes(held)]
    for number, at in enumerate(places):
        if at + 8 <= len(held):
            held[at : at + 8] = number.to_bytes(8, "little")
        states.append(bytes(held))
    assert frame.buffer_contents.part(1, count + 1, 3, 5) == (len(held), bytes(held[3:8]))
    for asked in (0, 299, 7, 8, 150, 149, 300, 1):
        assert frame.buffer_contents.at(1, asked + 1) == states[asked], asked
    work: list[int] = []
    real = BufferContents._written

    def counted(self: BufferContents, data: bytearray, call: int) -> bytearray:
        work.append(call)
        return real(self, data, call)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(BufferContents, "_written", counted)
        fresh = BufferContents(frame)
        for asked in range(count):
            fresh.part(1, asked + 1, 0, 4)
    assert len(work) < 2 * count, "not each time from the beginning"

"""Shaders looked into: upgraded, compiled, costed line by line; findings with their lines; sources edited and tried."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import load_opengl
from wendascope import records
from wendascope.advice.findings import Case, Finding, find
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.shaders.cost import ShaderCost, shader_cost
from wendascope.analysis.shaders.study import shaders_answer, study_shaders
from wendascope.backends.opengl.changes.baking import baked, constant_texts
from wendascope.desktop.pages.shaders import ShadersPage
from wendascope.desktop.window.main_window import MainWindow
from wendascope.errors import MachineError, ReplayCrashedError, TrialError
from wendascope.frame.remedy import EditedSource, Remedy
from wendascope.glsl.compiler import CompileError, compile_glsl
from wendascope.glsl.preprocessor import Dialect
from wendascope.glsl.spirv import MAGIC, BadModuleError, read_module
from wendascope.glsl.upgrade import upgraded
from wendascope.measure.pictures import verify
from wendascope.registry import GL
from wendascope.replay.client import Replay
from wendascope.trials.proofs.proof import prove
from wendascope.trials.proofs.runs import edited_picture
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey.examine import stored_examination

from .conftest import DATA, Capture, program

PATIENCE = 60_000


def _cost(body: str, head: str = "", uniforms: dict[str, Any] | None = None) -> ShaderCost:
    """Of a fragment shader whose main begins in line 4."""
    source = (
        f"#version 450\nin vec2 uv; uniform sampler2D s; uniform float u; uniform int n; out vec4 c; {head}\nvoid"
        f" main() {{\n{body}\n}}\n"
    )
    return shader_cost(
        read_module(compile_glsl(source, GL.FRAGMENT_SHADER, Dialect())), guidelines().operations, uniforms or {}
    )


# ---- sources of any version ------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("stage", "es", "source"),
    [
        (
            GL.VERTEX_SHADER,
            False,
            (
                "void main() { gl_Position = ftransform(); gl_TexCoord[0] = gl_TextureMatrix[0] * gl_MultiTexCoord0;"
                " gl_FrontColor = gl_Color; }"
            ),
        ),
        (
            GL.FRAGMENT_SHADER,
            False,
            (
                "#version 120\nuniform sampler2D t; varying vec2 v; void main() { vec4 sample = texture2D(t, v);"
                " gl_FragData[0] = sample * gl_Color; }"
            ),
        ),
        (
            GL.FRAGMENT_SHADER,
            False,
            (
                "#version 110\nuniform sampler2DShadow t; void main() { gl_FragColor = shadow2D(t, vec3(0.5)) +"
                " gl_LightSource[0].diffuse + gl_Fog.color; }"
            ),
        ),
        (
            GL.VERTEX_SHADER,
            True,
            "attribute vec4 a; varying mediump vec2 v; void main() { v = a.xy; gl_Position = a; }",
        ),
        (
            GL.FRAGMENT_SHADER,
            True,
            (
                "#extension GL_OES_standard_derivatives : require\nprecision mediump float;\nvarying vec2 v; void"
                " main() { gl_FragColor = vec4(dFdx(v), 0.0, 1.0); }"
            ),
        ),
        (
            GL.FRAGMENT_SHADER,
            True,
            (
                "#version 300 es\nprecision highp float;\nuniform lowp sampler2D t; in vec2 v; out vec4 o; void main()"
                " { o = texture(t, v); }"
            ),
        ),
        (
            GL.FRAGMENT_SHADER,
            False,
            "#version 150 compatibility\nvarying vec3 n; void main() { gl_FragColor = vec4(normalize(n), 1.0); }",
        ),
        (
            GL.COMPUTE_SHADER,
            False,
            (
                "#version 430\nlayout(local_size_x = 8) in; layout(std430, binding = 0) buffer B { float v[]; }; void"
                " main() { v[gl_GlobalInvocationID.x] *= 2.0; }"
            ),
        ),
    ],
)
def test_glsl_of_any_version_is_compiled(stage: int, es: bool, source: str) -> None:
    assert read_module(compile_glsl(source, stage, Dialect(es))).entry


def test_lines_stay_what_they_are_and_errors_name_theirs() -> None:
    source = "// a\n#version 110\nvarying vec2 v;\nvoid main() {\n  gl_FragColor = vec4(v, nothing, 1.0);\n}\n"
    with pytest.raises(CompileError) as told:
        compile_glsl(source, GL.FRAGMENT_SHADER, Dialect())
    assert told.value.errors[0][0] == 5 and "nothing" in told.value.errors[0][1]
    assert upgraded("#version 460 core\nvoid main() {}\n", GL.FRAGMENT_SHADER, False).startswith(
        "#version 460 core\n#line 1\n\nvoid"
    )


@pytest.mark.parametrize("name", ["crowd core", "crowd old", "crowd es", "wasteful", "everything", "stages"])
def test_every_shader_of_our_programs_is_understood(capture: Capture, name: str) -> None:
    _, frame = capture(program(*name.split()))
    studied = study_shaders(Sharing(frame))
    failed = [(p.program, s.name, s.error) for p in studied for s in p.stages if s.cost is None]
    assert studied and not failed


def test_the_demo_is_understood_whole() -> None:
    frame = load_opengl(DATA / "depot.wend")
    studied = study_shaders(Sharing(frame))
    assert len(studied) == 9 and all(s.cost is not None for p in studied for s in p.stages)
    assert "(modelled)" in shaders_answer(studied)[0] and shaders_answer([])[0] == "No draw uses a program."


# ---- modules ----------------------------------------------------------------------------------------------


@settings(max_examples=200, deadline=None)
@given(st.lists(st.integers(0, 0xFFFFFFFF), max_size=40))
def test_any_words_are_a_module_or_refused(words: list[int]) -> None:
    data = b"".join(w.to_bytes(4, "little") for w in [MAGIC, 0x10000, 0, 100, 0, *words])
    try:
        module = read_module(data)
    except BadModuleError:
        return
    shader_cost(module, guidelines().operations, {})


def test_damaged_modules_are_refused() -> None:
    good = compile_glsl("#version 450\nvoid main() {}\n", GL.FRAGMENT_SHADER, Dialect())
    for bad in (b"", good[:10], b"\0" * 40, good[:-4]):
        with pytest.raises(BadModuleError):
            read_module(bad)


# ---- cost -------------------------------------------------------------------------------------------------


def test_lines_cost_what_their_operations_do() -> None:
    table = guidelines().operations
    found = _cost("float a = sin(uv.x);\nc = texture(s, uv);\nc *= a + uv.y;")
    assert found.lines[4] == table.transcendental and found.lines[5] == table.fetch and found.lines[6] == 5.0
    assert found.fetches == 1 and found.total == sum(found.lines.values())


def test_loops_multiply_by_constants_and_by_uniform_values() -> None:
    body = "float a = 0.0;\nfor (int i = 0; i < {0}; i++)\n  a += sin(uv.x * float(i));\nc = vec4(a);"
    once = guidelines().operations.transcendental
    known = _cost(body.format(7))
    assert known.loops[0].trips == 7 and known.lines[6] > 7 * once and known.loops[0].line == 5
    by_uniform = _cost(body.format("n"), uniforms={"n": 12})
    assert by_uniform.loops[0].trips == 12 and by_uniform.loops[0].by_uniform == "n"
    unknown = _cost(body.format("n"))
    assert unknown.loops[0].trips is None and not unknown.certain
    nested = _cost(
        "float a = 0.0;\nfor (int i = 3; i >= 0; i--)\nfor (int k = 0; k < 10; k += 2)\n  a += sin(uv.x);\nc = vec4(a);"
    )
    assert nested.lines[7] >= 4 * 5 * once and sorted(loop.trips or 0 for loop in nested.loops) == [4, 5]


def test_branches_that_uniforms_decide_show_their_idle_side() -> None:
    body = "c = vec4(uv, 0, 1);\nif (u > 0.0) {\n  c += vec4(sin(uv.x));\n}"
    off, on = _cost(body, uniforms={"u": 0.0}), _cost(body, uniforms={"u": 1.0})
    assert [(b.line, b.taken, b.uniform) for b in off.branches] == [(5, False, "u")] and off.branches[0].cost > 12
    assert 6 not in off.lines and on.lines[6] > 12 and on.branches == []
    assert _cost(body).lines[6] == on.lines[6], "undecided: both sides count"


def test_what_uniforms_alone_decide_is_told_by_line() -> None:
    found = _cost("float t = u * 2.0;\nvec3 d = normalize(vec3(sin(t), cos(t), 0.0));\nc = vec4(d * uv.x, 1.0);")
    assert set(found.uniform_only) == {4, 5} and found.uniform_only[5] == found.lines[5]
    assert found.lines[6] > 0 and 6 not in found.uniform_only


def test_powers_and_repeated_look_ups_are_noted() -> None:
    found = _cost(
        "c = pow(vec4(uv, 1, 1), vec4(2.0));\nc += texture(s, uv * 0.5);\nc += texture(s, uv * 0.5);\nc += texture(s,"
        " uv);"
    )
    assert found.powers == [(4, 2.0)] and found.repeated_fetches == [6]


# ---- findings and remedies -----------------------------------------------------------------------------------


def _findings(name: str) -> list[Finding]:
    path = DATA / name
    frame, survey = load_opengl(path), records.SURVEY.newest(path)
    drawn, _ = stored_examination(path)
    assert drawn is not None and survey is not None
    return [
        f
        for f in find(Case(frame, drawn, survey.steps.ms, [p.ms for p in survey.passes]))
        if f.kept_rule.page == "Shaders"
    ]


def test_planted_flaws_are_found_with_their_lines() -> None:
    source = next(
        s.source
        for p in load_opengl(DATA / "depot.wend").objects.programs
        if p.name == 1
        for s in p.shaders
        if s.type == GL.FRAGMENT_SHADER
    ).splitlines()
    found = {(f.rule, f.program): f for f in _findings("depot.wend")}
    sky = found["uniform-expression", 1]
    assert any("sin(turn)" in source[line - 1] for line in sky.lines)
    snow = found["unused-feature", 1]
    assert "if (snow > 0.0)" in source[snow.lines[0] - 1] and snow.remedy is not None and snow.estimate_ms
    assert found["long-loop", 28].evidence["iterations"] == 10 and "rounds" in found["long-loop", 28].title
    assert "unused_detail" in found["unused-varying", 1].title
    assert any(f.rule == "plain-texture" and "roughness_map" in f.title for f in _findings("depot.wend"))
    assert {f.steps[0] for f in _findings("depot.wend") if f.rule == "fine-full-screen"} >= {982, 983, 984}
    better = {(f.rule, f.program) for f in _findings("depot-better.wend")}
    assert not {("uniform-expression", 1), ("unused-feature", 1), ("unused-varying", 1)} & better


def test_without_a_compiler_other_findings_are_found_all_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("shutil.which", lambda _name: None)
    compile_glsl.cache_clear()
    path = DATA / "depot.wend"
    survey, (drawn, _) = records.SURVEY.newest(path), stored_examination(path)
    assert survey is not None and drawn is not None
    case = Case(load_opengl(path), drawn, survey.steps.ms)
    rules = {f.rule for f in find(case)}
    assert "copies" in rules and "unused-feature" not in rules
    with pytest.raises(MachineError, match="install the package glslang-tools"):
        case.study_shaders()


def test_constants_are_written_as_glsl_and_nothing_else_changes() -> None:
    source = "#version 330\nuniform float u, v; uniform vec2 w; // u\nuniform int n;\nvoid main() { float x = u; }\n"
    made = baked(source, {"u": "0.5", "n": "3"})
    assert (
        made
        == "#version 330\nuniform float v; const float u = 0.5; uniform vec2 w; // u\nconst int n = 3;\nvoid main() {"
        " float x = u; }\n"
    )
    with pytest.raises(TrialError, match="cannot be rewritten"):
        baked("void main() {", {"u": "1.0"})


def test_values_of_the_frame_are_exact(capture: Capture) -> None:
    frame = load_opengl(DATA / "depot.wend")
    record = frame.objects.program(28)
    assert record is not None
    texts = constant_texts(frame, record, [989], {})
    assert (
        texts["rounds"] == "10"
        and float(texts["exposure"]) == pytest.approx(0.85)
        and constant_texts(frame, record, [989], {"rounds": 4})["rounds"] == "4"
    )


def _edit(steps: list[int], name: int, text: str) -> Finding:
    remedy = Remedy("edit-shader", steps, program=name, sources=[EditedSource(GL.FRAGMENT_SHADER, text)])
    return Finding("edit", "test", "", "", steps, {}, None, "", "", "", remedy)


@pytest.mark.parametrize("kind", ["core", "old", "es"])
def test_edited_shaders_draw_and_bad_ones_are_refused(capture: Capture, kind: str) -> None:
    path, frame = capture(program("crowd", kind))
    used = sorted({int(p) for p in frame.steps.program})
    record = next(
        p for p in frame.objects.programs if p.name in used and any("colour.rgb" in s.source for s in p.shaders)
    )
    source = next(s.source for s in record.shaders if s.type == GL.FRAGMENT_SHADER)
    steps = [
        s
        for s in range(len(frame.steps))
        if int(frame.steps.program[s]) == record.name and frame.steps.kind_name(s) == "draw"
    ]
    with Replay(path) as replay:
        same = prove(
            path,
            frame,
            [_edit(steps, record.name, source.replace("colour.rgb * shade()", "shade() * colour.rgb"))],
            replay,
            seconds=3,
        )
        other = prove(
            path, frame, [_edit(steps, record.name, source.replace("colour.rgb", "colour.bgr"))], replay, seconds=3
        )
        broken = prove(
            path, frame, [_edit(steps, record.name, source.replace("colour.rgb", "color.rgb"))], replay, seconds=3
        )
        after = prove(path, frame, [_edit(steps, record.name, source)], replay, seconds=3)
    assert same.pixels_different == 0 and other.pixels_different > 50 and after.pixels_different == 0
    assert broken.verdict == Verdict.REFUSED and "color" in broken.reason, "in the driver's own words"


def test_a_shader_that_does_not_end_is_stopped_and_nothing_is_harmed(capture: Capture) -> None:
    path, frame = capture(program("crowd", "core"))
    record = next(p for p in frame.objects.programs if any("colour.rgb" in s.source for s in p.shaders))
    source = next(s.source for s in record.shaders if s.type == GL.FRAGMENT_SHADER)
    # Mesa's software driver breaks a loop off after a bounded number of turns, so each turn has to be dear as well
    turn = "sin(" * 32 + "w" + ")" * 32
    endless = source.replace(
        "void main() {",
        "void main() { float w = colour.a; for (int a = 0; a < 2000000000; a++) for (int b = 0; b < 2000000000; b++)"
        f" w += {turn}; if (w == 0.1) discard;",
    )
    remedies = [[EditedSource(GL.FRAGMENT_SHADER, text)] for text in (endless, source)]
    asked = [[Remedy("edit-shader", [], program=record.name, sources=sources)] for sources in remedies]
    before = path.read_bytes()
    with Replay(path) as replay:
        replay.run(verify.asked())
        with pytest.raises(ReplayCrashedError, match="stood still for 2 s"):
            replay.run(edited_picture.asked(remedies=asked[0], passes=[]), silent_seconds=2.0)
        again = replay.run(edited_picture.asked(remedies=asked[1], passes=[]), silent_seconds=60.0)
        assert not again.different.any(), "it was started again"
    assert path.read_bytes() == before


# ---- the page ---------------------------------------------------------------------------------------------


@pytest.fixture
def opened(window: MainWindow, capture: Capture, tmp_path: Path, qtbot: Any) -> MainWindow:
    path, _ = capture(program("crowd", "core"))
    window.open_files([Path(shutil.copy(path, tmp_path / "crowd.wend"))])
    window.show_page("Shaders")
    page = window.page("Shaders")
    assert isinstance(page, ShadersPage)
    qtbot.waitUntil(lambda: page.table.rows.rowCount() > 0, timeout=PATIENCE)
    return window


def test_a_shader_is_edited_tried_and_reverted(opened: MainWindow, qtbot: Any) -> None:
    page = opened.page("Shaders")
    assert isinstance(page, ShadersPage)
    page.table.choose_program(
        next(row.program.program for row in page.table.rows.rows if "colour.rgb" in row.program.stages[1].source)
    )
    source = page.source
    assert (
        source.stage.currentText() == "fragment shader"
        and not source.attempt.isEnabled()
        and "modelled" in source.note.text()
    )
    captured = source.editor.toPlainText()
    source.editor.setPlainText(captured.replace("colour.rgb", "colour.bgr"))
    assert source.attempt.isEnabled() and source.revert.isEnabled()
    source.attempt.click()
    qtbot.waitUntil(lambda: "measured once" in source.note.text(), timeout=PATIENCE)
    assert "pixels differ" in source.note.text() and "edited" in opened.picture.title.text()
    source.editor.setPlainText(captured.replace("colour.rgb", "color.rgb"))
    source.attempt.click()
    assert source.note.text().startswith("Does not compile: line ") and source.editor._errors
    source.revert.click()
    assert source.editor.toPlainText() == captured and not source.attempt.isEnabled()
    assert opened.workspace.current is not None and not opened.workspace.current.proofs, (
        "nothing is kept of what was only tried"
    )

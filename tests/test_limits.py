"""What limits a shader: experiments on captured programs, what they leave as it was, and the answer that follows."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.conftest import load_opengl
from wendascope.advice.findings import Case, Finding, find
from wendascope.advice.findings.shaders import unused_outputs
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.shaders.cost import shader_cost
from wendascope.analysis.shaders.flow import Flow, shader_flow
from wendascope.analysis.shaders.study import ProgramStudy, study_shaders
from wendascope.analysis.time.limits import (
    BAKED,
    CUT,
    FLAT,
    LEFT_OUT,
    NO_LOOKUPS,
    ONE_TEXEL,
    TINY,
    TITLES,
    limit_answer,
    limit_of,
)
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.errors import ReplayCrashedError, TrialError
from wendascope.frame.remedy import EditedSource, Remedy
from wendascope.glsl.compiler import compile_glsl
from wendascope.glsl.preprocessor import Dialect
from wendascope.glsl.spirv import read_module
from wendascope.measure.pictures import verify
from wendascope.registry import GL
from wendascope.replay.client import Replay
from wendascope.trials.experiments.limit_runs import measure_variants
from wendascope.trials.experiments.limits import find_limits, stored_limits
from wendascope.trials.proofs.proof import measured_proof
from wendascope.trials.proofs.runs import Edited, edited_picture
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey.examine import examine_file

from .conftest import DATA, Capture, program
from .test_cli import result, run

KINDS = ["core", "old", "es"]


@pytest.fixture(scope="module")
def shades(capture: Capture) -> dict[str, tuple[Path, OpenGLFrame]]:
    return {kind: capture(program("shades", kind)) for kind in KINDS}


def _steps(frame: OpenGLFrame, words: str) -> tuple[int, list[int]]:
    """(program, its steps) of the program whose fragment shader has some words."""
    record = next(
        p for p in frame.objects.programs if any(words in s.source for s in p.shaders if s.type == GL.FRAGMENT_SHADER)
    )
    return record.name, [
        s
        for s in range(len(frame.steps))
        if int(frame.steps.program[s]) == record.name and frame.steps.kind_name(s) == "draw"
    ]


def _edited(replay: Replay, *remedies: Remedy) -> Edited:
    return replay.run(edited_picture.asked(remedies=list(remedies), passes=[]))


def _largest(found: Edited) -> int:
    return int(np.abs(found.before.astype(np.int16) - found.after).max())


# ---- the answer ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("saved", "what"),
    [
        ({TINY: 0.99, FLAT: 0.92, NO_LOOKUPS: 0.3, ONE_TEXEL: 0.01, CUT: 0.5}, "arithmetic in its loops"),
        ({TINY: 0.99, FLAT: 0.92, NO_LOOKUPS: 0.3, ONE_TEXEL: 0.01, CUT: 0.1}, "arithmetic"),
        ({TINY: 0.99, FLAT: 0.8, NO_LOOKUPS: 0.7, ONE_TEXEL: 0.1}, "texture sampling"),
        ({TINY: 0.99, FLAT: 0.8, NO_LOOKUPS: 0.7, ONE_TEXEL: 0.5}, "waiting for texels"),
        ({TINY: 0.99, FLAT: 0.8, NO_LOOKUPS: 0.7, ONE_TEXEL: 0.1, CUT: 0.7}, "texture sampling in its loops"),
        ({TINY: 0.95, FLAT: 0.82, NO_LOOKUPS: 0.43, ONE_TEXEL: 0.09, CUT: 0.25}, "texture sampling"),
        ({TINY: 0.2, FLAT: 0.1}, "its vertices and calls"),
        ({TINY: 0.95, FLAT: 0.2}, "rasterisation, tests and blending"),
        ({FLAT: 0.1}, "its vertices, its calls or its pixel output"),
        ({FLAT: 0.8}, "arithmetic"),
        ({BAKED: 0.5}, ""),
    ],
)
def test_the_largest_part_binds(saved: dict[str, float], what: str) -> None:
    assert limit_of(saved)[0] == what


def test_the_answer_names_the_experiments_that_show_it() -> None:
    told = limit_answer("grade", {TINY: 1.0, FLAT: 0.92, NO_LOOKUPS: 0.2, ONE_TEXEL: 0.001}, True)
    assert (
        told
        == "Grade is bound by arithmetic: flat colour saves 92 %, constants for texture samples save 20 %, one-texel"
        " textures save nothing of its draw time."
    )
    assert "too little time" in limit_answer("grade", {TINY: 1.0}, False)
    assert "cannot be told" in limit_answer("grade", {BAKED: 1.0}, True)


# ---- experiments -----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", KINDS)
def test_every_experiment_is_made_or_says_why_not(shades: dict[str, tuple[Path, OpenGLFrame]], kind: str) -> None:
    path, frame = shades[kind]
    number, _ = _steps(frame, "float(1)")
    study = next(s for s in study_shaders(Sharing(frame)) if s.program == number)
    with Replay(path) as replay:
        found = find_limits(path, study, replay, repeats=6)
        alone = find_limits(path, study, replay, steps=study.steps[:1], repeats=6)
        assert replay.run(verify.asked()).identical, "nothing of the experiments is left behind"
    by_name = {e.name: e for e in found.experiments}
    assert set(by_name) == set(TITLES) and all(e.saved_ms is not None and not e.refused for e in found.experiments)
    assert by_name[BAKED].pixels_different == 0 or by_name[BAKED].max_difference <= 1
    assert all(by_name[name].pixels_different > 500 for name in (LEFT_OUT, TINY, FLAT, NO_LOOKUPS))
    assert by_name[CUT].remedies[0].loops and by_name[CUT].pixels_different
    kept = stored_limits(path)
    assert kept[number,] == found and kept[number, study.steps[0]] == alone
    left_out = next(e for e in alone.experiments if e.name == LEFT_OUT)
    assert 0 < left_out.pixels_different < by_name[LEFT_OUT].pixels_different, "one step alone"


def test_what_cannot_be_tried_is_refused_by_name(shades: dict[str, tuple[Path, OpenGLFrame]]) -> None:
    path, frame = shades["core"]
    study = next(s for s in study_shaders(Sharing(frame)) if s.program == _steps(frame, "tint.rgb")[0])
    with Replay(path) as replay:
        found = {e.name: e for e in find_limits(path, study, replay, repeats=6).experiments}
    assert (
        CUT not in found
        and "looks nothing up" in found[NO_LOOKUPS].refused
        and "read no textures" in found[ONE_TEXEL].refused
    )


def test_limits_on_the_command_line(shades: dict[str, tuple[Path, OpenGLFrame]]) -> None:
    path, frame = shades["core"]
    number, steps = _steps(frame, "float(2)")
    told = result("limits", path, "--step", steps[0], "--repeats", 6)
    assert told["program"] == number and told["steps"] == steps[:1] and told["answer"].startswith(f"Program {number} (")
    for arguments, said in ((["--step", 0], "no draw"), (["--program", 999], "no step draws with program 999")):
        done = run("limits", path, *arguments)
        assert done.returncode == 2 and said in done.stderr
    listed = result("shaders", path)["programs"]
    assert number in [row["program"] for row in listed] and all(row["fragment_cost"] is not None for row in listed)


# ---- remedies on captured programs -----------------------------------------------------------------------------


@pytest.mark.parametrize(
    "name", ["shades core", "shades old", "shades es", "crowd core", "crowd old", "crowd es", "wasteful", "everything"]
)
def test_state_is_put_back_after_every_step(capture: Capture, name: str) -> None:
    """A viewport as large as it was changes nothing; a flat colour changes its own steps only."""
    path, frame = capture(program(*name.split()))
    draws = [s for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "draw"]
    with Replay(path) as replay:
        assert not _edited(replay, Remedy("smaller-viewport", draws, divide=1)).different.any()


@pytest.mark.parametrize("kind", KINDS)
def test_remedies_keep_the_picture_or_change_what_they_say(
    shades: dict[str, tuple[Path, OpenGLFrame]], kind: str
) -> None:
    path, frame = shades[kind]
    number, steps = _steps(frame, "float(1)")
    other, _ = _steps(frame, "float(2)")
    lines = list(range(1, 40))
    loop = next(
        k
        for k, text in enumerate(
            next(
                s.source for p in frame.objects.programs if p.name == number for s in p.shaders if "rounds" in s.source
            ).splitlines(),
            1,
        )
        if "for (" in text
    )
    sheet, sheet_steps = _steps(frame, "tint.rgb")
    grey = [t.name for t in frame.objects.textures if t.images and t.images[0].width == 64]
    with Replay(path) as replay:
        moved = _edited(replay, *(Remedy("move-to-vertices", [], program=p, lines=lines) for p in (number, other)))
        packed = _edited(replay, Remedy("pack-channels", [], textures=grey))
        together = _edited(
            replay,
            Remedy("bake-uniforms", steps, program=number),
            Remedy("pack-channels", [], textures=grey),
            Remedy("move-to-vertices", [], program=other, lines=lines),
        )
        all_rounds, fewer = (_edited(replay, Remedy("cut-loops", [], program=number, loops={loop: k})) for k in (9, 2))
        same_size, half = (_edited(replay, Remedy("half-size", sheet_steps, divide=k)) for k in (1, 2))
    assert _largest(moved) <= 1 and _largest(packed) == 0 and _largest(together) <= 1
    assert _largest(all_rounds) == 0 and _largest(fewer) > 2
    assert _largest(same_size) <= 1 and _largest(half) <= 3, "a smooth sheet loses nothing at half size"
    assert sheet in {int(frame.steps.program[s]) for s in sheet_steps}


def test_half_size_and_packing_refuse_by_name(shades: dict[str, tuple[Path, OpenGLFrame]]) -> None:
    path, frame = shades["core"]
    _, cut = _steps(frame, "discard")
    texture = next(t.name for t in frame.objects.textures if t.images)
    with Replay(path) as replay:
        for remedy, said in (
            (Remedy("half-size", cut, divide=2), "discards fragments"),
            (Remedy("pack-channels", [], textures=[texture]), "two to four"),
            (Remedy("pack-channels", [], textures=[texture, 4711]), "no plain two-dimensional"),
            (Remedy("medium-precision", [], program=_steps(frame, "discard")[0]), "no high precision"),
            (Remedy("cut-loops", [], program=4711, loops={1: 1}), "no program 4711"),
        ):
            with pytest.raises(TrialError, match=said):
                _edited(replay, remedy)


def test_medium_precision_on_es_is_tried(shades: dict[str, tuple[Path, OpenGLFrame]]) -> None:
    """Whether the driver computes it as high precision or not, the picture stays within a step of each channel."""
    path, frame = shades["es"]
    with Replay(path) as replay:
        proof = measured_proof(
            frame, "medium", [Remedy("medium-precision", [], program=_steps(frame, "float(1)")[0])], replay, seconds=3
        )
    assert proof.verdict != Verdict.REFUSED and proof.max_difference <= 2
    assert ("as high" in proof.summary) == (proof.verdict in (Verdict.NO_DIFFERENCE, Verdict.NOISE))
    assert (proof.verdict == Verdict.CHANGES) == bool(proof.pixels_different)


def test_whole_sources_of_one_program_are_not_mixed(shades: dict[str, tuple[Path, OpenGLFrame]]) -> None:
    path, frame = shades["core"]
    edit = Remedy("edit-shader", [], program=_steps(frame, "tint.rgb")[0])
    with Replay(path) as replay, pytest.raises(TrialError, match="whole source of one program"):
        _edited(replay, edit, edit)


# ---- where values come from ------------------------------------------------------------------------------------


def _flow(body: str) -> Flow:
    """Of a fragment shader whose main begins in line 4."""
    source = (
        "#version 450\nin vec2 uv; in vec3 w; uniform sampler2D s; uniform float u; uniform mat4 m; out vec4 c;\nvoid"
        f" main() {{\n{body}\n}}\n"
    )
    module = read_module(compile_glsl(source, GL.FRAGMENT_SHADER, Dialect()))
    return shader_flow(module, shader_cost(module, guidelines().operations, {}).results)


def test_what_is_linear_in_the_inputs_is_told_by_line() -> None:
    found = _flow(
        "vec4 p = m * vec4(w, 1.0);\nvec2 a = uv * 2.0 + u;\nvec2 b = uv * uv;\nvec3 n = normalize(w);\nc = p + vec4(a,"
        " b) + vec4(n * 2.0, sin(uv.x + 1.0));"
    )
    assert set(found.per_vertex) == {4, 5, 8} and found.per_vertex[4] >= 28 and found.per_vertex[8] == 1.0, (
        "a product of inputs is not linear, a normal is not"
    )
    changed = _flow("vec2 a = uv;\nif (uv.x > 0.5) a = uv * uv;\nc = vec4(a * 3.0, 0.0, 1.0);")
    assert 6 not in changed.per_vertex, "what is set twice is not followed"


def test_precision_is_only_needed_for_places_and_conditions() -> None:
    found = _flow(
        "vec2 at = uv * 3.0 + u;\nvec4 t = texture(s, at);\nfloat k = fract(w.x * 40.0);\nc = t * 2.0 + vec4(w * 0.5,"
        " k);\nif (w.y * 2.0 > 1.0) c *= 0.5;"
    )
    assert 4 not in found.medium, "a place of a texture sample needs its precision"
    assert 7 in found.medium, "a colour does not"
    assert found.medium.get(6, 0.0) < 40, "of a fraction at most the part that does not decide its place"


def test_small_branches_and_spared_sides() -> None:
    small = _flow(
        "float a = uv.x;\nif (uv.y > 0.5) a *= 2.0;\nc = vec4(a);\nif (u > 0.5) c *= 0.5;\nif (uv.x > 0.9) c ="
        " texture(s, uv);"
    )
    assert [b.line for b in small.small_branches] == [5], "not one that a uniform decides, nor one that samples"
    spared = _flow(
        "vec4 dear = vec4(sin(w) * cos(w) * exp(w), 1.0) + texture(s, uv * 2.0);\nc = mix(vec4(0.1), dear, step(0.5,"
        " uv.x));"
    )
    assert [s.line for s in spared.spared] == [5] and 4 in spared.spared[0].lines
    assert _flow("vec4 dear = texture(s, uv);\nc = mix(vec4(0.1), dear, uv.x) + dear;").spared == []


def test_findings_of_captured_programs_have_lines_and_remedies_that_hold(
    shades: dict[str, tuple[Path, OpenGLFrame]],
) -> None:
    for kind in KINDS:
        path, frame = shades[kind]
        examined = examine_file(path, repeats=2)
        found: dict[tuple[str, int], Finding] = {(f.rule, f.program): f for f in examined.findings}
        number, _ = _steps(frame, "float(1)")
        lit = next(
            s.source for p in frame.objects.programs if p.name == number for s in p.shaders if "rounds" in s.source
        ).splitlines()
        sky, loop = found["uniform-expression", number], found["long-loop", number]
        assert any("sin(hour" in lit[line - 1] for line in sky.lines) and sky.remedy is not None
        assert "for (" in lit[loop.lines[0] - 1] and loop.evidence["iterations"] == 9
        assert ("small-power", number) in found and ("small-branch", number) in found
        grey = next(f for f in examined.findings if f.rule == "plain-texture" and f.remedy is not None)
        assert len(grey.remedy.textures if grey.remedy else []) == 2
        assert (("medium-precision", number) in found) == (kind == "es")
        assert any(f.rule == "fine-full-screen" and f.remedy is not None for f in examined.findings)
        assert examined.drawn is not None
        runs = [
            examined.drawn.steps[s].vertices_run for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "draw"
        ]
        assert all(count == (4 if kind != "es" else -1) for count in runs), (
            "as the driver counts; it does not on OpenGL ES"
        )


def test_families_differ_only_in_constants(shades: dict[str, tuple[Path, OpenGLFrame]]) -> None:
    _path, frame = shades["core"]
    studies: list[ProgramStudy] = Case(frame, Drawn([], [], []), None).study_shaders()
    families = {s.program: s.family for s in studies}
    assert (
        families[_steps(frame, "float(1)")[0]] == families[_steps(frame, "float(2)")[0]]
        and len(set(families.values())) == len(studies) - 1
    )
    assert all(s.passes == [frame.passes.short_names[0]] and frame.passes.short_names[0] in s.title for s in studies)


def test_outputs_that_no_target_takes_are_found(shades: dict[str, tuple[Path, OpenGLFrame]]) -> None:
    frame = load_opengl(shades["core"][0])
    number, steps = _steps(frame, "tint.rgb")
    assert list(unused_outputs(Case(frame, Drawn([], [], []), None))) == []
    shader = next(
        s for p in frame.objects.programs if p.name == number for s in p.shaders if s.type == GL.FRAGMENT_SHADER
    )
    shader.source = shader.source.replace(
        "out vec4 result;", "layout(location = 0) out vec4 result;\nlayout(location = 1) out vec4 more;"
    ).replace("    result = ", "    more = vec4(1.0); result = ")
    found = list(unused_outputs(Case(frame, Drawn([], [], []), None)))
    assert [(f.program, f.steps) for f in found] == [(number, steps)] and "more has no attachment" in found[0].title
    assert ["more" in shader.source.splitlines()[line - 1] for line in found[0].lines] == [True, True]


def test_an_experiment_that_kills_the_replay_names_its_step_and_the_next_one_runs(
    shades: dict[str, tuple[Path, OpenGLFrame]],
) -> None:
    path, frame = shades["core"]
    before = path.read_bytes()
    turn = "sin(" * 32 + "w" + ")" * 32
    number, _ = _steps(frame, "tint.rgb")
    source = next(
        s.source for p in frame.objects.programs if p.name == number for s in p.shaders if s.type == GL.FRAGMENT_SHADER
    )
    endless = source.replace(
        "void main() {",
        "void main() { float w = tint.a; for (int a = 0; a < 2000000000; a++) for (int b = 0; b < 2000000000; b++) w"
        f" += {turn}; if (w == 0.1) discard;",
    )
    remedy = Remedy("edit-shader", [], program=number, sources=[EditedSource(GL.FRAGMENT_SHADER, endless)])
    with Replay(path) as replay:
        replay.run(verify.asked())
        with pytest.raises(ReplayCrashedError, match="stood still"):
            replay.run(measure_variants.asked(steps=[1], variants=[[remedy]], repeats=6), silent_seconds=2.0)
        assert replay.run(verify.asked()).identical
    assert path.read_bytes() == before


def test_the_demo_has_its_new_findings() -> None:
    """From what the shipped file holds of its layers; nothing is measured again."""
    from wendascope import records
    from wendascope.trials.survey.examine import stored_examination

    path = DATA / "depot.wend"
    drawn, survey = stored_examination(path)[0], records.SURVEY.newest(path)
    assert drawn is not None and survey is not None
    rules = {f.rule for f in find(Case(load_opengl(path), drawn, survey.steps.ms))}
    assert {
        "per-vertex-work",
        "long-loop",
        "fine-full-screen",
        "plain-texture",
    } <= rules and "medium-precision" not in rules

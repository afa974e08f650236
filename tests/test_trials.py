"""Findings on frames with known flaws, and proofs of their remedies."""

from __future__ import annotations

import itertools
import json
import re
import shutil
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import load_opengl
from wendascope import records
from wendascope.advice.findings import Finding
from wendascope.analysis.geometry.step_triangles import repeats
from wendascope.analysis.time.answers import geometry_answer, overdraw_answer
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.errors import CancelledError, TrialError
from wendascope.frame.remedy import Remedy
from wendascope.frame.vertex_cache import transformed_vertices
from wendascope.glsl.words import fragment_habits, output_primitive, replace_words, tokens
from wendascope.replay.client import Replay
from wendascope.replay.progress import Job
from wendascope.task import Task
from wendascope.trials.proofs.best_set import best_set
from wendascope.trials.proofs.proof import COMBINED, Proof, prove, state_of, stored_proofs, together_name
from wendascope.trials.proofs.prove_all import Promise, prove_all
from wendascope.trials.proofs.runs import picture_of
from wendascope.trials.proofs.verdicts import SHOWN, Verdict
from wendascope.trials.remedies import change_of
from wendascope.trials.survey.examine import Examined, examine_file, stored_examination

from .conftest import Capture, program
from .test_cli import result, run

RULES = {
    "not-visible",
    "back-to-front",
    "unread-pass",
    "blend-without-effect",
    "covered-clear",
    "outside-view",
    "facing-away",
    "too-fine",
    "degenerate-triangles",
    "unused-attributes",
    "unread-depth",
    "wide-attributes",
}


@pytest.fixture(scope="module")
def wasteful(capture: Capture) -> tuple[Path, Examined]:
    path, _ = capture(program("wasteful"))
    return path, examine_file(path, repeats=2)


@pytest.fixture
def own_wasteful(wasteful: tuple[Path, Examined], tmp_path: Path) -> Path:
    return Path(shutil.copy(wasteful[0], tmp_path / "wasteful.wend"))


def _only(found: Examined, rule: str) -> Finding:
    return next(f for f in found.findings if f.rule == rule)


def test_every_planted_flaw_is_found(wasteful: tuple[Path, Examined]) -> None:
    found = wasteful[1]
    assert {f.rule for f in found.findings} == RULES
    scene = next(i for i, t in enumerate(found.frame.passes.targets) if t.framebuffer == 1)
    first = int(found.frame.passes.first[scene])
    assert _only(found, "outside-view").steps == [first + 9]
    assert _only(found, "facing-away").steps == [first + 11]
    assert [r.rule for r in found.refuted] == ["late-depth-test"], (
        "testing early saves nothing on this driver: tried, and not claimed"
    )
    assert _only(found, "blend-without-effect").steps == [first + 13]
    assert _only(found, "too-fine").steps == [first + 12]
    assert first + 7 in _only(found, "not-visible").steps
    assert {tuple(f.steps) for f in found.findings if f.rule == "covered-clear"} == {(0,), (first,)}
    order = _only(found, "back-to-front")
    assert order.remedy is not None and order.remedy.order[: len(order.remedy.order)] != order.steps
    saved = order.evidence["fragments saved by the better order, measured"]
    assert isinstance(saved, int | float) and saved > 0
    assert _only(found, "unread-pass").steps == [0, 1]
    assert _only(found, "degenerate-triangles").evidence == {"degenerate": 12, "duplicated": 2, "triangles": 16}


def test_a_frame_without_the_flaws_has_no_findings(capture: Capture) -> None:
    path, _ = capture(program("wasteful", "--clean"))
    found = examine_file(path, repeats=2)
    assert [(f.id, f.title) for f in found.findings if f.kept_rule.page != "Memory"] == []
    rules = {f.rule for f in found.findings if f.kept_rule.page == "Memory"}
    unneeded = {"mostly-unread-buffer", "unread-depth", "unused-objects", "wide-attributes"}
    assert rules <= unneeded, "its buffers hold the fine mesh too, which it draws no more"
    assert found.drawn is not None
    assert re.match(r"(No wasted|[0-5] % of )", overdraw_answer(found.drawn, found.frame.passes.names)[0]), (
        "next to nothing is wasted"
    )


def test_both_draw_the_same_picture(capture: Capture, wasteful: tuple[Path, Examined]) -> None:
    _, clean = capture(program("wasteful", "--clean"))
    assert clean.reference is not None and wasteful[1].frame.reference is not None
    assert (clean.reference.pixels == wasteful[1].frame.reference.pixels).all()


def test_proofs_hold_on_the_frame_itself_and_are_kept(own_wasteful: Path) -> None:
    frame = load_opengl(own_wasteful)
    _, findings = stored_examination(own_wasteful)
    with Replay(own_wasteful) as replay:
        reached = prove_all(own_wasteful, frame, findings, replay, seconds=3)
    proofs, combined = reached.proofs, reached.combined
    assert reached.left == []
    verdicts = {p.finding: p.verdict for p in proofs}
    for finding in findings:
        if finding.remedy is None:
            assert verdicts[finding.id] == Verdict.REFUSED and finding.refused
        else:
            assert verdicts[finding.id] in (Verdict.SAVES, Verdict.NO_DIFFERENCE, Verdict.NOISE), (
                finding.id,
                verdicts[finding.id],
            )
    by_rule = {f.rule: next(p for p in proofs if p.finding == f.id) for f in findings}
    order = by_rule["back-to-front"]
    assert order.pixels_different == 0 and order.steps_after == order.steps_before
    assert (
        order.fragments_after is not None
        and order.fragments_before is not None
        and order.fragments_after < order.fragments_before
    )
    assert by_rule["unread-pass"].steps_after == by_rule["unread-pass"].steps_before - 2
    saving = {f.id for f in findings if verdicts[f.id] == Verdict.SAVES}
    assert (combined is None) == (len(saving) < 2) and (
        combined is None or (combined.pixels_different == 0 and set(combined.together) <= saving)
    )
    asked = best_set([f for f in findings if f.remedy is not None], lambda f: f.estimate_ms or 0.01)
    with Replay(own_wasteful) as replay:
        everything = prove(own_wasteful, frame, asked, replay, seconds=3)
    assert everything.pixels_different == 0 and {"outside-view-1", "unread-pass-0"} <= set(everything.together)
    assert everything.steps_after <= everything.steps_before - 5, everything.summary
    kept = stored_proofs(own_wasteful)
    combinations = {together_name([f.id for f in asked]), *([combined.finding] if combined else [])}
    together = {name for name in kept if name.startswith(COMBINED)}
    assert set(kept) == {f.id for f in findings} | together and combinations <= together
    assert all(state_of(f, kept) == verdicts[f.id] for f in findings)


def test_a_proof_that_changes_the_picture_says_so_and_where(own_wasteful: Path) -> None:
    frame = load_opengl(own_wasteful)
    scene = next(i for i, t in enumerate(frame.passes.targets) if t.framebuffer == 1)
    step = int(frame.passes.first[scene]) + 10  # the small yellow square
    wrong = Finding("wrong", "test", "", "", [step], {}, None, "", "", "", Remedy("drop-steps", [step]))
    with Replay(own_wasteful) as replay:
        proof = prove(own_wasteful, frame, [wrong], replay, seconds=3)
    assert proof.verdict == Verdict.CHANGES and proof.pixels_different > 0 and proof.where is not None
    x0, y0, x1, y1 = proof.where
    session = OpenGLSession(frame)
    found = picture_of(session, Job(), [Remedy("drop-steps", [step])])
    session.close()
    rows, columns = np.nonzero(found.different)
    assert (x0, y0, x1, y1) == (columns.min(), rows.min(), columns.max() + 1, rows.max() + 1)
    assert len(rows) == proof.pixels_different


def test_a_depth_prepass_is_left_out_with_the_same_picture(capture: Capture) -> None:
    """The steps after it test for equal depth and write none: without it they have to do both."""
    path, frame = capture(program("wasteful", "--prepass"))
    found = examine_file(path, repeats=2)
    prepass = _only(found, "depth-prepass")
    assert len(prepass.steps) == 6 and prepass.remedy is not None and len(prepass.remedy.order) >= 6
    rows = [found.drawn.steps[s] for s in prepass.steps]  # type: ignore[union-attr]
    assert {row.kind for row in rows} == {"depth"}
    with Replay(path) as replay:
        proof = prove(path, frame, [prepass], replay, seconds=3)
    assert (
        proof.pixels_different == 0 and proof.steps_after == proof.steps_before - 6 and proof.verdict != Verdict.CHANGES
    )


def test_a_cancelled_proof_keeps_those_before_it(own_wasteful: Path) -> None:
    frame = load_opengl(own_wasteful)
    _, findings = stored_examination(own_wasteful)
    tried = [f for f in findings if f.remedy is not None]
    seen: list[str] = []
    with Replay(own_wasteful) as replay, pytest.raises(CancelledError):
        prove_all(
            own_wasteful,
            frame,
            tried,
            replay,
            6,
            Task(lambda what, _part: seen.append(what), lambda: any("proof 2" in what for what in seen)),
        )
    survey = records.SURVEY.newest(own_wasteful)
    first = max(tried, key=Promise(frame, survey, lambda f: f.estimate_ms or 0.0)).id
    assert set(stored_proofs(own_wasteful)) == {first}, "the most promising first"
    before = stored_proofs(own_wasteful)[first]
    heard: list[Proof] = []
    with Replay(own_wasteful) as replay:
        reached = prove_all(own_wasteful, frame, tried, replay, 3, proved=heard.append, budget=0.0)
        assert reached.left and (before.verdict == Verdict.NOISE or not heard), "no time: what was proved stays"
        again = prove_all(own_wasteful, frame, tried, replay, 3, proved=heard.append)
    assert not again.left and {p.finding for p in again.proofs} == {f.id for f in tried}
    assert before.verdict == Verdict.NOISE or first not in {p.finding for p in heard}, "it goes on where it was stopped"


def test_every_order_of_independent_steps_gives_the_same_picture(wasteful: tuple[Path, Examined]) -> None:
    """Reordering carries uniforms, depth range and all other state along with each step."""
    order = _only(wasteful[1], "back-to-front")
    session = OpenGLSession(load_opengl(wasteful[0]))
    random = np.random.default_rng(1)
    for _ in range(5):
        shuffled = [int(s) for s in random.permutation(order.steps)]
        found = picture_of(session, Job(), [Remedy("reorder-steps", order.steps, shuffled)])
        assert not found.different.any(), shuffled
    session.close()


@pytest.mark.parametrize(
    ("remedies", "reason"),
    [
        ([Remedy("drop-steps", [99999])], "does not have"),
        ([Remedy("paint-it-black", [0])], "no remedy called"),
        ([Remedy("reorder-steps", [3, 4], [3, 3])], "not one of the same steps"),
        ([Remedy("reorder-steps", [0, 1], [1, 0])], "single draws"),
    ],
)
def test_remedies_that_make_no_sense_are_refused(
    wasteful: tuple[Path, Examined], remedies: list[Remedy], reason: str
) -> None:
    with pytest.raises(TrialError, match=reason):
        change_of(wasteful[1].frame, remedies).edit()


def test_buffer_uploads_between_steps_stand_in_the_way_of_an_order(capture: Capture) -> None:
    _, frame = capture(program("everything"))
    draws = [s for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "draw"]
    runs = [(a, b) for a, b in itertools.pairwise(draws) if b == a + 1]
    refused = 0
    for a, b in runs:
        try:
            change_of(frame, [Remedy("reorder-steps", [a, b], [b, a])]).edit()
        except TrialError as error:
            refused += 1
            assert str(error)
    assert refused == len(runs) == 1, "the one pair that follows each other has an upload in between"


def test_prove_on_the_command_line(own_wasteful: Path) -> None:
    answered = run("prove", own_wasteful, "--finding", "outside-view-1", "--seconds", "3", "--json")
    proof = json.loads(answered.stdout)["proofs"][0]
    assert answered.returncode == (0 if proof["verdict"] in SHOWN else 1), "1 where nothing could be shown"
    assert proof["finding"] == "outside-view-1" and proof["verdict"] in (
        Verdict.SAVES,
        Verdict.NO_DIFFERENCE,
        Verdict.NOISE,
    )
    assert (
        proof["pixels_different"] == 0
        and set(proof["ratio"]) == {"median", "low", "high"}
        and proof["frame_ms_before"] > 0
    )
    for clock, named in (("timer-query", "timer query"), ("drain", "drain")):
        by_clock = run("prove", own_wasteful, "--finding", "outside-view-1", "--clock", clock, "--json")
        assert json.loads(by_clock.stdout)["proofs"][0]["clock"] == named
    unknown = run("prove", own_wasteful, "--finding", "outside-view-1", "--clock", "sundial")
    assert unknown.returncode == 2 and "--clock is cpu-time, drain, timer-query" in unknown.stderr
    assert run("prove", own_wasteful).returncode == 2
    refused = run("prove", own_wasteful, "--finding", "nothing-like-it")
    assert refused.returncode == 2 and "no finding" in refused.stderr


def test_the_survey_tells_findings_and_survivors(own_wasteful: Path, tmp_path: Path) -> None:
    told = result("survey", own_wasteful, "--repeats", 1, "--csv", tmp_path / "tables")
    assert {f["rule"] for f in told["findings"]} == RULES
    for step in told["steps"]:
        if step["survivors"] is not None:
            assert 0 <= step["survivors"] <= step["fragments"]
    assert (tmp_path / "tables" / "findings.csv").read_text().count("\n") >= len(told["findings"])


# ---- pieces ----------------------------------------------------------------------------------------------


def test_words_in_comments_are_no_words() -> None:
    source = "void main() { // discard\n /* gl_FragDepth */ float discarded = 1.0; }"
    habits = fragment_habits(source)
    assert not habits.prevents_early_test
    assert "".join(t.text for t in tokens(source)) == source
    assert replace_words("if (x) discard; // discard", {"discard": "0"}) == "if (x) 0; // discard"
    assert fragment_habits("layout(early_fragment_tests) in; void main() { discard; }").prevents_early_test is False
    assert fragment_habits("buffer B { int n; }; void main() { n = 1; }").side_effects


@pytest.mark.parametrize(
    ("source", "made"),
    [
        ("layout(triangles) in; layout(line_strip, max_vertices = 4) out;", "line_strip"),
        ("layout(points) in;\nlayout(max_vertices = 3, triangle_strip) out;", "triangle_strip"),
        ("layout(triangles, equal_spacing) in;", "triangle_strip"),
        ("layout(quads, point_mode) in;", "points"),
        ("layout(isolines) in;", "line_strip"),
    ],
)
def test_what_geometry_and_tessellation_make(source: str, made: str) -> None:
    assert output_primitive(source) == made


def test_the_vertex_cache_is_first_in_first_out() -> None:
    assert transformed_vertices(np.array([0, 1, 2, 2, 1, 3], np.uint32)) == 4
    assert transformed_vertices(np.arange(40, dtype=np.uint32).repeat(2)) == 40
    around = np.tile(np.arange(33, dtype=np.uint32), 2)  # one more than fits: every one is gone when it comes again
    assert transformed_vertices(around) == 66
    assert transformed_vertices(np.tile(np.arange(32, dtype=np.uint32), 2)) == 32


def test_repeated_and_flat_triangles_are_counted() -> None:
    a, b, c, d = ([x, y, 0.0, 1.0] for x, y in ((0, 0), (1, 0), (0, 1), (1, 1)))
    clip = np.array([[a, b, c], [b, c, a], [a, c, b], [a, a, b], [b, c, d]], np.float32)
    step_of = np.array([0, 0, 0, 0, 0, 1, 1, 1, 1, 1])
    degenerate, twice = repeats(np.concatenate([clip, clip[:1], clip[4:], clip[4:], clip[4:], clip[3:4]]), step_of, 2)
    assert (degenerate.tolist(), twice.tolist()) == ([1, 1], [2, 2])


def test_answers_speak_of_waste(wasteful: tuple[Path, Examined]) -> None:
    drawn, frame = wasteful[1].drawn, wasteful[1].frame
    assert drawn is not None
    answer, evidence = overdraw_answer(drawn, frame.passes.names)
    assert (
        "are wasted" in answer
        and "covered by later opaque draws" in evidence
        and "without changing a colour" in evidence
    )
    assert "too small to cover a sample: above" in geometry_answer(drawn)[0]

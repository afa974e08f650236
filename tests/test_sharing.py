"""Notes on a frame and its parts, and copies of a frame that hold and tell less."""

import dataclasses
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st
from typer.main import get_command

from wendascope import records
from wendascope.backends.opengl.frame import opengl_frame
from wendascope.cli._app import app
from wendascope.demo.data import shipped_file
from wendascope.desktop.models.document import Document
from wendascope.desktop.views.facts_panel import FactsPanel
from wendascope.errors import TrialError, UsageError
from wendascope.frame.file import add, load, save
from wendascope.frame.frame import Picture
from wendascope.frame.notes import WHOLE_FRAME, Note, Subject, newest_notes, subject_title
from wendascope.glsl.preprocessor import Dialect
from wendascope.glsl.rewriting.anonymous import anonymous
from wendascope.replay.client import Replay
from wendascope.report.plan import plan_markdown, plan_report
from wendascope.trials.slim import finished_picture, slim
from wendascope.trials.survey.examine import case_of, stored_examination

_SUBJECTS = st.builds(Subject, st.sampled_from(["frame", "pass", "step", "finding"]), st.text(max_size=4))


@pytest.fixture
def depot(tmp_path):
    path = tmp_path / "depot.wend"
    path.write_bytes(shipped_file("depot.wend").read_bytes())
    return path


def _command(*arguments):
    return CliRunner().invoke(get_command(app), [str(a) for a in arguments])


# ---- notes ---------------------------------------------------------------------------------------------


@given(st.lists(st.builds(Note, st.text(max_size=3), _SUBJECTS)))
def test_the_newest_note_of_each_subject_stands(notes):
    newest = newest_notes(notes)
    for subject in {note.subject for note in notes}:
        last = [note.text for note in notes if note.subject == subject][-1]
        assert newest.get(subject, "") == last


def test_a_note_of_an_older_version_is_one_on_the_frame(depot):
    add(depot, "note", {"text": "before the lamps"})
    assert newest_notes(records.NOTE.all(depot)) == {WHOLE_FRAME: "before the lamps"}


def test_notes_are_written_listed_and_taken_back(depot):
    assert _command("note", depot, "rain is expensive", "--pass", "rain").exit_code == 0
    assert _command("note", depot, "ask about this", "--step", "12").exit_code == 0
    assert _command("note", depot, "sent on Tuesday").exit_code == 0
    text = _command("note", depot).output
    assert "rain: rain is expensive\n" in text and "step 12" in text and "frame: sent on Tuesday\n" in text
    found = json.loads(_command("note", depot, "--step", "12", "--json").output)
    assert [(row["on"], row["name"], row["text"]) for row in found] == [("step", "12", "ask about this")]
    _command("note", depot, "", "--step", "12")
    assert "step 12" not in _command("note", depot).output


def test_a_note_on_nothing_is_refused(depot):
    for wrong in (
        ["--step", "99999"],
        ["--pass", "nowhere"],
        ["--finding", "none-1"],
        ["--step", "1", "--pass", "rain"],
    ):
        assert isinstance(_command("note", depot, "text", *wrong).exception, UsageError)
    assert records.NOTE.all(depot) == []


def test_notes_on_what_a_frame_lacks_keep_its_name(depot):
    frame = load(depot)
    for subject in (Subject("step", "99999"), Subject("pass", "²"), Subject("finding", "x-1")):
        assert subject.name in subject_title(subject, frame, {})


def test_notes_on_findings_are_in_the_plan(depot):
    frame, (drawn, findings), survey = load(depot), stored_examination(depot), records.SURVEY.newest(depot)
    assert survey is not None and drawn is not None
    plan = plan_report(depot, case_of(frame, drawn, survey), survey, findings, 16.7)
    item = next(i for i in plan.recommendations if not i.small)
    records.NOTE.keep(depot, Note("Anna does *this* first", Subject("finding", item.findings[0])))
    plan = plan_report(depot, case_of(frame, drawn, survey), survey, findings, 16.7)
    assert "Note: Anna does \\*this\\* first" in plan_markdown(plan)


def test_a_note_is_written_in_the_window_on_the_step_its_pass_or_the_frame(depot, qtbot):
    document, panel = Document(depot), FactsPanel()
    qtbot.addWidget(panel)
    panel.show_document(document)
    note = panel.note
    assert note.line.placeholderText() == "Write a note" and not note.which.isVisibleTo(panel)
    qtbot.keyClicks(note.line, "slow since Monday")
    document.selection.choose(12)  # what was being written is kept on what it was written on
    assert document.notes == {WHOLE_FRAME: "slow since Monday"}
    assert note.line.text() == "slow since Monday", "of what is noted, the first has its note shown"
    note.which.setCurrentIndex(0)
    note.which.activated.emit(0)
    assert note.line.text() == "" and note.which.currentText() == "Note on step 12"
    qtbot.keyClicks(note.line, "why?")
    qtbot.keyClick(note.line, "\r")
    assert document.notes[Subject("step", "12")] == "why?"
    assert Document(depot).notes == document.notes
    document.notes[WHOLE_FRAME] = "two\nlines"  # what a line cannot show as it is, is not changed by being looked at
    document.selection.choose(None)
    document.selection.choose(13)
    assert document.notes[WHOLE_FRAME] == "two\nlines"


# ---- copies --------------------------------------------------------------------------------------------

_SOURCE = """#version 330
// the secret of the lamps
#define GLOW 0.5
struct Lamp { vec3 place; float power; };
uniform Lamp lamps[2];
uniform float hour;
in vec2 coords;
out vec4 color;
const float secret = 0.25;
float place(float secret_angle) { return secret_angle * secret; }
void main() {
    float power = place(hour), other = 1.0;
    for (int index = 0; index < 2; index++) power += lamps[index].power * GLOW;
    color = vec4(coords * power, other, secret);
}
"""


def test_anonymous_sources_say_nothing_that_is_the_shaders_own():
    made = anonymous(_SOURCE, Dialect())
    for word in ("secret", "GLOW", "index", "//"):
        assert word not in made
    for word in ("uniform Lamp lamps[2]", "uniform float hour", "in vec2 coords", "lamps[", ".power", "void main("):
        assert word in made
    assert made.count("\n") == _SOURCE.count("\n"), "what is said of lines stays true"


@pytest.mark.driver
def test_a_copy_without_sources_is_the_same_frame(depot, tmp_path):
    result = slim(depot, tmp_path / "out.wend", ["sources"])
    assert result.bytes_after < result.bytes_before
    before, after = opengl_frame(load(depot)), opengl_frame(load(tmp_path / "out.wend"))
    assert len(after.steps) == len(before.steps)
    text = "".join(s.source for p in after.objects.programs for s in p.shaders)
    assert "//" not in text and "night_sky" not in text
    assert "under other names" in " ".join(after.caveats)
    assert before.reference is not None and after.reference is not None
    assert (before.reference.pixels == after.reference.pixels).all()
    assert records.SURVEY.newest(tmp_path / "out.wend") is None, "results are not handed on"


@pytest.mark.driver
def test_a_copy_without_texels_shows_nothing_and_costs_the_same_calls(depot, tmp_path):
    out = tmp_path / "out.wend"
    result = slim(depot, out, ["texels"])
    assert len(result.left) == 1
    before, after = opengl_frame(load(depot)), opengl_frame(load(out))
    shown = 0
    for old, new in zip(before.objects.textures, after.objects.textures, strict=True):
        for was, now in zip(old.images, new.images, strict=True):
            assert (was.width, was.height, was.internal_format) == (now.width, now.height, now.internal_format)
            if was.contents is None or now.contents is None:
                continue
            assert was.contents.size == now.contents.size
            a = np.frombuffer(before.blobs.get(was.contents), np.uint8)
            b = np.frombuffer(after.blobs.get(now.contents), np.uint8)
            assert (np.bincount(a, minlength=256) == np.bincount(b, minlength=256)).all(), "as many of each value"
            shown += bool((a != b).any())
    assert shown >= 5
    with Replay(out) as replay:
        pixels = replay.run(finished_picture.asked())
    assert before.reference is not None and (pixels != before.reference.pixels).mean() > 0.2
    window = before.default_framebuffer.color
    assert window is None or after.default_framebuffer.color != window, "the picture of the frame before is mixed, too"


def test_what_a_copy_cannot_be_without_is_said(depot, tmp_path):
    with pytest.raises(UsageError, match="sources, texels"):
        slim(depot, tmp_path / "out.wend", ["meshes"])
    assert not (tmp_path / "out.wend").exists()


@pytest.mark.driver
def test_a_copy_that_is_not_the_same_frame_gets_no_name(depot, tmp_path, monkeypatch):
    from wendascope.backends.opengl import slimming

    monkeypatch.setattr(slimming, "anonymous", lambda source, _dialect: source.replace("0.5", "0.75"))
    with pytest.raises(TrialError, match="does not give the picture"):
        slim(depot, tmp_path / "out.wend", ["sources"])
    assert not list(tmp_path.glob("out*"))


@pytest.mark.driver
def test_a_frame_whose_replay_is_not_the_captured_picture_is_compared_with_its_replay(depot, tmp_path):
    frame = opengl_frame(load(depot))
    assert frame.reference is not None
    pixels = frame.reference.pixels.copy()
    pixels[5:9, 5:9] ^= 1
    save(dataclasses.replace(frame, reference=Picture(pixels)), tmp_path / "odd.wend")
    slim(tmp_path / "odd.wend", tmp_path / "out.wend", ["sources"])
    assert (tmp_path / "out.wend").exists()


@pytest.mark.driver
def test_slim_on_the_command_line_says_what_can_still_be_measured(depot, tmp_path):
    command = [sys.executable, "-m", "wendascope.cli", "slim", str(depot), "--out", str(tmp_path / "o.wend")]
    done = subprocess.run([*command, "--without", "sources"], capture_output=True, text=True, check=False, timeout=300)
    assert done.returncode == 0, done.stderr
    assert "identical" in done.stdout and "all findings stay" in done.stdout and "uniforms" in done.stdout
    assert Path(tmp_path / "o.wend").exists()

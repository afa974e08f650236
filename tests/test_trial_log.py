"""The log of trials: edits kept, marks and notes, kept trials as one frame, what is written out; and the Trials
page.
"""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QInputDialog

from tests.conftest import load_opengl
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.desktop.pages.shaders import ShadersPage
from wendascope.desktop.pages.trials import TrialsPage
from wendascope.desktop.window.main_window import MainWindow
from wendascope.errors import UsageError
from wendascope.frame.remedy import EditedSource, Remedy
from wendascope.registry import GL
from wendascope.replay.client import Replay
from wendascope.report.trials import write_trials
from wendascope.trials.experiments.limits import stored_limits
from wendascope.trials.experiments.log import (
    DROPPED,
    KEPT,
    Trial,
    attempt,
    kept_of,
    mark,
    measure_kept,
    stored_log,
    trials_of,
)
from wendascope.trials.proofs.proof import prove, stored_proofs
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey.examine import examine_file, stored_examination

from .conftest import Capture, program
from .test_cli import result, run

pytestmark = pytest.mark.driver

PATIENCE = 60_000


@pytest.fixture(scope="module")
def captured(capture: Capture) -> Path:
    path, _ = capture(program("shades", "core"))
    examine_file(path, repeats=2)
    return path


@pytest.fixture
def shades(captured: Path, tmp_path: Path) -> Path:
    return Path(shutil.copy(captured, tmp_path / "shades.wend"))


def _sheet(frame: OpenGLFrame) -> tuple[int, str]:
    return next((p.name, s.source) for p in frame.objects.programs for s in p.shaders if "tint.rgb" in s.source)


def _edit(frame: OpenGLFrame) -> Remedy:
    number, source = _sheet(frame)
    return Remedy(
        "edit-shader",
        [],
        program=number,
        sources=[EditedSource(GL.FRAGMENT_SHADER, source.replace("tint.rgb", "tint.bgr"))],
    )


def _trials(path: Path) -> list[Trial]:
    return trials_of(stored_log(path), stored_examination(path)[1], stored_proofs(path), stored_limits(path).values())


def test_edits_marks_and_notes_are_kept_in_the_file(shades: Path, tmp_path: Path) -> None:
    frame = load_opengl(shades)
    finding = next(f for f in stored_examination(shades)[1] if f.rule == "uniform-expression")
    assert _trials(shades) == []
    with Replay(shades) as replay:
        made = attempt(shades, frame, "sheet edited", [_edit(frame)], replay, "blue for red", seconds=3)
        prove(shades, frame, [finding], replay, seconds=3)
        rows = {t.id: t for t in _trials(shades)}
        assert (
            set(rows) == {made.id, finding.id}
            and rows[made.id].note == "blue for red"
            and rows[made.id].verdict == Verdict.CHANGES
        )
        with pytest.raises(UsageError, match="keep one first"):
            kept_of(rows.values())
        for identity in rows:
            mark(shades, identity, KEPT, "good")
        together = measure_kept(shades, frame, _trials(shades), replay, seconds=3)
    assert set(together.together) == set(rows) and together.pixels_different == made.proof.pixels_different > 1000
    written = write_trials(
        frame, "shades.wend", kept_of(_trials(shades)), stored_log(shades).together, tmp_path / "out"
    )
    names = {path.name for path in written}
    number = _sheet(frame)[0]
    assert {
        f"program-{number}.frag",
        f"program-{number}.frag.diff",
        "summary.md",
        "trials.json",
        f"program-{finding.program}.vert.diff",
    } <= names
    assert "tint.bgr" in (tmp_path / "out" / f"program-{number}.frag").read_text()
    assert "+" in (tmp_path / "out" / f"program-{number}.frag.diff").read_text()
    summary = (tmp_path / "out" / "summary.md").read_text()
    assert "blue for red" not in summary and "Note: good" in summary and "Together: changes the picture" in summary
    mark(shades, made.id, DROPPED, "")
    assert [t.id for t in kept_of(_trials(shades))] == [finding.id]
    later = write_trials(
        frame, "shades.wend", kept_of(_trials(shades)), stored_log(shades).together, tmp_path / "later"
    )
    assert "not measured since" in next(p for p in later if p.name == "summary.md").read_text()


def test_edit_and_trials_on_the_command_line(shades: Path, tmp_path: Path) -> None:
    number, source = _sheet(load_opengl(shades))
    good, bad = tmp_path / "good.frag", tmp_path / "bad.frag"
    good.write_text(source.replace("tint.rgb", "tint.bgr"))
    bad.write_text(source.replace("tint.rgb", "none.rgb"))
    made = result("edit", shades, "--program", number, "--fragment", good, "--note", "turned", "--seconds", 3)
    assert made["proof"]["verdict"] == Verdict.CHANGES and made["note"] == "turned"
    done = run("edit", shades, "--program", number, "--fragment", bad)
    assert done.returncode == 2 and "does not compile: line" in done.stderr
    assert (
        run("edit", shades, "--program", number).returncode == 2
        and run("edit", shades, "--program", number, "--fragment", tmp_path / "none").returncode == 3
    )
    told = result("trials", shades, "--keep", made["id"], "--measure", "--seconds", 3, "--out", tmp_path / "out")
    assert (
        told["trials"][0]["state"] == KEPT
        and told["trials"][0]["note"] == "turned"
        and told["together"]["together"] == [made["id"]]
    )
    assert str(tmp_path / "out" / "summary.md") in told["files"]
    text = run("trials", shades, "--drop", made["id"]).stdout
    assert "dropped" in text and "note: turned" in text
    assert (
        run("trials", shades, "--keep", "nothing").returncode == 2
        and run("trials", shades, "--measure").returncode == 2
    )


# ---- the pages ----------------------------------------------------------------------------------------------------


@pytest.fixture
def opened(window: MainWindow, shades: Path, qtbot: Any) -> MainWindow:
    window.open_files([shades])
    window.show_page("Shaders")
    page = window.page("Shaders")
    assert isinstance(page, ShadersPage)
    qtbot.waitUntil(lambda: page.table.rows.rowCount() > 0, timeout=PATIENCE)
    return window


def _shaders(window: MainWindow) -> ShadersPage:
    page = window.page("Shaders")
    assert isinstance(page, ShadersPage)
    return page


def _trials_page(window: MainWindow) -> TrialsPage:
    window.show_page("Trials")
    page = window.page("Trials")
    assert isinstance(page, TrialsPage)
    return page


def test_an_edit_is_measured_kept_noted_and_written_out(
    opened: MainWindow, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    page, document = _shaders(opened), opened.workspace.current
    assert document is not None
    number, source = _sheet(load_opengl(document.path))
    page.table.choose_program(number)
    page.source.editor.setPlainText(source.replace("tint.rgb", "tint.bgr"))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_args, **_more: ("turned", True))
    page.source.keep.click()
    qtbot.waitUntil(lambda: "among the trials" in page.source.note.text(), timeout=PATIENCE)
    trials = _trials_page(opened)
    assert "1 edit" in trials.evidence.text() and trials.figure() == "0 of 1" and not trials.together.isEnabled()
    assert trials.table.all_chosen[0].note == "turned" and "turned" in trials.details.text()
    qtbot.keyClick(trials.table, Qt.Key.Key_K)
    assert trials.figure() == "1 of 1" and trials.keep.text() == "Keep no longer"
    monkeypatch.setattr(QInputDialog, "getText", lambda *_args, **_more: ("turned back", True))
    trials.note.click()
    assert document.trials[0].note == "turned back" and document.trials[0].state == KEPT
    trials.together.click()
    qtbot.waitUntil(lambda: document.log.together is not None, timeout=PATIENCE)
    assert "kept together" in trials.details.text() and "1 kept." in trials.answer.text()
    trials.picture.click()
    qtbot.waitUntil(lambda: "pixels differ" in opened.picture.title.text(), timeout=PATIENCE)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_args: str(tmp_path / "written"))
    trials.export.click()
    qtbot.waitUntil(lambda: (tmp_path / "written" / "trials.json").exists(), timeout=PATIENCE)
    assert json.loads((tmp_path / "written" / "trials.json").read_text())["kept"][0]["note"] == "turned back"
    qtbot.keyClick(trials.table, Qt.Key.Key_Delete)
    assert document.trials[0].state == DROPPED and trials.figure() == "0 of 1"
    trials.which.setCurrentText("not dropped")
    assert trials.table.rows.rowCount() == 0
    again = load_opengl(document.path)
    assert again.calls and stored_log(document.path).marks[document.trials[0].id].state == DROPPED


def test_limits_and_iterations_of_a_program(opened: MainWindow, qtbot: Any) -> None:
    page, document = _shaders(opened), opened.workspace.current
    assert document is not None
    number = next(
        p.name for p in load_opengl(document.path).objects.programs if any("float(1)" in s.source for s in p.shaders)
    )
    page.table.choose_program(number)
    page.tabs.setCurrentWidget(page.limits)
    assert "Not looked at yet" in page.limits.answer.text() and not page.limits.picture.isEnabled()
    page.limits.run.click()
    qtbot.waitUntil(lambda: page.limits.table.rows.rowCount() == 9, timeout=PATIENCE)
    assert page.table.chosen is not None and page.table.chosen.program.program == number, "the choice stays"
    assert page.limits.answer.text().startswith((f"Program {number} (", "What limits"))
    page.limits.table.selectRow(2)
    page.limits.picture.click()
    qtbot.waitUntil(lambda: "flat colour" in opened.picture.title.text(), timeout=PATIENCE)
    page.limits.scope.setCurrentIndex(1)
    document.selection.choose(0)
    assert "Select a draw" in page.limits.answer.text() and not page.limits.run.isEnabled()
    assert len(document.trials) == 9
    page.tabs.setCurrentWidget(page.iterations)
    assert page.iterations.iterations.maximum() == 9 and page.iterations.count.text() == "9 of 9"
    page.iterations.attempt(2)
    qtbot.waitUntil(lambda: page.iterations.table.rows.rowCount() == 1, timeout=PATIENCE)
    assert "2 iterations save" in page.iterations.note.text() and "2 iterations" in opened.picture.title.text()
    page.iterations.sweep.click()
    qtbot.waitUntil(lambda: page.iterations.table.rows.rowCount() == 7, timeout=PATIENCE)
    rows = page.iterations.table.rows.rows
    assert (
        [t.iterations for t in rows] == [9, 7, 6, 4, 3, 2, 1]
        and rows[0].pixels == 0
        and rows[-1].mean > rows[1].mean > 0
    )
    assert page.iterations._curves is not None
    page.iterations.iterations.setValue(3)
    page.iterations.keep.click()
    qtbot.waitUntil(lambda: any("3 iterations" in t.title for t in document.trials), timeout=PATIENCE)
    sheet = _sheet(load_opengl(document.path))[0]
    page.table.choose_program(sheet)
    assert not page.iterations.sweep.isEnabled() and "no loop" in page.iterations.note.text()


def test_lines_are_listed_dearest_first_and_lead_to_the_source(opened: MainWindow) -> None:
    page, document = _shaders(opened), opened.workspace.current
    assert document is not None
    # whichever took longest when the frame was measured
    sources = {p.name: "".join(s.source for s in p.shaders) for p in load_opengl(document.path).objects.programs}
    page.table.choose_program(next(name for name, text in sources.items() if "i < rounds" in text))
    rows = page.lines.table.rows.rows
    assert rows and [r.cost for r in rows] == sorted((r.cost for r in rows), reverse=True)
    page.lines.table.selectRow(0)
    page.lines.table.doubleClicked.emit(page.lines.table.currentIndex())
    assert (
        page.tabs.currentWidget() is page.source and page.source.editor.textCursor().blockNumber() + 1 == rows[0].line
    )
    outline = page.source.editor._outlines
    assert any(o.text == "x 9" for o, _ in outline)


def test_families_stand_together_and_programs_point_both_ways(opened: MainWindow, qtbot: Any) -> None:
    page, document = _shaders(opened), opened.workspace.current
    assert document is not None
    names = [row.name for row in page.table.rows.rows]
    family = next(i for i, name in enumerate(names) if name.startswith("2 variants"))
    assert names[family + 1].startswith("    ") and names[family + 2].startswith("    ")
    page.table._sort_by(5)
    costs = [row.most(lambda p: p.fragment_cost) or 0.0 for row in page.table.rows.rows if not row.within]
    assert costs == sorted(costs, reverse=True)
    page.table.selectAll()
    page.table.keyPressEvent(_copy())
    assert QGuiApplication.clipboard().text().startswith("name\tms\tsteps")
    opened.picture.lens.setCurrentIndex(opened.picture.lens.findData("owner-program"))
    qtbot.waitUntil(
        lambda: opened.picture._shown_lens == "owner-program" and not opened.picture.view.note, timeout=PATIENCE
    )
    lit = next(
        row for row in page.table.rows.rows if len(row.members) == 1 and "rounds" in row.program.stages[1].source
    )
    page.table.hovered.emit(lit)
    assert document.pointed.program == lit.program.program and opened.picture.view._overlay is not None
    page.table.hovered.emit(None)
    assert opened.picture.view._overlay is None
    found = opened.picture._found
    assert found is not None
    number = found["programs"].index(lit.program.program)
    y, x = (int(v[0]) for v in (found["owner"] == number).nonzero())
    opened.picture._probe((x, y))
    assert document.pointed.program == lit.program.program and page.table.rows.tinted(lit)


def _copy() -> Any:
    from PySide6.QtCore import QEvent
    from PySide6.QtGui import QKeyEvent

    return QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)

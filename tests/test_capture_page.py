"""The Capture and Compare pages, driven as a user drives them, on a program that runs."""

from __future__ import annotations

import sys
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QScrollArea

from tests.conftest import DATA, program
from wendascope.desktop.models.session import CaptureRow, SessionModel
from wendascope.desktop.pages.capture import CapturePage
from wendascope.desktop.pages.compare import ComparePage, sentence
from wendascope.desktop.views.slider_picture import difference_image
from wendascope.desktop.window.capture_form import CaptureForm, TargetChoice
from wendascope.desktop.window.capture_list import stored_note
from wendascope.desktop.window.main_window import MainWindow
from wendascope.desktop.window.session_link import SessionLink
from wendascope.tap.messages import Beat, Beats, Ended, Hello, StateIs, Taken


@pytest.fixture
def page(window: MainWindow, tmp_path: Path) -> CapturePage:
    found = window.page("Capture")
    assert isinstance(found, CapturePage)
    found.folder.setText(str(tmp_path / "captures"))
    return found


def run(qtbot: Any, page: CapturePage, *arguments: str) -> None:
    command = program("shapes", "--frames", "1000000", "--pause", "0.01", *arguments)
    page.form.program.setText(command[0])
    page.form.arguments.setText(" ".join(command[1:]))
    qtbot.mouseClick(page.start_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(page.session.beats) > 8, timeout=60000)


def test_a_session_from_start_to_stop(qtbot: Any, window: MainWindow, page: CapturePage) -> None:
    assert "No program is running" in page.answer.text() and not page.now_button.isEnabled()
    run(qtbot, page)
    assert "21 draws" in page.answer.text() and page.figure() == "live"
    assert not page.start_button.isEnabled() and not page.form.isEnabled()
    qtbot.mouseClick(page.now_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(page.session.rows) == 1 and page.session.rows[0].thumbnail is not None, timeout=60000)
    page.count.setValue(2)
    page.after.setValue(4.0)  # long enough to be read between two stalls of a busy machine
    qtbot.waitUntil(page.after_button.isEnabled, timeout=30000)
    qtbot.mouseClick(page.after_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "taking a frame in" in page.waiting.text(), timeout=30000)
    qtbot.waitUntil(
        lambda: len(page.session.rows) == 3 and all(len(r.frame_ms) for r in page.session.rows), timeout=60000
    )
    model = page.table.rows
    against = next(c for c in model.columns if c.title == "to baseline").text
    assert against(page.session.rows[0]) == "baseline"
    assert "(" in against(page.session.rows[2]), "a difference comes with its interval"
    # a note is kept in the file
    note = model.index(1, model.columnCount() - 1)
    assert (
        model.setData(note, "posters in one atlas") and stored_note(page.session.rows[1].path) == "posters in one atlas"
    )
    page.table.selectAll()
    page.table.setFocus()
    qtbot.keyClick(page.table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    copied = QGuiApplication.clipboard().text().splitlines()
    assert len(copied) == 4 and copied[2].endswith("\tposters in one atlas")
    qtbot.mouseClick(page.stop_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not page.session.running, timeout=40000)
    assert page.start_button.isEnabled() and "was ended" in page.answer.text()
    # double-click opens
    where = page.table.visualRect(model.index(0, 1)).center()
    qtbot.mouseClick(page.table.viewport(), Qt.MouseButton.LeftButton, pos=where)
    qtbot.mouseDClick(page.table.viewport(), Qt.MouseButton.LeftButton, pos=where)
    assert window.workspace.current is not None and window.workspace.current.path == page.session.rows[0].path.resolve()
    assert window.pages.currentWidget() is window.page("Time")
    # a second run follows the first, and its captures join the log
    window.show_page("Capture")
    run(qtbot, page)
    qtbot.mouseClick(page.now_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(page.session.rows) == 5, timeout=60000)


def test_an_attempt_that_comes_to_nothing_is_no_end(qtbot: Any) -> None:
    """Sockets tell of connections that were refused, or belonged to the session before, as of one that ended."""
    link = SessionLink()
    failures: list[str] = []
    link.failed.connect(failures.append)
    link._process = SimpleNamespace(terminate=lambda: None)  # type: ignore[assignment]
    link._name = "not-there-yet"
    link._begin()
    link._gone()
    assert not failures and not link._over
    link._reached = True
    link._gone()
    assert failures == ["the capture process ended unexpectedly; the program may still be running"]
    link._retry.stop()


def test_holding_and_stepping(qtbot: Any, page: CapturePage) -> None:
    run(qtbot, page)
    qtbot.mouseClick(page.hold_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.session.state == "held", timeout=30000)
    assert page.hold_button.text() == "Resume" and page.step_button.isEnabled()
    before = page.session.text
    qtbot.mouseClick(page.step_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.session.state == "held" and page.session.text != before, timeout=30000)
    qtbot.mouseClick(page.hold_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.session.state == "running", timeout=30000)


def test_a_program_that_fails_is_said_and_its_output_kept(qtbot: Any, page: CapturePage) -> None:
    qtbot.mouseClick(page.start_button, Qt.MouseButton.LeftButton)
    assert "Name the program" in page.evidence.text()
    page.form.program.setText("/nowhere/tram")
    page.start()
    qtbot.waitUntil(lambda: "does not exist" in page.evidence.text(), timeout=40000)
    page.form.program.setText(sys.executable)
    page.form.arguments.setText(
        """-c "import time; print('no current', flush=True); time.sleep(0.5); raise SystemExit(3)" """
    )
    page.start()
    qtbot.waitUntil(lambda: "exit code 3" in page.evidence.text(), timeout=40000)
    assert "no current" in page.output.toPlainText()
    page.form.arguments.setText("'unbalanced")
    page.start()
    assert "quotation" in page.evidence.text().lower()


def test_targets_are_remembered(qtbot: Any, tmp_path: Path) -> None:
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    form = CaptureForm(settings)
    qtbot.addWidget(form)
    form.remember(TargetChoice("./tram", "--line '7 a'", "/yard", "RAIN=1 NAME='two words'"))
    form.remember(TargetChoice("./bus"))
    again = CaptureForm(settings)
    qtbot.addWidget(again)
    assert again.choice().program == "./bus" and again.recent.count() == 2
    again._choose_recent(1)
    choice = again.choice()
    assert choice.command == ["./tram", "--line", "7 a"] and choice.assignments == ["RAIN=1", "NAME=two words"]
    with pytest.raises(ValueError, match="NAME=value"):
        _ = TargetChoice("x", environment="RAIN").assignments
    settings.setValue("targets", "not json")
    broken = CaptureForm(settings)
    qtbot.addWidget(broken)
    assert broken.recent.count() == 0


# ---- the model, without a program --------------------------------------------------------------------


def taken(name: str, ms: float) -> Taken:
    return Taken(f"/yard/{name}.wend", 7, 100, 10, 2, 1000, 0.1, 0.2, 0, ms, [])


def test_the_model_follows_events() -> None:
    model = SessionModel()
    assert model.sentence(16.7).startswith("No program")
    model.begin(["./tram"])
    model.take_in(Hello(["./tram"], "yard", "/yard", "running", 1, [taken("a", 5.0)], ["clang"]))
    model.take_in(Beats([Beat(n, 9_000_000, 3_000_000, 120, 12, 900) for n in range(300)]))
    assert (
        model.sentence(10.0)
        == "tram: 12.0 ms per frame, 1.2 times the 10 ms budget; 120 calls, 12 draws, 900 vertices."
    )
    assert len(model.beats) == 240 and model.beats[0, 1] == 9.0
    bound = model.bound()
    assert bound is not None and bound.who == "GPU" and "25 %" in bound.sentence
    model.take_in(Taken("/yard/b.wend", 9, 100, 10, 2, 1000, 0.1, 0.2, 0, 4.0, []))
    assert [row.path.name for row in model.rows] == ["a.wend", "b.wend"] and model.baseline == Path("/yard/a.wend")
    model.take_in(StateIs("waiting", "taking a frame in 2.0 s", 0.3))
    assert model.running and model.part == 0.3
    model.take_in(Ended("tram ended with exit code 1", False, []))
    assert not model.running and model.problem == "tram ended with exit code 1"


def test_differences_to_the_baseline_need_an_interval() -> None:
    model = SessionModel()
    random = np.random.default_rng(1)
    for name, center in (("a", 10.0), ("b", 10.05), ("c", 7.0)):
        row = CaptureRow(taken(name, center))
        row.frame_ms = random.normal(center, 0.5, 60)
        model.rows.append(row)
    model.baseline = model.rows[0].path
    assert model.difference(model.rows[0]) is None
    same, changed = model.difference(model.rows[1]), model.difference(model.rows[2])
    assert same is not None and same.low < 0 < same.high
    assert changed is not None and changed.high < -2.0
    model.rows[2].frame_ms = np.zeros(2)
    assert model.difference(model.rows[2]) is None, "two frames are no basis"


# ---- comparing -----------------------------------------------------------------------------------------


def test_the_compare_page(qtbot: Any, window: MainWindow, own_small: Path, tmp_path: Path) -> None:
    compare = window.page("Compare")
    assert isinstance(compare, ComparePage)
    assert "Open two frames" in compare.answer.text() and not compare.measure_button.isEnabled()
    other = tmp_path / "other.wend"
    other.write_bytes(own_small.read_bytes())
    window.compare(own_small, other)
    assert window.pages.currentWidget() is compare and not window.strip.isVisible()
    assert "identical" in compare.picture_text.text()
    assert compare.counts.rows.rowCount() > 5
    qtbot.mouseClick(compare.measure_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: compare._found is not None, timeout=60000)
    found = compare._found
    assert found is not None and sentence(found) == compare.answer.text()
    assert compare.passes.rows.rowCount() == 2 + len(found.passes)
    compare.passes.setFocus()
    qtbot.keyClick(compare.passes, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert QGuiApplication.clipboard().text().startswith("pass\tsteps\tbefore, ms")
    qtbot.mouseClick(
        compare.picture,
        Qt.MouseButton.LeftButton,
        pos=QPoint(compare.picture.width() // 4, compare.picture.height() // 2),
    )
    assert compare.picture.position < 0.5
    compare.lens.setChecked(True)
    assert compare.picture.lens and compare.picture.can_differ
    qtbot.mouseClick(compare.swap_button, Qt.MouseButton.LeftButton)
    assert compare.before.currentData() == str(other.resolve()) and compare._found is None, (
        "a swapped pair has to be measured anew"
    )


def test_the_difference_lens() -> None:
    before = np.zeros((2, 3, 3), np.uint8)
    after = before.copy()
    after[0, 1] = (0, 255, 0)
    after[1, 2] = (1, 0, 0)
    image = difference_image(before, after)
    assert (image[0, 0] == 0x76).all(), "equal pixels are grey"
    assert tuple(image[0, 1]) == (0x1B, 0x1E, 0x46), "the largest difference is the end of the ramp"
    assert image[1, 2].sum() > image[0, 1].sum()


def test_a_comparison_of_the_demo_frames_is_offered(window: MainWindow) -> None:
    window.open_files([DATA / "depot.wend", DATA / "depot-better.wend"])
    window.show_page("Compare")
    compare = window.page("Compare")
    assert isinstance(compare, ComparePage)
    assert compare.before.currentText() == "depot.wend" and compare.after.currentText() == "depot-better.wend"
    assert compare.figure() == "two" and "differ" in compare.picture_text.text()


def test_the_controls_are_never_cut(window: MainWindow, page: CapturePage, qtbot: Any) -> None:
    for text in ("0.37 s paused, 1.8 MB each", "12.25 s paused, 1,024.5 MB each, of the last program"):
        page.count_cost.setText(text)
        label = page.count_cost
        qtbot.waitUntil(lambda shown=label: shown.width() >= shown.sizeHint().width(), timeout=5000)
        column = page.findChild(QScrollArea)
        content = column.widget() if column is not None else None
        assert column is not None and content is not None
        assert column.viewport().width() >= content.width()

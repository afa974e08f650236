"""The window, driven as a user drives it: clicks, keys, drops."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, QRectF, QSettings, Qt, QTimer, QUrl
from PySide6.QtGui import QColor, QDropEvent, QGuiApplication, QHelpEvent, QImage, QPainter, QWheelEvent
from PySide6.QtWidgets import QApplication, QMessageBox, QToolTip, QWidget

from wendascope import records
from wendascope.demo.data import demo_files
from wendascope.desktop.models.document import Document
from wendascope.desktop.models.strip_layout import View, cpu_columns, ruler_ticks, step_at, strip_times
from wendascope.desktop.models.tree import DRAW_ORDER, TREES, FrameTree, Node
from wendascope.desktop.pages.time import TimePage
from wendascope.desktop.views.picture_panel import _grown
from wendascope.desktop.widgets import theme
from wendascope.desktop.window.command_palette import CommandPalette, matches
from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.file import load


def time_page(window: MainWindow) -> TimePage:
    page = window.page("Time")
    assert isinstance(page, TimePage)
    return page


def shown(window: MainWindow) -> np.ndarray[Any, Any]:
    image = window.picture.view.image
    assert image is not None
    return np.array(image.constBits()).reshape(image.height(), image.bytesPerLine())


def test_opening_shows_the_captured_picture_at_once(window: MainWindow, depot: Path) -> None:
    assert window.pages.currentWidget() is window.page("Capture"), "nothing open: how to get a frame"
    assert not window.strip.isVisible()
    window.open_files([depot])
    assert window.pages.currentWidget() is window.page("Time") and window.strip.isVisible()
    image = window.picture.view.image
    assert image is not None and (image.width(), image.height()) == (1280, 720)
    assert "budget" in time_page(window).answer.text()
    assert "GPU-bound" in window.header.time.text()
    assert window.windowTitle().startswith("depot.wend")


def test_one_selection_everywhere(qtbot: Any, window: MainWindow, own_small: Path) -> None:
    window.open_files([own_small])
    document = window.workspace.current
    assert document is not None
    document.selection.choose(7)
    page = time_page(window)
    node = page.table.model.node(page.table.view.currentIndex())
    assert node is not None and node.first == 7 and node.kind == "step"
    assert window.facts.title.text().startswith("Step 7: draw")
    qtbot.waitUntil(lambda: "after step 7" in window.picture.title.text(), timeout=20000)
    before = shown(window).copy()
    window.move_step(1)
    assert document.selection.step == 8
    qtbot.waitUntil(lambda: "after step 8" in window.picture.title.text(), timeout=20000)
    assert (shown(window) != before).any(), "the picture grows with the steps"
    window.go_in_history(-1)
    assert document.selection.step == 7
    window.go_in_history(1)
    assert document.selection.step == 8


def test_facts_tell_arguments_textures_and_state(window: MainWindow, depot: Path) -> None:
    window.open_files([depot])
    document = window.workspace.current
    assert document is not None
    frame = document.frame
    step = next(
        i
        for i in range(len(frame.steps))
        if frame.passes.names[int(frame.passes.of_step[i])] == "depot" and frame.steps.triangles[i] == 12
    )
    document.selection.choose(step)
    tree = window.facts.tree
    facts = {}
    for i in range(tree.topLevelItemCount()):
        head = tree.topLevelItem(i)
        assert head is not None
        for k in range(head.childCount()):
            child = head.child(k)
            assert child is not None
            facts[child.text(0)] = child.text(1)
    assert facts["mode"] == "GL_TRIANGLES" and facts["count"] == "36" and facts["triangles"] == "12"
    assert "128 x 128 RGBA8" in facts["surface (unit 0)"]
    assert "2048 x 2048 DEPTH_COMPONENT24" in facts["shadow (unit 3)"]
    assert facts["size"] == "1280 x 720" and "R11F_G11F_B10F" in facts["color attachment0"]
    assert facts["depth test"] == "on" and facts["passes when"] == "LESS" and facts["blending"] == "off"
    tree.setFocus()
    tree.selectAll()
    QGuiApplication.clipboard().clear()
    from PySide6.QtTest import QTest

    QTest.keyClick(tree, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert "count\t36" in QGuiApplication.clipboard().text()


def test_the_tree_sorts_searches_and_copies(window: MainWindow, depot: Path) -> None:
    window.open_files([depot])
    page = time_page(window)
    model = page.table.model

    def names() -> list[str]:
        return [model.data(model.index(r, 0)) for r in range(model.rowCount())]

    assert names()[0] == "depot", "the most expensive first"
    page.table.view.sortByColumn(0, Qt.SortOrder.AscendingOrder)
    assert names()[:3] == ["shadow", "camera", "mirror"]
    page.table.view.sortByColumn(1, Qt.SortOrder.DescendingOrder)
    steps = [int(model.data(model.index(r, 1)).replace(",", "")) for r in range(model.rowCount())]
    assert steps == sorted(steps, reverse=True)
    page.table.search.setText("board triangle strip")
    assert names() == ["board"] and page.table.found.text() == "83 of 1,073 steps"
    page.table.search.setText("no such thing")
    assert names() == [] and page.table.found.text().startswith("0 of")
    page.table.search.clear()
    assert model.rowCount() == 10
    lines = page.table.view.as_text().splitlines()
    assert lines[0].startswith("pass / step\tsteps\tms") and len(lines) == 11


def test_clicking_and_zooming_the_strip(qtbot: Any, window: MainWindow, depot: Path) -> None:
    window.open_files([depot])
    document = window.workspace.current
    assert document is not None
    strip = window.strip
    whole = strip._view.end - strip._view.start
    x = 56 + strip._view.x(float(strip._times.group_start[3] + 5))  # type: ignore[union-attr]
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(x), 35))
    assert document.selection.step == int(document.frame.passes.end[3]) - 1
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(x), 62))
    assert int(document.frame.passes.of_step[document.selection.step]) == 3
    event = QWheelEvent(
        QPointF(x, 40),
        QPointF(x, 40),
        QPoint(0, 0),
        QPoint(0, 240),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    under = strip._time_at(x)
    strip.wheelEvent(event)
    assert strip._view.end - strip._view.start < whole
    assert strip._time_at(x) == pytest.approx(under)
    qtbot.mouseDClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(x), 35))
    assert strip._view.start == pytest.approx(float(strip._times.group_start[3]))  # type: ignore[union-attr]
    assert "depot" in strip._tip(x, 35) and "timed whole" in strip._tip(x, 35)
    qtbot.keyClick(strip, Qt.Key.Key_Home)
    assert strip._view.end - strip._view.start == pytest.approx(whole)
    qtbot.keyClick(strip, Qt.Key.Key_Plus)
    assert strip._view.end - strip._view.start < whole
    before = strip._view.start
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert strip._view.start > before
    qtbot.keyClick(strip, Qt.Key.Key_Return)
    assert strip._view.start == pytest.approx(float(strip._times.group_start[3]))  # type: ignore[union-attr]


def test_measuring_in_the_background_and_cancelling(qtbot: Any, window: MainWindow, own_small: Path) -> None:
    window.open_files([own_small])
    document = window.workspace.current
    assert document is not None and document.survey is None
    assert "Not measured yet" in time_page(window).answer.text()
    window.work.measure()
    assert window.header.progress.isVisible() and not window.header.button.isVisible()
    qtbot.waitUntil(lambda: document.survey is not None, timeout=60000)
    assert "budget" in time_page(window).answer.text()
    qtbot.waitUntil(lambda: window.header.button.isVisible(), timeout=60000)
    assert records.SURVEY.newest(own_small) is not None, "kept in the file"
    again = document.survey
    window.work.measure()
    qtbot.waitUntil(window.work.measuring, timeout=10000)
    window.work.cancel()
    qtbot.waitUntil(lambda: not window.work.measuring() and window.header.button.isVisible(), timeout=20000)
    assert document.survey is again


def test_dropping_files_and_bad_ones(
    qtbot: Any, window: MainWindow, depot: Path, own_small: Path, tmp_path: Path
) -> None:
    bad = tmp_path / "bad.wend"
    bad.write_bytes(b"nothing")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in (depot, bad, own_small)])
    window.dropEvent(
        QDropEvent(
            QPointF(9, 9), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )
    )
    assert [d.path.name for d in window.workspace.documents] == ["depot.wend", "small.wend"]
    assert window.workspace.current is window.workspace.documents[0]
    boxes = [w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()]
    assert len(boxes) == 1 and "not a Wendascope file" in boxes[0].informativeText()
    boxes[0].close()
    assert [Path(n).name for n in window.recent()] == ["small.wend", "depot.wend"]
    window.close_current()
    assert window.workspace.current is not None and window.workspace.current.path.name == "small.wend"


def test_settings_are_remembered(qtbot: Any, tmp_path: Path, own_small: Path) -> None:
    settings = QSettings(str(tmp_path / "remembered.ini"), QSettings.Format.IniFormat)
    first = MainWindow(settings)
    qtbot.addWidget(first)
    first.workspace.set_budget(8.3)
    first.open_files([own_small])
    first.close()
    second = MainWindow(settings)
    qtbot.addWidget(second)
    assert second.workspace.budget_ms == 8.3
    assert [Path(n).name for n in second.recent()] == ["small.wend"]
    assert second.header.budget.currentText().startswith("8.3 ms")
    second.close()


def test_every_action_is_in_the_command_palette(window: MainWindow, depot: Path) -> None:
    window.open_files([depot])
    palette = CommandPalette(window.menus.actions, window)
    palette.input.setText("next pass")
    assert palette.list.count() == 1
    palette._run()
    document = window.workspace.current
    assert document is not None and document.selection.step == int(document.frame.passes.end[0]) - 1
    assert matches("PASS next", "Go: Next pass") and not matches("tram", "Go: Next pass")
    shortcuts = [a.shortcut().toString() for _, a in window.menus.actions if not a.shortcut().isEmpty()]
    assert len(shortcuts) == len(set(shortcuts)), "no shortcut means two things"


def test_the_picture_probe_reads_the_pixel(window: MainWindow, depot: Path) -> None:
    window.open_files([depot])
    document = window.workspace.current
    assert document is not None and document.frame.reference is not None
    red, green, blue, _ = document.frame.reference.pixels[300, 500].tolist()
    window.picture._probe((500, 300))
    assert f"red {red}  green {green}  blue {blue}" in window.picture.probe.text()
    image = window.picture.view.image
    assert image is not None
    colour = image.pixelColor(500, 720 - 1 - 300)
    assert (colour.red(), colour.green(), colour.blue()) == (red, green, blue)


# ---- pieces that need no window ----------------------------------------------------------------------------


def test_strip_layout_adds_up(depot: Path) -> None:
    frame, survey = load(depot), records.SURVEY.newest(depot)
    assert survey is not None
    times = strip_times(FrameTree(frame, survey))
    assert times.measured and times.total == pytest.approx(sum(p.ms for p in survey.passes))
    assert np.all(np.diff(times.step_end) >= -1e-9)
    for i, (a, b) in enumerate(zip(frame.passes.first.tolist(), frame.passes.end.tolist(), strict=True)):
        assert times.step_start[a] == pytest.approx(times.group_start[i]) and times.step_end[b - 1] == pytest.approx(
            times.group_end[i]
        )
    middle = (times.step_start + times.step_end) / 2
    wide = np.flatnonzero(times.step_end - times.step_start > 1e-6)
    assert all(step_at(times, float(middle[s])) == s for s in wide[::37].tolist())
    for by in TREES:  # the same time in other groups, the widest first
        other = strip_times(FrameTree(frame, survey, by))
        assert other.total == pytest.approx(times.total) and sorted(other.order.tolist()) == list(
            range(len(frame.steps))
        )
        assert all(
            step_at(other, float((other.step_start[s] + other.step_end[s]) / 2)) == s for s in wide[::37].tolist()
        )
        if other.groups[0].kind != "pass":
            assert np.all(np.diff(other.group_end - other.group_start) <= 1e-9)
    unmeasured = strip_times(FrameTree(frame, None))
    assert not unmeasured.measured and unmeasured.total == len(frame.steps)


def test_cpu_columns_cover_exactly_the_calls(depot: Path) -> None:
    lane = load(depot).cpu_lane
    view = View(0.0, lane.frame_ms, 700)
    calls, waits = cpu_columns(lane, view)
    column_ms = lane.frame_ms / 700
    assert calls.sum() * column_ms == pytest.approx(lane.calls_ms, rel=1e-3)
    assert waits.sum() * column_ms == pytest.approx(lane.waits_ms, rel=1e-3)


def test_ruler_ticks_are_round_and_apart() -> None:
    for start, end in ((0.0, 41.2), (3.0, 3.002), (0.0, 9000.0)):
        view = View(start, end, 1200)
        ticks = ruler_ticks(view)
        assert 3 <= len(ticks) <= 20 and all(start - 1e-9 <= t <= end + 1e-9 for t in ticks)
        assert np.diff(ticks).min() * view.scale >= 80


@pytest.mark.parametrize("by", TREES)
def test_groups_divide_their_steps(depot: Path, by: str) -> None:
    tree = FrameTree(load(depot), records.SURVEY.newest(depot), by)

    def divided(node: Node, depth: int = 0) -> int:
        children = tree.children(node)
        assert sorted(step for c in children for step in c.steps.tolist()) == node.steps.tolist()
        assert tree.total("triangles", node) == sum(tree.total("triangles", c) for c in children)
        assert len(children) > 1 or node is tree.root or len(node.steps) == 1
        return max([divided(c, depth + 1) for c in children if c.kind != "step"], default=depth)

    assert divided(tree.root) >= (1 if by == DRAW_ORDER else 2)
    assert sum(tree.share(node) or 0.0 for node in tree.outermost) == pytest.approx(1.0)
    step = len(tree.frame.steps) // 2
    found = tree.find(step)
    assert found is not None and found.kind == "step" and found.first == step


def test_the_demo_files_are_copies(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    copies = demo_files()
    assert [p.name for p in copies] == [
        "depot.wend",
        "depot-better.wend",
        "signal-box.wend",
        "platform.wend#8",
        "store.wend",
    ]
    assert all(tmp_path in p.parents for p in copies)
    shutil.rmtree(tmp_path / "wendascope")


@pytest.mark.skipif(sys.version_info >= (3, 12), reason="None is immortal there")
def test_the_toolkit_loses_no_references(qtbot: Any) -> None:
    painter = QPainter(picture := QImage(8, 8, QImage.Format.Format_ARGB32))
    before = sys.getrefcount(None)
    for _ in range(2000):
        painter.setPen(QColor("white"))
        painter.fillRect(QRectF(0, 0, 4, 4), QColor("white"))
    painter.end()
    assert sys.getrefcount(None) > before - 1000 and not picture.isNull(), "this PySide6 would end the window"


def test_the_picture_goes_over_the_page_and_back(window: MainWindow, depot: Path) -> None:
    window.switch_picture()
    assert not window.pages.isHidden(), "without a frame there is no picture to enlarge"
    window.open_files([depot])
    window.show_page("Overdraw")
    before = window.splitters["across"].sizes()
    window.switch_picture()
    assert window.pages.isHidden() and window.under.isHidden() and not window.picture.isHidden()
    window.switch_picture()
    assert not window.pages.isHidden() and not window.under.isHidden()
    assert window.splitters["across"].sizes() == before
    window.switch_picture()
    window.show_page("Time")
    assert not window.pages.isHidden(), "going to a page shows it"


def test_pages_are_made_when_they_are_needed(window: MainWindow, qtbot: Any, depot: Path) -> None:
    """The window comes with the one that it shows; the others follow one after the other, none twice."""
    assert window.pages.known("Capture") and not window.pages.known("Memory")
    memory = window.page("Memory")
    window.open_files([depot])
    qtbot.waitUntil(lambda: all(map(window.pages.known, window.page_titles())), timeout=60_000)
    assert window.page("Memory") is memory and window.pages.currentWidget() is window.page("Time")
    assert [window.pages.widget(k) for k in range(window.pages.count())] == list(map(window.page, window.page_titles()))
    qtbot.waitUntil(lambda: window._figure("Memory") != "" and window._figure("State") != "", timeout=60_000)


def test_the_rail_tells_what_each_page_waits_for(window: MainWindow, qtbot: Any, depot: Path) -> None:
    assert window._missing("Plan")[0] == "no frame"
    window.open_files([depot])
    qtbot.waitUntil(lambda: all(map(window.pages.known, window.page_titles())), timeout=60_000)
    assert window._missing("Compare")[0] == "one frame" and window._missing("Plan") == (
        "–",
        "Measure the frame with Ctrl+M to fill this page",
    )
    row = window.page_titles().index("Compare")
    at = QPoint(10, row * window.rail._row + 20)
    tip = QHelpEvent(QEvent.Type.ToolTip, at, window.rail.mapToGlobal(at))
    QApplication.sendEvent(window.rail, tip)
    assert "second frame" in QToolTip.text()


def test_one_choice_groups_every_table_and_the_strip(window: MainWindow, depot: Path) -> None:
    window.open_files([depot])
    page, overdraw = time_page(window), window.page("Overdraw")
    page.table.by.setCurrentIndex(page.table.by.findData("mesh"))
    model = page.table.model
    assert model.headerData(0, Qt.Orientation.Horizontal).startswith("mesh / step")
    names = [model.data(model.index(r, 0)) for r in range(model.rowCount())]
    assert names[0] == "box, 36 vertices" and "quad, 4 vertices" in names
    window.show_page("Overdraw")
    assert overdraw.table.by.currentData() == "mesh"  # type: ignore[attr-defined]
    assert overdraw.table.model.rowCount() == model.rowCount()  # type: ignore[attr-defined]
    assert window.strip._times.groups[0].label == "box, 36 vertices"  # type: ignore[union-attr]
    window.show_page("Time")
    page.table.view.setCurrentIndex(model.index(0, 0))
    selection = window.workspace.current.selection  # type: ignore[union-attr]
    assert len(selection.marked) == 320 and selection.step == selection.marked[-1], "all of a group are marked"
    window.close()
    assert window.settings.value("group_by") == "mesh"


def test_passes_have_pictures(window: MainWindow, depot: Path) -> None:
    window.open_files([depot])
    document = window.workspace.current
    assert document is not None
    model = time_page(window).table.model
    row = next(r for r in range(model.rowCount()) if model.data(model.index(r, 0)) == "rain")
    index = model.index(row, 0)
    before = model.data(index, Qt.ItemDataRole.DecorationRole).toImage()
    pass_index = document.frame.passes.names.index("rain")
    document.pass_pictures.show({pass_index: np.full((90, 160, 3), 200, np.uint8)})
    after = model.data(index, Qt.ItemDataRole.DecorationRole).toImage()
    assert after.pixelColor(30, 10).red() == 200 and before.pixelColor(30, 10).alpha() == 0
    assert "<img" in model.data(index, Qt.ItemDataRole.ToolTipRole)


def test_frames_are_compared_by_their_surveys_before_they_are_measured(window: MainWindow, depot: Path) -> None:
    window.open_files([depot, demo_files()[1]])
    page = window.page("Compare")
    window.show_page("Compare")
    rows = page.passes.rows.rows  # type: ignore[attr-defined]
    found = {row[0][0]: row[0] for row in rows}
    assert found["shadow"][1] == "324 > 12" and float(found["shadow"][2]) > float(found["shadow"][3]) > 0
    assert found["shadow"][4] == "" and found["camera"][3] == "", "no difference is claimed, and no pass made up"


def test_few_pixels_that_differ_are_made_large_enough_to_be_seen() -> None:
    mask = np.zeros((9, 12), bool)
    mask[4, 0] = mask[0, 11] = True
    grown = _grown(mask, 2)
    assert grown.shape == mask.shape and grown.sum() == 5 * 3 + 3 * 3
    assert grown[2:7, :3].all() and grown[:3, 9:].all()


def test_the_window_goes_on_while_a_file_is_read(window: MainWindow, depot: Path) -> None:
    served = []
    QTimer.singleShot(0, lambda: served.append(window.workspace.current))
    window.open_files([depot])
    assert served == [None] and window.workspace.current is not None


def test_a_window_closed_while_a_file_is_read_shows_nothing_any_more(window: MainWindow, depot: Path) -> None:
    QTimer.singleShot(0, window.close)
    window.open_files([depot])
    assert window.workspace.current is None and not window.isVisible()


def test_a_file_opened_twice_at_once_is_one(window: MainWindow, depot: Path) -> None:
    QTimer.singleShot(0, lambda: window.open_files([depot]))
    window.open_files([depot])
    assert len(window.workspace.documents) == 1


def test_a_mistake_of_ours_while_a_file_is_read_is_one_message(
    window: MainWindow, depot: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Document, "prepare", lambda _document: [][0])
    window.open_files([depot])
    assert window.workspace.current is None
    boxes = [w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()]
    assert len(boxes) == 1 and boxes[0].text() == "This file cannot be opened"
    boxes[0].close()


def test_the_rail_has_its_figures_before_a_page_was_ever_seen(window: MainWindow, qtbot: Any, tmp_path: Path) -> None:
    window.open_files([Path(shutil.copy(demo_files()[0], tmp_path))])
    wanted = ["Plan", "Overdraw", "Geometry", "Batching", "State", "Shaders", "Memory", "Trials", "Findings"]
    qtbot.waitUntil(lambda: all(window.page(title).figure() for title in wanted), timeout=30000)
    assert window.page("Plan").figure().endswith(" ms") and not window.page("Plan").isVisible()


def test_looks_that_stay_what_they_are_touch_no_widget(window: MainWindow, qtbot: Any) -> None:
    """Qt goes through every widget of the application when its style sheet is set, were it the same: seconds."""

    class Restyled(QWidget):
        times = 0

        def changeEvent(self, event: QEvent) -> None:
            self.times += event.type() in (QEvent.Type.StyleChange, QEvent.Type.PaletteChange)

    widget = Restyled()
    qtbot.addWidget(widget)
    widget.show()
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.choose("light")
    theme.apply(app)
    before = widget.times
    theme.apply(app)
    assert widget.times == before
    theme.choose("dark")
    theme.apply(app)
    assert widget.times > before
    theme.choose("system")
    theme.apply(app)

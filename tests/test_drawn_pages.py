"""The Overdraw, Geometry and Findings pages, the pixel stack, the mesh view and the lenses, driven as a user does."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QAbstractScrollArea, QLabel, QWidget

from wendascope import records
from wendascope.advice.findings import Finding
from wendascope.desktop.pages.findings import FindingsPage
from wendascope.desktop.pages.geometry import GeometryPage
from wendascope.desktop.pages.overdraw import OverdrawPage
from wendascope.desktop.views.mesh_view import MeshPanel
from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.remedy import Remedy
from wendascope.measure.lenses import lenses
from wendascope.measure.pictures import picture_at
from wendascope.replay.client import Replay
from wendascope.trials.proofs.proof import stored_proofs
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey.examine import examine_file

from .conftest import Capture, program

PATIENCE = 60_000


@pytest.fixture(scope="module")
def examined(capture: Capture) -> Path:
    path, _ = capture(program("wasteful"))
    examine_file(path, repeats=2)
    return path


@pytest.fixture
def opened(window: MainWindow, examined: Path, tmp_path: Path) -> MainWindow:
    window.open_files([Path(shutil.copy(examined, tmp_path / "wasteful.wend"))])
    return window


def _scene(window: MainWindow) -> int:
    """First step of the pass with the flaws."""
    document = window.workspace.current
    assert document is not None
    passes = document.frame.passes
    return int(passes.first[next(i for i, t in enumerate(passes.targets) if t.framebuffer == 1)])


def _lens(window: MainWindow, qtbot: Any, name: str) -> None:
    window.picture.lens.setCurrentIndex(window.picture.lens.findData(name))
    qtbot.waitUntil(lambda: window.picture._shown_lens == name and not window.picture.view.note, timeout=PATIENCE)


def test_measuring_in_the_window_fills_every_page(window: MainWindow, own_small: Path, qtbot: Any) -> None:
    window.open_files([own_small])
    window.show_page("Overdraw")
    page = window.page("Overdraw")
    assert isinstance(page, OverdrawPage) and page.answer.text() == "Not measured yet." and page.figure() == ""
    window.work.measure()
    document = window.workspace.current
    assert document is not None
    qtbot.waitUntil(lambda: document.drawn is not None and not window.work.measuring(), timeout=PATIENCE)
    assert "fragments" in page.answer.text() and page.figure().endswith("%")
    window.show_page("Geometry")
    assert "triangles" in window.page("Geometry").answer.text()  # type: ignore[attr-defined]
    assert records.DRAWN.all(own_small) and records.FINDINGS.all(own_small), "kept in the file"


def test_overdraw_is_told_in_waste_and_the_table_can_be_copied(opened: MainWindow, qtbot: Any) -> None:
    opened.show_page("Overdraw")
    page = opened.page("Overdraw")
    assert isinstance(page, OverdrawPage)
    assert "are wasted" in page.answer.text()
    table = page.table
    assert table.model.rowCount() == 3
    first = _scene(opened)
    opened.workspace.current.selection.choose(first + 3)  # type: ignore[union-attr]
    node = table.model.node(table.view.currentIndex())
    assert node is not None and (node.kind, node.first) == ("step", first + 3)
    table.view.setFocus()
    qtbot.keyClick(table.view, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    lines = QGuiApplication.clipboard().text().split("\n")
    assert lines[0].split("\t")[:3] == ["pass / step", "~ waste, ms", "wasted"]
    assert lines[1].startswith(f"{first + 3}  draw 6 vertices")
    # a pass chosen in the table is chosen everywhere, as it ends up
    table.view.setCurrentIndex(table.model.index(0, 0))
    node = table.model.node(table.view.currentIndex())
    assert node is not None and opened.workspace.current.selection.step == node.last  # type: ignore[union-attr]


def test_a_click_in_the_picture_shows_the_pixel_stack(opened: MainWindow, qtbot: Any) -> None:
    opened.show_page("Overdraw")
    page = opened.page("Overdraw")
    assert isinstance(page, OverdrawPage)
    document = opened.workspace.current
    assert document is not None
    first = _scene(opened)
    document.selection.choose(first + 13)
    _lens(opened, qtbot, "layers")
    view = opened.picture.view
    middle = view._origin() + QPointF(110.5, 59.5) * view.scale
    qtbot.mouseMove(view, QPoint(int(middle.x()), int(middle.y())))
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(int(middle.x()), int(middle.y())))
    assert document.pin.at is not None and page.tabs.currentWidget() is page.stack
    stack = page.stack.table.rows
    qtbot.waitUntil(lambda: stack.rowCount() > 3, timeout=PATIENCE)
    fates = [stack.columns[2].text(entry) for entry in stack.rows]
    assert (
        fates[0] == "blended, changed nothing"
        and "visible" in fates
        and any(f.startswith("covered by step") for f in fates)
    )
    page.stack.table.choose(stack.rows[-2])
    assert document.selection.step == stack.rows[-2].step
    page.tabs.setCurrentWidget(page.areas)
    worst = page.areas.topLevelItem(0)
    assert worst is not None and float(worst.text(1)) > 5
    page.areas.itemClicked.emit(worst, 0)
    assert document.pin.at is not None and page.tabs.currentWidget() is page.stack
    page.stack.again.click()
    assert document.pin.at is None and stack.rowCount() == 0


def test_every_lens_measures_paints_and_probes(examined: Path) -> None:
    with Replay(examined) as replay:
        for lens in lenses():
            found = replay.run(picture_at.asked(step=10, lens=lens.name))
            image = lens.paint(found)
            assert image.shape == (found["height"], found["width"], 3) and image.dtype == np.uint8
            assert lens.probe(found, 5, 5)
            if lens.legend is not None:
                shares = [entry.share for entry in lens.legend(found)]
                assert 0.9 < sum(shares) <= 1.001
            if lens.alike is not None and lens.step_at is not None:
                step = lens.step_at(found, 80, 60)
                mask = lens.alike(found, 80, 60)
                assert step is not None and mask is not None and mask[60, 80]


def test_rasterised_layers_count_what_is_hidden_and_discarded(examined: Path) -> None:
    with Replay(examined) as replay:
        passed, rasterised = (
            replay.run(picture_at.asked(step=10, lens=name))["layers"] for name in ("layers", "rasterised")
        )
    assert (rasterised >= passed).all() and rasterised.sum() > passed.sum() + 4000
    # the square behind everything, and the one with holes, which counts whole
    assert rasterised[75, 97] == passed[75, 97] + 2


def test_hovering_the_owner_lens_dims_the_rest(opened: MainWindow, qtbot: Any) -> None:
    opened.workspace.current.selection.choose(_scene(opened) + 6)  # type: ignore[union-attr]
    _lens(opened, qtbot, "owner")
    opened.picture.view.probed.emit((80, 60))
    assert opened.picture.view._overlay is not None and "seen on" in opened.picture.probe.text()
    opened.picture.view.probed.emit(None)
    assert opened.picture.view._overlay is None
    assert opened.picture.legend.isVisible() and opened.picture.legend.entries
    _lens(opened, qtbot, "colour")
    assert not opened.picture.legend.isVisible()


def test_the_outline_follows_the_step(opened: MainWindow, qtbot: Any) -> None:
    first = _scene(opened)
    opened.workspace.current.selection.choose(first + 12)  # type: ignore[union-attr]
    opened.picture.outline.setChecked(True)
    qtbot.waitUntil(lambda: opened.picture.view._outline is not None, timeout=PATIENCE)
    outline = opened.picture.view._outline
    assert outline is not None
    xs = [x for x in range(outline.width()) if any(outline.pixelColor(x, y).alpha() for y in range(outline.height()))]
    assert (min(xs), max(xs)) == (24, 55), "the square lies at 24 to 56"
    opened.picture.outline.setChecked(False)
    assert opened.picture.view._outline is None


def test_geometry_and_the_mesh_of_a_step(opened: MainWindow, qtbot: Any) -> None:
    opened.show_page("Geometry")
    page = opened.page("Geometry")
    assert isinstance(page, GeometryPage)
    assert "too small to cover a sample: above" in page.answer.text()
    fine = _scene(opened) + 12
    tree = page.table.model.tree
    node = tree.find(fine) if tree else None
    assert node is not None and page.table.model.text(node, 1) == "7,200"
    opened.workspace.current.selection.choose(fine)  # type: ignore[union-attr]
    page.tabs.setCurrentWidget(page.mesh)
    mesh: MeshPanel = page.mesh
    qtbot.waitUntil(lambda: mesh.picture.image is not None and bool(mesh.attributes.rows.rows), timeout=PATIENCE)
    assert [column.title for column in mesh.attributes.rows.columns][:2] == ["position.x", "position.y"]
    assert "7,200 triangles" in mesh.facts.text() and "32 x 24 pixels on its target" in mesh.facts.text()
    before = mesh.picture.image
    yaw = mesh.picture.yaw
    qtbot.keyClick(mesh.picture, Qt.Key.Key_Right)
    assert mesh.picture.yaw != yaw
    qtbot.waitUntil(lambda: mesh.picture.image is not None and mesh.picture.image != before, timeout=PATIENCE)
    mesh.space.setCurrentIndex(1)
    assert (mesh.picture.yaw, mesh.picture.pitch) == (0.0, 0.0)
    assert mesh.attributes.as_text().startswith("position.x\tposition.y")
    # a clear has none
    opened.workspace.current.selection.choose(_scene(opened))  # type: ignore[union-attr]
    assert mesh.picture.note == "Choose a draw to see its mesh."


def test_a_finding_is_proved_from_the_page(opened: MainWindow, qtbot: Any) -> None:
    opened.show_page("Findings")
    page = opened.page("Findings")
    assert isinstance(page, FindingsPage)
    document = opened.workspace.current
    assert document is not None
    assert page.figure() == str(len(document.findings)) and "findings" in page.answer.text()
    view = page.findings
    view.choose("outside-view-1")
    assert "outside one side of the view volume" in view.details.text() and view.prove.isEnabled()
    view.prove.click()
    qtbot.waitUntil(lambda: "outside-view-1" in document.proofs, timeout=PATIENCE)
    assert document.proofs["outside-view-1"].verdict in (Verdict.SAVES, Verdict.NO_DIFFERENCE, Verdict.NOISE)
    assert view.chosen is not None and view.chosen.id == "outside-view-1", "it stays chosen"
    assert "picture identical" in view.details.text()
    assert stored_proofs(document.path).keys() == {"outside-view-1"}
    view.choose(next(f.id for f in document.findings if f.remedy is None))
    assert not view.prove.isEnabled() and "cannot be tried" in view.details.text()


def test_where_a_proof_differs_is_shown(opened: MainWindow, qtbot: Any) -> None:
    document = opened.workspace.current
    assert document is not None
    step = _scene(opened) + 10
    wrong = Finding(
        "wrong", "test", "drop what is seen", "", [step], {}, None, "", "", "", Remedy("drop-steps", [step])
    )
    document.findings = [wrong]
    document.changed()
    opened.show_page("Findings")
    view = opened.page("Findings").findings  # type: ignore[attr-defined]
    view.prove.click()
    qtbot.waitUntil(lambda: "wrong" in document.proofs, timeout=PATIENCE)
    assert document.proofs["wrong"].verdict == Verdict.CHANGES
    assert view.difference.isVisibleTo(view)
    view.difference.click()
    qtbot.waitUntil(lambda: "pixels differ" in opened.picture.title.text(), timeout=PATIENCE)
    assert opened.picture.view._overlay is not None


def test_figures_are_written_into_large_pixels(opened: MainWindow, qtbot: Any) -> None:
    opened.workspace.current.selection.choose(_scene(opened) + 6)  # type: ignore[union-attr]
    _lens(opened, qtbot, "layers")
    assert opened.picture.view.figure is not None and opened.picture.view.figure(80, 60) == "6"
    view = opened.picture.view
    view.set_zoom(30.0)
    with_figures = view.grab().toImage()
    view.figure = None
    assert view.grab().toImage() != with_figures, "figures are painted into pixels that are large enough"


def test_every_page_answers_at_a_glance(opened: MainWindow, qtbot: Any) -> None:
    opened.resize(1280, 800)
    document = opened.workspace.current
    assert document is not None
    qtbot.waitUntil(lambda: document.structure is not None, timeout=PATIENCE)
    for title in opened.page_titles():
        opened.show_page(title)
        qtbot.wait(50)
        page = opened.page(title)
        answer = getattr(page, "answer", None)
        if isinstance(answer, QLabel):
            assert len(answer.text().split()) <= 15, f"{title}: {answer.text()}"
        areas = [area for area in page.findChildren(QAbstractScrollArea) if area.isVisible() and _scrolls(area)]
        assert len(areas) <= 2, f"{title}: {[area.accessibleName() for area in areas]}"
        assert opened.height() <= 800 and opened.width() <= 1280, title


def _scrolls(area: QAbstractScrollArea) -> bool:
    return area.verticalScrollBar().maximum() > 0


def test_all_that_can_be_worked_has_a_name(opened: MainWindow) -> None:
    """What a screen reader would say of it: its name, its text, or that of the label that belongs to it."""
    nameless = []
    for title in opened.page_titles():
        opened.show_page(title)
    for widget in opened.findChildren(QWidget):
        inner = isinstance(widget, QLabel) or type(widget.parent()).__name__ == "QFrame"  # lists of combo boxes
        if widget.focusPolicy() == Qt.FocusPolicy.NoFocus or widget.objectName().startswith("qt_") or inner:
            continue
        text = getattr(widget, "text", None)
        said = widget.accessibleName() or widget.toolTip() or (text() if callable(text) and not _takes(text) else "")
        label = any(label.buddy() is widget for label in opened.findChildren(QLabel))
        if not said and not label and type(widget).__name__ not in _CONTAINERS:
            nameless.append(f"{type(widget).__name__} in {type(widget.parent()).__name__}")
    assert not nameless, sorted(set(nameless))


_CONTAINERS = {
    "QScrollArea", "_Column", "CurrentStack", "PageStack", "QTabWidget", "QTabBar", "QSplitter", "QStackedWidget",
    "QHeaderView", "QLineEdit",
}  # fmt: skip
"""What they hold has names; the editors within boxes of numbers belong to these."""


def _takes(text: Any) -> bool:
    try:
        text()
    except TypeError:
        return True
    return False

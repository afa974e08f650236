"""The picture panel and what stands under it: exposure, a picture beside another, what a step reads and writes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt

from wendascope.desktop.models.document import Document
from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.step_objects import objects_of

from .conftest import load_opengl
from .synthetic import BlobStore, CallBatch, draw, frame_of, objects

PATIENCE = 60_000
_LIT = 981
"""A step of the pass that draws the lit room into a target of small floats."""


def test_a_step_reads_its_mesh_and_textures_and_writes_its_target() -> None:
    blobs, batch = BlobStore(), CallBatch()
    made = objects(blobs, 2, 2, 2)
    draw(batch, 1, 1, 2)
    frame = frame_of(batch, made, blobs)
    reads, writes = objects_of(frame, 0)
    names = {(thing.item.object_class, thing.item.name): thing for thing in reads}
    assert ("texture", 2) in names and ("texture", 1) not in names
    assert names["buffer", 2].parts == ("vertices",) and names["buffer", 3].parts == ("indices",)
    assert all(thing.writer == -1 and not thing.written for thing in reads)
    assert reads[0].is_image and not reads[-1].is_image, "images come first"
    assert [thing.item.object_class for thing in writes] == ["window"]


def test_who_wrote_an_object_last_is_known(depot: Path) -> None:
    frame = load_opengl(depot)
    reads, writes = objects_of(frame, _LIT)
    shadow = next(thing for thing in reads if thing.item.texels.has_depth)
    passes = frame.passes
    assert passes.short_names[int(passes.of_step[shadow.writer])] == "shadow"
    assert shadow.writer == int(passes.end[0]) - 1, "the last step of that pass"
    target = next(thing for thing in writes if thing.item.object_class == "texture")
    assert target.written and target.writer == _LIT - 1


@pytest.fixture
def opened(window: MainWindow, depot: Path, qtbot: Any) -> MainWindow:
    window.open_files([depot])
    window.show_page("Overdraw")
    _go(window, qtbot, _LIT)
    return window


def _document(window: MainWindow) -> Document:
    assert window.workspace.current is not None
    return window.workspace.current


def _go(window: MainWindow, qtbot: Any, step: int) -> None:
    window.choose_step(step)
    qtbot.waitUntil(
        lambda: f"after step {step:,}" in window.picture.title.text() and not window.picture.view.note, timeout=PATIENCE
    )


def _mean(window: MainWindow) -> float:
    image = window.picture.view.image
    assert image is not None
    small = image.scaled(64, 36)
    return float(np.mean([small.pixelColor(x, y).lightness() for x in range(64) for y in range(36)]))


@pytest.mark.driver
def test_a_dim_target_is_seen_and_its_range_is_said_and_stays(opened: MainWindow, qtbot: Any) -> None:
    panel = opened.picture
    assert "automatic range 0 to" in panel.title.text() and panel.exposure.isVisible()
    bright, fixed = _mean(opened), panel.exposure.exposure
    panel.exposure.plain.click()
    dark = _mean(opened)
    assert bright > 1.5 * dark, "what it holds is nearly black on a screen"
    assert panel.exposure.isVisible() and panel.exposure.exposure.plain
    panel.exposure.auto.click()
    _go(opened, qtbot, _LIT - 3)
    assert panel.exposure.exposure == fixed, "going through steps changes no range"
    panel.exposure.channels.setCurrentText("green")
    image = panel.view.image
    assert image is not None
    colours = [image.pixelColor(x, 300) for x in range(0, 1280, 64)]
    assert all(c.red() == c.green() == c.blue() for c in colours)
    high = panel.exposure.exposure.high
    panel.exposure.range.setFocus()
    qtbot.keyClick(panel.exposure.range, Qt.Key.Key_Left)
    assert panel.exposure.exposure.high < high and "automatic" not in panel.title.text()
    opened.choose_step(None)
    qtbot.waitUntil(lambda: "finished picture" in panel.title.text(), timeout=PATIENCE)
    assert "range" not in panel.title.text(), "what goes to a window is meant to be seen as it is"


@pytest.mark.driver
def test_a_pinned_picture_moves_and_is_read_with_the_other(opened: MainWindow, qtbot: Any) -> None:
    panel = opened.picture
    panel.pin.click()
    assert panel.pinned.isVisible() and panel.pinned.name.startswith("depot, after step")
    _go(opened, qtbot, 5)
    assert panel.pinned.isVisible(), "it stays while others are shown"
    panel.view.set_zoom(2.0, QPointF(10, 10))
    here, there = panel.view.image, panel.pinned.view.image
    assert here is not None and there is not None and here.width() != there.width()
    part = panel.view.width() / panel.view.scale / here.width()
    assert panel.pinned.view.width() / panel.pinned.view.scale / there.width() == pytest.approx(part, rel=0.02)
    panel.view.probed.emit((100, 200))
    assert "depot, after step" in panel.probe.text() and "red" in panel.probe.text()
    assert panel.pinned.view._echo == (100 * there.width() // here.width(), 200 * there.height() // here.height())
    panel.view.setFocus()
    qtbot.keyClick(panel.view, Qt.Key.Key_Right)
    qtbot.keyClick(panel.view, Qt.Key.Key_Return)
    assert _document(opened).pin.at is not None, "a pixel is pinned without a mouse"
    panel.pin.click()
    assert not panel.pinned.isVisible()


@pytest.mark.driver
def test_what_a_step_reads_is_shown_and_followed(opened: MainWindow, qtbot: Any) -> None:
    opened.step_tabs.setCurrentWidget(opened.step_objects)
    listed = opened.step_objects.list
    assert listed.count() >= 6
    texts = [listed.item(row).text() for row in range(listed.count())]
    shadow = next(row for row, text in enumerate(texts) if "(shadow)" in text)
    assert "2048 x 2048" in texts[shadow] and texts[shadow].startswith("reads")
    assert any(text.startswith("writes") and "1280 x 720" in text for text in texts)

    def drawn() -> bool:
        pixmap = listed.item(shadow).icon().pixmap(64, 48).toImage()
        return len({pixmap.pixelColor(x, 24).rgb() for x in range(64)}) > 3

    qtbot.waitUntil(drawn, timeout=PATIENCE)
    opened.step_objects._look(listed.item(shadow))
    qtbot.waitUntil(lambda: opened.picture.pinned.isVisible(), timeout=PATIENCE)
    assert "texture" in opened.picture.pinned.name
    opened.step_objects._follow(listed.item(shadow))
    step = _document(opened).selection.step
    passes = _document(opened).frame.passes
    assert step is not None and passes.short_names[int(passes.of_step[step])] == "shadow"


def test_each_page_keeps_its_own_split(window: MainWindow, depot: Path) -> None:
    window.open_files([depot])

    def shares() -> float:
        page, side = window.splitters["across"].sizes()
        return side / (page + side)

    window.show_page("Overdraw")
    assert shares() >= 0.5, "the picture leads where looking beats reading"
    window.show_page("Memory")
    memory = shares()
    assert memory < 0.45
    across = window.splitters["across"]
    across.setSizes([100, 900])
    across.splitterMoved.emit(100, 1)
    moved = shares()
    assert moved > memory + 0.05
    window.show_page("Overdraw")
    assert shares() >= 0.5
    window.show_page("Memory")
    assert shares() == pytest.approx(moved, abs=0.06)
    again = MainWindow(window.settings)
    again.resize(window.size())
    again.show()
    again.open_files([depot])
    again.show_page("Memory")
    page, side = again.splitters["across"].sizes()
    assert side / (page + side) == pytest.approx(moved, abs=0.08), "also the next time"
    again.close()

"""The bars on top of pages: parts that add up to their whole, painted to scale."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import QEvent, QPoint
from PySide6.QtGui import QHelpEvent
from PySide6.QtWidgets import QApplication, QToolTip

from wendascope import records
from wendascope.analysis.draws.structure import study
from wendascope.analysis.time.shares import Part, draw_parts, fragment_parts, program_parts, state_parts, triangle_parts
from wendascope.demo.data import demo_files
from wendascope.desktop.charts.parts_bar import PartsBar
from wendascope.desktop.widgets.theme import theme
from wendascope.frame.file import load
from wendascope.trials.survey.examine import case_of, stored_examination


@pytest.fixture(scope="module")
def depot() -> Path:
    return demo_files()[0]


def test_parts_add_up_to_what_was_counted(depot: Path) -> None:
    frame, survey = load(depot), records.SURVEY.newest(depot)
    drawn, _ = stored_examination(depot)
    assert drawn is not None and survey is not None
    fragments, triangles = fragment_parts(drawn), triangle_parts(drawn)
    assert sum(p.amount for p in fragments) == sum(p.fragments for p in drawn.passes)
    assert sum(p.amount for p in triangles) == sum(max(s.triangles, 0) for s in drawn.steps)
    assert [p.marked for p in fragments] == [False, True, True] and "visible" in fragments[0].text
    found = study(frame)
    assert sum(p.amount for p in state_parts(found)) == len(found.setting)
    draws = draw_parts(found)
    assert sum(p.amount for p in draws) == found.batches.draws_now() and draws[1].marked
    studies = case_of(frame, drawn, survey).study_shaders()
    times = program_parts(studies)
    assert sum(p.amount for p in times) == pytest.approx(sum(p.ms or 0.0 for p in studies)) and len(times) <= 7


def test_parts_of_nothing_are_nothing() -> None:
    from wendascope.analysis.geometry.drawn import Drawn

    empty = Drawn([], [], [])
    assert all(p.amount == 0 for p in [*fragment_parts(empty), *triangle_parts(empty)]) and program_parts([]) == []


def test_the_bar_is_to_scale_and_tells_each_part(qtbot: Any) -> None:
    bar = PartsBar("Where the fragments go")
    qtbot.addWidget(bar)
    bar.resize(409, 24)
    bar.show_parts([Part("visible", 3.0), Part("nothing", 0.0), Part("covered later", 1.0, True)])
    assert bar.isVisible() and len(bar.parts) == 2 and bar.accessibleDescription() == "visible; covered later"
    image = bar.grab().toImage()
    accent = theme().accent.lower()
    middle = image.height() - 2
    wasted = [x for x in range(image.width()) if image.pixelColor(x, middle).name() == accent]
    assert len(wasted) == pytest.approx(image.width() / 4, abs=6) and min(wasted) > image.width() / 2
    at = QPoint(400, 10)
    QApplication.sendEvent(bar, QHelpEvent(QEvent.Type.ToolTip, at, bar.mapToGlobal(at)))
    assert QToolTip.text() == "covered later"
    bar.show_parts([])
    assert not bar.isVisible()

"""The Plan page and the command, driven on a running program's frame."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import Qt

from wendascope.desktop.pages.plan import PlanPage
from wendascope.desktop.window import MainWindow
from wendascope.replay.client import Replay
from wendascope.trials.examine import examine_file

from .conftest import Capture, program
from .test_cli import result, run

pytestmark = pytest.mark.driver
PATIENCE = 60_000


@pytest.fixture(scope="module")
def wasteful(capture: Capture) -> Path:
    path, _ = capture(program("wasteful"))
    with Replay(path) as replay:
        examine_file(path, replay=replay)
    return path


def _page(window: MainWindow, path: Path, tmp_path: Path, qtbot: Any) -> PlanPage:
    window.open_files([Path(shutil.copy(path, tmp_path / "wasteful.wend"))])
    document = window.workspace.current
    assert document is not None
    qtbot.waitUntil(lambda: document.structure is not None, timeout=PATIENCE)
    window.show_page("Plan")
    page = window.page("Plan")
    assert isinstance(page, PlanPage)
    return page


def test_the_page_orders_ticks_and_proves(window: MainWindow, wasteful: Path, tmp_path: Path, qtbot: Any) -> None:
    page = _page(window, wasteful, tmp_path, qtbot)
    rows = page.table.rows.rows
    assert rows and "the budget of 16.7 ms" in page.answer.text() and page.figure().endswith("ms")
    gains = [row.item.gain for row in rows]
    assert gains == sorted(gains, reverse=True) and all(row.taken for row in rows) and len(rows) <= 12
    before = page._plan
    assert before is not None and [s.recommendation for s in before.steps] == [r.item.id for r in rows]
    page.waterfall.resize(700, 300)
    page.waterfall.grab()
    page.toggle(rows[0])
    after = page._plan
    assert after is not None and len(after.steps) == len(before.steps) - 1
    page.toggle(page.table.rows.rows[0])
    page.small.click()
    assert len(page.table.rows.rows) >= len(rows)
    qtbot.mouseClick(page.waterfall, Qt.MouseButton.LeftButton, pos=page.waterfall.rect().topLeft() + _at(1))
    assert page.table.chosen is not None and page.table.chosen.item.id == rows[0].item.id
    page.show_step.click()
    document = window.workspace.current
    assert document is not None and document.selection.step == rows[0].item.steps[0]
    page.prove.click()
    qtbot.waitUntil(lambda: not window.work.measuring() and bool(document.proofs), timeout=2 * PATIENCE)
    plan = page._plan
    assert plan is not None and (plan.steps == [] or any(step.proved for step in plan.steps))
    assert "gain" in page.details.text() or "below the fold" in page.details.text()


def _at(row: int) -> Any:
    from PySide6.QtCore import QPoint

    return QPoint(100, 32 * row + 10)


def test_the_command_tells_the_plan_and_writes_it(wasteful: Path, tmp_path: Path) -> None:
    path = Path(shutil.copy(wasteful, tmp_path / "w.wend"))
    told = result("plan", str(path), "--budget", "1000")
    assert told["plan"]["sentence"].endswith("the budget of 1000.0 ms is reached.")
    assert [r["gain"] for r in told["recommendations"] if "gain" in r] == []
    html, sarif = tmp_path / "plan.html", tmp_path / "plan.sarif"
    plain = run("plan", str(path), "--budget", "0.1", "--html", str(html), "--sarif", str(sarif))
    assert plain.returncode == 1 and "the budget of 0.1 ms is not reached" in plain.stdout
    assert "What to change" in html.read_text() and json.loads(sarif.read_text())["version"] == "2.1.0"
    proved = run("plan", str(path), "--budget", "1000", "--prove", "--seconds", "0.5")
    assert proved.returncode == 0 and " proved; the budget" in proved.stdout

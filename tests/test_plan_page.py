"""The Plan page and the command, driven on a running program's frame."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import Qt

from wendascope.advice.recommend import Section, State
from wendascope.desktop.models.document import Document
from wendascope.desktop.pages.plan import PlanPage
from wendascope.desktop.window.main_window import MainWindow
from wendascope.replay.client import Replay
from wendascope.trials.plan import recommendations_of
from wendascope.trials.proofs.proof import stored_proofs
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey.examine import examine_file

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
    shown = {row.item.id for row in rows}
    assert before is not None and before.steps and {s.recommendation for s in before.steps} <= shown
    assert page.answer.text().endswith("Nothing is proved yet."), "what is expected makes no headline"
    page.waterfall.resize(700, 300)
    page.waterfall.grab()
    first = next(row for row in rows if row.item.id == before.steps[0].recommendation)
    page.toggle(first)
    after = page._plan
    assert after is not None and len(after.steps) == len(before.steps) - 1
    page.toggle(next(row for row in page.table.rows.rows if row.item.id == first.item.id))
    for section in (Section.QUALITY, Section.MEMORY, Section.NOTHING):
        page.sections.choose(section)
        assert all(section is Section.NOTHING or row.item.section is section for row in page.table.rows.rows)
    page.choose(rows[0].item.id)
    assert page.sections.section is Section.TIME
    qtbot.mouseClick(page.waterfall, Qt.MouseButton.LeftButton, pos=page.waterfall.rect().topLeft() + _at(1))
    assert page.table.chosen is not None and page.table.chosen.item.id == before.steps[0].recommendation
    page.choose(rows[0].item.id)
    page.show_step.click()
    document = window.workspace.current
    assert document is not None and document.selection.step == rows[0].item.steps[0]
    page.prove.click()
    qtbot.waitUntil(lambda: not window.work.measuring() and bool(document.proofs), timeout=2 * PATIENCE)
    plan = page._plan
    assert plan is not None and plan.proved >= 1 and "proved" in page.answer.text()
    tried = {t.finding for item in page._found for t in item.tries}
    assert set(document.proofs) & {f.id for f in document.findings} <= tried, "every try is told"
    assert "gain" in page.details.text() or "below the fold" in page.details.text()


def _at(row: int) -> Any:
    from PySide6.QtCore import QPoint

    return QPoint(100, 32 * row + 10)


def test_the_command_tells_the_plan_and_writes_it(wasteful: Path, tmp_path: Path) -> None:
    path = Path(shutil.copy(wasteful, tmp_path / "w.wend"))
    told = result("plan", str(path), "--budget", "1000")
    assert "within the budget of 1000.0 ms" in told["plan"]["sentence"]
    assert [r["gain"] for r in told["recommendations"] if "gain" in r] == []
    html, sarif = tmp_path / "plan.html", tmp_path / "plan.sarif"
    plain = run("plan", str(path), "--budget", "0.1", "--html", str(html), "--sarif", str(sarif))
    assert plain.returncode == 1 and "over the budget of 0.1 ms" in plain.stdout
    assert "Time, with the same picture" in html.read_text() and json.loads(sarif.read_text())["version"] == "2.1.0"
    proved = run("plan", str(path), "--budget", "1000", "--prove", "--seconds", "0.5")
    assert proved.returncode == 0 and "it was within the budget" in proved.stdout
    assert_plan_and_proofs_agree(path)


def assert_plan_and_proofs_agree(path: Path) -> None:
    """Nothing that the plan says of a finding is other than what the proofs in the file say."""
    document = Document(path)
    found = recommendations_of(document.case, document.findings, document.proofs)
    states = {t.finding: t for item in found for t in item.tries if not t.part_of}
    alone = {identity: proof for identity, proof in document.proofs.items() if not proof.together}
    assert alone
    for identity, proof in alone.items():
        told = states[identity]
        match proof.verdict:
            case Verdict.SAVES:
                assert told.state is State.PROVED
            case Verdict.CHANGES | Verdict.LEAVES:
                assert told.state in (State.TRADE, State.CHANGES) and "pixel" in told.words + proof.picture
            case Verdict.NOISE:
                assert told.state in (State.UNCLEAR, State.PROVED)
            case Verdict.REFUSED:
                assert told.state is State.REFUSED and proof.reason in told.words


def test_a_plan_that_is_stopped_prints_what_it_has(wasteful: Path, tmp_path: Path) -> None:
    path = Path(shutil.copy(wasteful, tmp_path / "w.wend"))
    command = [sys.executable, "-m", "wendascope.cli", "plan", str(path), "--prove", "--budget", "0.1"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as running:
        assert running.stderr is not None and running.stdout is not None
        for line in running.stderr:
            if "proof 2 of" in line:
                running.send_signal(signal.SIGINT)
                break
        said = running.stderr.read()
        told = running.stdout.read()
    assert running.returncode == 1 and "the budget of 0.1 ms" in told and "Traceback" not in said
    assert "what was proved by then is kept" in said and len(stored_proofs(path)) >= 1

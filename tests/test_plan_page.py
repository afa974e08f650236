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
    listed, document = page.list, window.workspace.current
    assert document is not None
    groups = {group.section: group for group in listed.groups}
    rows = groups[Section.TIME].rows
    assert rows and "the budget" in page.answer.text() and page.figure().endswith("ms")
    assert len(page.answer.text().split()) <= 15, "a headline is read at a glance"
    assert all(row.taken and row.can_be_taken for row in rows) and len(rows) <= 12
    for section, group in groups.items():
        assert all(section is Section.NOTHING or row.item.section is section for row in group.rows)
        assert section is Section.TIME or not any(row.can_be_taken for row in group.rows)
    if Section.MEMORY in groups:
        assert groups[Section.MEMORY].total.startswith("up to "), "one sum, whatever the number of rows"
    before = page._plan
    assert before is not None and before.steps
    assert page.answer.text().endswith("nothing is proved yet."), "what is expected makes no headline"
    bars = [row.item.id for row in rows if row.bars is not None]
    assert bars == [step.recommendation for step in before.steps], "rows stand in the order of the waterfall"
    first = before.steps[0].recommendation
    listed.choose(first)
    listed.setFocus()
    qtbot.keyClick(listed, Qt.Key.Key_Space)
    after = page._plan
    assert after is not None and len(after.steps) == len(before.steps) - 1
    assert listed.current is not None and listed.current.item.id == first and not listed.current.taken
    page.toggle(first)
    copied = listed.as_text().splitlines()
    assert copied[0].startswith("group\tin plan") and len(copied) == 1 + len(listed.rows)
    qtbot.mouseClick(page.details.mark, Qt.MouseButton.LeftButton)
    assert listed.current is not None and document.selection.step == listed.current.item.steps[0]
    page.prove.click()
    qtbot.waitUntil(lambda: not window.work.measuring() and bool(document.proofs), timeout=2 * PATIENCE)
    plan = page._plan
    assert plan is not None and plan.proved >= 1 and "proved" in page.answer.text()
    tried = {t.finding for item in page._found for t in item.tries}
    assert set(document.proofs) & {f.id for f in document.findings} <= tried, "every try is told"
    assert "gain" in page.details.facts.text() or "below the fold" in page.details.facts.text()


def test_the_chosen_row_shows_its_pictures_code_and_steps(
    window: MainWindow, wasteful: Path, tmp_path: Path, qtbot: Any
) -> None:
    page = _page(window, wasteful, tmp_path, qtbot)
    details, document = page.details, window.workspace.current
    assert document is not None and window.under.currentWidget() is details, "it stands in the place of the facts"
    tried = [row for row in page.list.rows if page._findings_of(row) and len(row.item.steps) > 1]
    page.choose(tried[0].item.id)
    details.tabs.setCurrentWidget(details.code)
    qtbot.waitUntil(lambda: bool(details.code.current) or bool(details.code.note.text()), timeout=PATIENCE)
    assert details.code.current or details.code.note.text().endswith("and no shader.")
    details.tabs.setCurrentWidget(details.steps)
    details.steps.setFocus()
    details.steps.selectRow(1)
    assert document.selection.step == details.steps.rows.rows[1]
    details.show_change.click()
    qtbot.waitUntil(lambda: window.picture.pinned.name == "today", timeout=PATIENCE)
    assert window.picture.title.text().startswith(("Identical", "1 pixel")) or "pixels differ" in (
        window.picture.title.text()
    )
    document.selection.choose(0)
    qtbot.waitUntil(lambda: not window.picture.pinned.name, timeout=PATIENCE)


def _not_measured(window: MainWindow, capture: Capture, tmp_path: Path) -> Document:
    path, _ = capture(program("wasteful"))
    window.open_files([Path(shutil.copy(path, tmp_path / "fresh.wend"))])
    document = window.workspace.current
    assert document is not None and document.survey is None
    return document


def test_the_first_recommendation_can_be_proved_while_the_survey_runs(
    window: MainWindow, capture: Capture, tmp_path: Path, qtbot: Any
) -> None:
    document = _not_measured(window, capture, tmp_path)
    window.show_page("Plan")
    page = window.page("Plan")
    assert isinstance(page, PlanPage)
    seen: list[str] = []
    window.work.progress.connect(lambda _word, line, _part: seen.append(line))
    qtbot.keyClick(window, Qt.Key.Key_M, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: document.survey is not None, timeout=PATIENCE)
    assert window.work.surveying() and document.drawn is None, "times are there before anything else"
    assert window.header.time.text() and window.rail.figure_of("Time")
    qtbot.waitUntil(lambda: any(f.remedy for f in document.findings), timeout=PATIENCE)
    assert window.work.surveying() and page.list.rows, "the list fills while the survey runs"
    row = next(row for row in page.list.rows if page._findings_of(row))
    page.choose(row.item.id)
    wanted = {f.id for f in page._findings_of(row)}
    page.details.prove_one.click()
    qtbot.waitUntil(lambda: bool(wanted & set(document.proofs)), timeout=2 * PATIENCE)
    over_by_then = dict(document.stage_ends)
    qtbot.waitUntil(lambda: not window.work.measuring(), timeout=3 * PATIENCE)
    assert len(document.stage_ends) > len(over_by_then), "the proof came between two stages"
    assert any(line.startswith("stage 2 of") for line in seen) and document.memory_use is not None
    assert wanted & set(document.proofs)


def test_a_stopped_survey_keeps_what_it_measured_and_goes_on(
    window: MainWindow, capture: Capture, tmp_path: Path, qtbot: Any
) -> None:
    document = _not_measured(window, capture, tmp_path)
    window.work.measure()
    qtbot.waitUntil(lambda: document.survey is not None, timeout=PATIENCE)
    window.work.cancel()
    assert not window.work.measuring()
    survey = document.survey
    assert survey is not None
    assert Document(document.path).survey is not None, "what was measured is kept"
    window.work.measure(resume=True)
    assert window.work.surveying(), "while the stage that was stopped may not have ended"
    qtbot.waitUntil(lambda: not window.work.measuring(), timeout=3 * PATIENCE)
    assert document.drawn is not None and document.survey is not None
    assert document.survey.seconds == survey.seconds, "what was measured is not measured again"


def test_the_command_tells_the_plan_and_writes_it(wasteful: Path, tmp_path: Path) -> None:
    path = Path(shutil.copy(wasteful, tmp_path / "w.wend"))
    told = result("plan", str(path), "--budget", "1000")
    assert "within the budget" in told["plan"]["sentence"]
    assert [r["gain"] for r in told["recommendations"] if "gain" in r] == []
    html, sarif = tmp_path / "plan.html", tmp_path / "plan.sarif"
    plain = run("plan", str(path), "--budget", "0.1", "--html", str(html), "--sarif", str(sarif))
    assert plain.returncode == 1 and "over the budget" in plain.stdout
    assert "Time, with the same picture" in html.read_text() and json.loads(sarif.read_text())["version"] == "2.1.0"
    proved = run("plan", str(path), "--budget", "1000", "--prove", "--seconds", "0.5")
    assert proved.returncode == 0 and "within its budget" in proved.stdout
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
    assert running.returncode == 1 and "the budget is" in told and "Traceback" not in said
    assert "what was proved by then is kept" in said and len(stored_proofs(path)) >= 1

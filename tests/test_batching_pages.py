"""The State and Batching pages and the batch lens, driven as a user does."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QModelIndex, QSettings, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QInputDialog

from wendascope import records
from wendascope.advice.ways import ways_of
from wendascope.analysis import guidelines as guidelines_module
from wendascope.analysis.draws.batches import Batch
from wendascope.demo.data import demo_files
from wendascope.desktop.pages.batching import BatchingPage
from wendascope.desktop.pages.state import StatePage
from wendascope.desktop.views.code_view import coloured
from wendascope.desktop.widgets.node_tree import Node, NodeTree
from wendascope.desktop.window import guidelines_file as file_module
from wendascope.desktop.window.main_window import MainWindow
from wendascope.measure.lenses import lens_named
from wendascope.measure.pictures import picture_at
from wendascope.replay.client import Replay
from wendascope.trials.proofs.proof import newest_together
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey.examine import examine_file

from .conftest import Capture, program
from .test_cli import result, run

PATIENCE = 60_000


@pytest.fixture(scope="module")
def crowd(capture: Capture) -> Path:
    path, _ = capture(program("crowd", "core"))
    examine_file(path, repeats=2)
    return path


@pytest.fixture
def opened(window: MainWindow, crowd: Path, tmp_path: Path, qtbot: Any) -> MainWindow:
    window.open_files([Path(shutil.copy(crowd, tmp_path / "crowd.wend"))])
    document = window.workspace.current
    assert document is not None
    qtbot.waitUntil(lambda: document.structure is not None, timeout=PATIENCE)
    return window


def _batching(window: MainWindow) -> BatchingPage:
    window.show_page("Batching")
    page = window.page("Batching")
    assert isinstance(page, BatchingPage)
    return page


def _open(tree: NodeTree, row: int, parent: QModelIndex | None = None) -> QModelIndex:
    """Open a row and make its children."""
    index = tree.nodes.index(row, 0, parent or QModelIndex())
    tree.expand(index)
    if tree.nodes.canFetchMore(index):
        tree.nodes.fetchMore(index)
    return index


def _batch(page: BatchingPage, how: str, textures: bool = False) -> Node:
    for row, node in enumerate(page.tree.nodes.root.children):
        if isinstance(node.thing, Batch) and node.thing.how == how and bool(node.thing.samplers) == textures:
            page.tree.setCurrentIndex(page.tree.nodes.index(row, 0))
            return node
    raise AssertionError(how)


def test_state_goes_from_kind_to_program_to_call_and_names_the_earlier_one(opened: MainWindow) -> None:
    opened.show_page("State")
    page = opened.page("State")
    assert isinstance(page, StatePage)
    assert "redundant" in page.answer.text() and page.figure().endswith("%")
    kinds = page.tree.nodes.root.children
    assert {k.texts[0] for k in kinds} >= {"uniform", "buffer, vertex array", "program"}
    page.redundant_only.setCurrentIndex(1)
    kinds = page.tree.nodes.root.children
    row = next(i for i, k in enumerate(kinds) if k.texts[0] == "uniform")
    inner = _open(page.tree, 0, _open(page.tree, row))
    calls = page.tree.nodes.node(inner).children
    assert calls and "(mode, " in " ".join(c.texts[0] for c in calls), "uniforms by their names"
    page.tree.setCurrentIndex(page.tree.nodes.index(len(calls) - 1, 0, inner))
    assert page.tabs.currentWidget() is page.call and "The same was set" in page.call.text()
    step = page.call.text().split("<a href='")[1].split("'")[0]
    page.call.linkActivated.emit(step)
    assert opened.workspace.current is not None and opened.workspace.current.selection.step == int(step)
    page.passes.setCurrentIndex(1)
    assert page.tree.nodes.root.count > 0
    page.tree.selectAll()
    assert page.tree.as_text().splitlines()[0].startswith("kind / program / call\tcalls")
    assert page.switches.topLevelItemCount() == 1


def test_batches_are_listed_with_code_and_follow_the_selection(opened: MainWindow, qtbot: Any) -> None:
    page = _batching(opened)
    document = opened.workspace.current
    assert document is not None and page.figure().startswith("-")
    assert "give the same picture" in page.answer.text()
    node = _batch(page, "merge", textures=True)
    assert "14 textures" in node.texts[0] and node.texts[1] == "units"
    assert document.selection.step == node.thing.steps[0]
    page.code.piece.setCurrentText("Fragment shader")
    # another batch may have been asked for first
    qtbot.waitUntil(
        lambda: page.code.note.text().startswith(node.thing.label + ":") and page.code.piece.count() == 4,
        timeout=PATIENCE,
    )
    page.code.piece.setCurrentText("Fragment shader")
    assert "uniform sampler2D surface_unit13;" in page.code.current
    page.code.copy.click()
    assert QGuiApplication.clipboard().text() == page.code.current
    copies = next(
        n.thing for n in page.tree.nodes.root.children if isinstance(n.thing, Batch) and n.thing.how == "instance"
    )
    document.selection.choose(copies.steps[3])
    assert page.tree.current is not None and page.tree.current.thing is copies
    page.findings.choose(next(f.id for f in document.findings if f.rule == "textured-batch"))
    assert page.tree.current.thing is node.thing


def test_a_break_is_accepted_with_a_note_that_stays_with_the_file(
    opened: MainWindow, qtbot: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    page = _batching(opened)
    document = opened.workspace.current
    assert document is not None and document.structure is not None
    before = document.structure.breaks.broken
    view = page.breaks
    assert not view.accept.isEnabled()
    row = next(i for i, n in enumerate(view.tree.nodes.root.children) if n.texts[0] == "program")
    view.tree.setCurrentIndex(view.tree.nodes.index(row, 0))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("two materials, meant", True))
    view.accept.click()
    qtbot.waitUntil(
        lambda: document.structure is not None and document.structure.breaks.broken < before, timeout=PATIENCE
    )
    assert records.ACCEPTED_BREAK.all(document.path)[-1].note == "two materials, meant"
    assert any(
        n.texts[3] == "two materials, meant" for n in view.tree.nodes.root.children
    ) and view.note.text().startswith("1 accepted")
    row = next(i for i, n in enumerate(view.tree.nodes.root.children) if n.texts[0] == "program")
    view.tree.setCurrentIndex(view.tree.nodes.index(row, 0))
    view.back.click()
    qtbot.waitUntil(
        lambda: document.structure is not None and document.structure.breaks.broken == before, timeout=PATIENCE
    )


def test_choosing_a_pair_goes_to_its_second_step(opened: MainWindow) -> None:
    view = _batching(opened).breaks
    inner = _open(view.tree, 0, _open(view.tree, 0))
    node = view.tree.nodes.node(view.tree.nodes.index(0, 0, inner))
    view.tree.setCurrentIndex(view.tree.nodes.index(0, 0, inner))
    assert opened.workspace.current is not None and opened.workspace.current.selection.step == node.thing.step + 1
    assert node.texts[0].startswith(f"steps {node.thing.step:,} and ")


def test_atlas_pages_are_planned_shown_and_saved(
    opened: MainWindow, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    atlas = _batching(opened).atlas
    qtbot.waitUntil(lambda: atlas.picture._image is not None, timeout=PATIENCE)
    assert "draws read 14 textures" in atlas.facts.text()
    before = atlas.picture.plan
    atlas.padding.setValue(8)
    qtbot.waitUntil(lambda: atlas.picture.plan is not before and atlas.picture.plan is not None, timeout=PATIENCE)
    assert opened.settings.value("atlas/padding") in (8, "8")
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path / "atlas"))
    atlas.save.click()
    assert {p.suffix for p in (tmp_path / "atlas").iterdir()} == {
        ".png",
        ".json",
        ".csv",
    } and "Saved 3 files" in atlas.facts.text()


def test_changed_guidelines_are_read_and_the_frame_is_looked_at_again(
    opened: MainWindow, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    own = tmp_path / "settings" / "guidelines.toml"
    for module in (guidelines_module, file_module):
        monkeypatch.setattr(module, "own_file", lambda: own)
    monkeypatch.setattr("wendascope.desktop.window.guidelines_file.QDesktopServices.openUrl", lambda _url: True)
    opened.guidelines.edit()
    assert own.read_text() == guidelines_module.shipped_text()
    document = opened.workspace.current
    assert document is not None and document.structure is not None
    first = document.structure
    assert first.batches.batches[0].how == "instance"
    own.write_text("[batches]\nleast_copies = 1000\nleast_instance_vertices = 1000\n")
    qtbot.waitUntil(lambda: document.structure is not None and document.structure is not first, timeout=PATIENCE)
    assert document.structure.batches.batches[0].how == "merge"
    with Replay(document.path) as replay:  # a confined process cannot read that file: they are handed to it
        found = replay.run(picture_at.asked(step=None, lens="batch"))
    assert found["texts"] and (found["batch"] >= 0).any(), "the lens works with guidelines of one's own"


def test_the_batch_lens_names_groups_and_finds_their_steps(crowd: Path) -> None:
    with Replay(crowd) as replay:
        found = replay.run(picture_at.asked(step=None, lens="batch"))
    lens = lens_named("batch")
    image = lens.paint(found)
    assert image.shape == (120, 160, 3)
    y, x = (int(v[0]) for v in np.nonzero(found["batch"] >= 0))
    assert lens.probe(found, x, y).startswith(f"step {int(found['owner'][y, x])}, batch ")
    assert lens.step_at is not None and lens.step_at(found, x, y) == int(found["owner"][y, x])
    assert lens.alike is not None
    alike = lens.alike(found, x, y)
    assert alike is not None and alike.all() == (found["batch"] == found["batch"][y, x]).all()
    assert lens.legend is not None and sum(e.share for e in lens.legend(found)) <= 1.0
    ay, ax = (int(v[0]) for v in np.nonzero(found["batch"] == -2))
    assert lens.probe(found, ax, ay) == "nothing opaque was drawn here" and lens.step_at(found, ax, ay) is None


def test_one_proof_of_all_is_told_on_the_first_page(opened: MainWindow, qtbot: Any) -> None:
    document = opened.workspace.current
    assert document is not None
    chosen = [f for f in document.findings if f.kept_rule.page == "Batching"]
    opened.work.prove(chosen)
    qtbot.waitUntil(
        lambda: not opened.work.measuring() and all(f.id in document.proofs for f in chosen), timeout=2 * PATIENCE
    )
    opened.show_page("Time")
    evidence = opened.page("Time").evidence.text()  # type: ignore[attr-defined]
    combined = newest_together(document.proofs)
    if combined is None or combined.ratio is None:  # under much other load little can be told
        assert ">proved<" not in evidence
        return
    assert ">proved<" in evidence and "89 -&gt; " in evidence and "picture identical" in evidence
    page = _batching(opened)
    assert "Proved: " in page.evidence.text()
    assert {n.texts[8] for n in page.tree.nodes.root.children if isinstance(n.thing, Batch)} & {
        "no difference",
        "not to be told",
        "saves",
        "costs",
    }


def test_code_is_coloured_and_plain_text_stays_plain() -> None:
    assert (
        "<span" in coloured("void main() { float x = 1.0; }", "glsl")
        and "<span" not in coloured("a < b", "")
        and "&lt;" in coloured("a < b", "")
    )


def test_the_command_line_plans_an_atlas(crowd: Path, tmp_path: Path) -> None:
    told = result("atlas", str(crowd), "--out", str(tmp_path / "pages"), "--power-of-two")
    assert len(told["files"]) == 3 and told["atlases"][0]["pages"][0]["width"] in (64, 128)
    assert all(Path(name).exists() for name in told["files"])
    plain = run("atlas", str(crowd), "--out", str(tmp_path / "pages"))
    assert "textures; with 1 page, 1 draw does the same" in plain.stdout


def test_settings_of_the_atlas_come_back(qtbot: Any, tmp_path: Path) -> None:
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    settings.setValue("atlas/size", 1024)
    settings.setValue("atlas/rotation", "true")
    window = MainWindow(settings)
    qtbot.addWidget(window)
    page = window.page("Batching")
    assert isinstance(page, BatchingPage) and page.atlas.options.page == 1024 and page.atlas.options.rotation


# ---- the plan ------------------------------------------------------------------------------------------


def test_the_command_line_tells_the_plan(crowd: Path, tmp_path: Path) -> None:
    told = result("batches", str(crowd))
    # ten surfaces of one depth in turns keep their order: without them it would be eight
    assert told["measured"] and (told["now"], told["then"], told["least"]) == (88, 15, 15)
    assert [p["then"] for p in told["passes"]] == [15] and sum(len(b["batch"]["steps"]) for b in told["batches"]) >= 78
    plain = run("batches", str(crowd), "--code", str(tmp_path / "code"), "--atlas", str(tmp_path / "pages"))
    assert plain.returncode == 0 and "15 of 88 draws give the same picture" in plain.stdout
    names = [path.name for path in (tmp_path / "code").iterdir()]
    assert any(name.endswith("calls.c") for name in names) and any(name.endswith("-shader.glsl") for name in names)
    assert list((tmp_path / "pages").glob("*.png"))


def test_the_command_line_plans_as_if_keys_were_shared(crowd: Path) -> None:
    fewer = result("batches", str(crowd), "--share", "program", "--share", "texture array")
    assert fewer["then_shared"] < fewer["then"] == 15 and "program" not in [k["key"] for k in fewer["keys"]]
    plain = result("batches", str(crowd))
    gain = next(k for k in plain["keys"] if k["key"] == "program")
    part = next((k for k in plain["keys"] if k["of"]), None)
    if part is not None:
        some = result("batches", str(crowd), "--share", f"{part['key']}={','.join(map(str, part['of']))}")
        assert some["then"] - some["then_shared"] == part["saved"] <= gain["saved"] and part["what"]
    apart = result("batches", str(crowd), "--assume-no-overlap")
    assert apart["then_shared"] <= 8 < apart["then"]
    limited = result("batches", str(crowd), "--limit", "vertices_a_batch=100")
    assert limited["then"] > 15 and limited["least"] <= limited["then"]


def test_what_the_command_line_does_not_know_it_says(crowd: Path) -> None:
    for arguments, says in (
        (("--share", "colour"), "is none of program"),
        (("--limit", "size=1"), "is none of uniform"),
        (("--share", "blend=4000"), "after = come steps of the frame"),
    ):
        bad = run("batches", str(crowd), *arguments)
        assert bad.returncode == 2 and says in bad.stderr and bad.stderr.count("\n") == 1


def test_keys_are_ticked_and_the_plan_is_worked_out_again(opened: MainWindow, qtbot: Any) -> None:
    page = _batching(opened)
    view = page.keys
    page.tabs.setCurrentWidget(view)
    qtbot.waitUntil(lambda: len(view.table.rows.rows) > 5, timeout=PATIENCE)
    assert "15 draws" in view.note.text() and view.table.rows.rows[0].gain is not None
    best = view.table.rows.rows[0]
    view.toggle(best)
    qtbot.waitUntil(lambda: view.table.rows.rows[0].ticked, timeout=PATIENCE)
    assert view.table.rows.rows[0].shared == best.shared and "would be" in view.note.text()
    view.toggle(view.table.rows.rows[0])
    qtbot.waitUntil(lambda: not view.table.rows.rows[0].ticked, timeout=PATIENCE)
    assert "if draws shared" in view.table.rows.as_text([])


def test_draws_of_each_pass_are_listed_and_chosen(opened: MainWindow) -> None:
    page = _batching(opened)
    rows = page.passes.table.rows.rows
    assert [(row.now, row.then, row.least) for row in rows] == [(88, 15, 15)]
    assert "80 draws" in page.passes.device.currentText() and "1.1x" in page.passes.table.rows.as_text([0])
    page.passes.device.setCurrentIndex(page.passes.device.count() - 1)
    assert "2,000" in page.passes.table.rows.as_text([0]) and "0.044 times" in page.passes.note.text()
    page.passes.table.choose(rows[0])
    document = opened.workspace.current
    assert document is not None and document.selection.step == int(document.frame.passes.end[rows[0].index]) - 1


def test_todays_order_and_the_plans_are_strips_that_choose(opened: MainWindow, qtbot: Any) -> None:
    page = _batching(opened)
    document = opened.workspace.current
    assert document is not None and document.structure is not None
    strip = page.order
    page.tabs.setCurrentWidget(strip)
    strip.resize(700, 240)
    strip.grab()
    batch = max(document.structure.batches.batches, key=lambda b: len(b.steps))
    document.selection.choose(batch.steps[0])
    assert f"Batch {batch.number + 1}" in strip.note.text() and "16 by the plan" in strip.note.text()
    strip.grab()
    steps = [
        step for x in range(8, 692) for step in [strip.step_at(x, strip._strips()[0].center().y())] if step is not None
    ]
    planned = [
        step for x in range(8, 692) for step in [strip.step_at(x, strip._strips()[1].center().y())] if step is not None
    ]
    order = list(dict.fromkeys(planned))
    assert list(dict.fromkeys(steps)) == list(range(89)) and sorted(order) == list(range(89))
    at = [order.index(step) for step in batch.parts[0]]
    assert at == list(range(at[0], at[0] + len(at))), "the steps of one draw lie side by side"
    qtbot.keyClick(strip, Qt.Key.Key_Down)
    assert document.selection.step == order[order.index(batch.steps[0]) + 1]
    qtbot.keyClick(strip, Qt.Key.Key_Left)
    assert document.selection.step == order[order.index(batch.steps[0]) + 1] - 1


def test_ways_of_a_batch_are_side_by_side_and_proved(opened: MainWindow, qtbot: Any) -> None:
    page = _batching(opened)
    document = opened.workspace.current
    assert document is not None and document.structure is not None
    batch = next(b for b in document.structure.batches.batches if b.how == "instance")
    document.selection.choose(batch.steps[0])
    page.tabs.setCurrentWidget(page.ways)
    rows = page.ways.table.rows.rows
    assert [way.how for way in rows] == ["instance", "merge"] and page.ways.prove.isEnabled()
    page.ways.table.choose(rows[1])
    page.ways.prove.click()
    identity = rows[1].finding.id
    qtbot.waitUntil(lambda: identity in document.proofs and not opened.work.measuring(), timeout=PATIENCE)
    assert document.proofs[identity].verdict in (
        Verdict.SAVES,
        "no measurable difference",
        "cannot be told at this noise",
        "costs",
    )
    assert "not tried" in page.ways.table.rows.as_text([0]) and "not tried" not in page.ways.table.rows.as_text([1])
    merged = next(b for b in document.structure.batches.batches if b.how == "merge" and b.in_place)
    assert ways_of(document.structure.sharing, document.structure.batches, merged)[0].how == "merge"


def test_another_frame_takes_the_place_of_the_chosen_batch(opened: MainWindow, tmp_path: Path, qtbot: Any) -> None:
    """A batch of a long frame is chosen when a short one is opened: its steps are none of the short one's."""
    page = _batching(opened)
    page.tree.setCurrentIndex(page.tree.nodes.index(0, 0))
    assert page.ways.table.rows.rows
    opened.open_files([Path(shutil.copy(demo_files()[1], tmp_path / "small.wend"))])
    document = opened.workspace.current
    assert document is not None and len(document.frame.steps) < 89
    qtbot.waitUntil(lambda: document.structure is not None, timeout=PATIENCE)
    steps = {step for way in page.ways.table.rows.rows for step in way.finding.steps}
    assert all(step < len(document.frame.steps) for step in steps)

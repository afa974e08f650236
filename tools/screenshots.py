"""Makes the pictures of docs/screenshots from the demo frames, in a window of 1280 x 800."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QSettings
from PySide6.QtWidgets import QApplication

from wendascope.analysis.draws.batches import Batch
from wendascope.demo.data import PLATFORM_FRAMES
from wendascope.desktop.models.document import Document
from wendascope.desktop.pages.batching import BatchingPage
from wendascope.desktop.pages.capture import CapturePage
from wendascope.desktop.pages.geometry import GeometryPage
from wendascope.desktop.pages.memory import MemoryPage
from wendascope.desktop.pages.over_time import OverTimePage
from wendascope.desktop.pages.overdraw import OverdrawPage
from wendascope.desktop.pages.shaders import ShadersPage
from wendascope.desktop.pages.state import StatePage
from wendascope.desktop.pages.trials import TrialsPage
from wendascope.desktop.window.application import make_application
from wendascope.desktop.window.capture_form import TargetChoice
from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.places import frame_path
from wendascope.tap.messages import Take
from wendascope.trials.experiments.log import KEPT

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs" / "screenshots"
DATA = ROOT / "src" / "wendascope" / "demo" / "data"


def wait(app: QApplication, until: Callable[[], bool], seconds: float = 30.0) -> None:
    end = time.monotonic() + seconds
    while not until() and time.monotonic() < end:
        app.processEvents()
        time.sleep(0.01)
    app.processEvents()


def session(app: QApplication, window: MainWindow) -> None:
    """Captures of the running demo, first as it is and then with flaws mended, with notes."""
    page = window.page("Capture")
    assert isinstance(page, CapturePage)
    for arguments, note in (
        ("", "as it is"),
        ("--better instancing", "sleepers instanced"),
        ("--better instancing,mirror,grade", "mirror at half size, short grading loop"),
    ):
        page.form.show_choice(TargetChoice("python", f"-m wendascope.demo --off-screen --size 960x540 {arguments}"))
        page.start()
        taken = len(page.session.rows) + 1
        wait(app, lambda: len(page.session.beats) > 30 and page.now_button.isEnabled(), 60)
        page.take(Take())
        rows = page.session.rows
        wait(app, lambda rows=rows, taken=taken: len(rows) == taken and rows[-1].thumbnail is not None, 60)  # type: ignore[misc]
        model = page.table.rows
        model.setData(model.index(taken - 1, model.columnCount() - 1), note)
        if taken < 3:  # the last one goes on
            page.stop_button.click()
            wait(app, lambda: not page.session.running, 20)
    wait(app, lambda: len(page.session.beats) > 100, 60)


def drawn(app: QApplication, window: MainWindow, document: Document, depot: int, shoot: Callable[[str], None]) -> None:
    """What the pages about waste and geometry show, with a pixel held, an owner under the pointer, a mesh turned."""
    overdraw, geometry = window.page("Overdraw"), window.page("Geometry")
    assert isinstance(overdraw, OverdrawPage) and isinstance(geometry, GeometryPage)
    last = int(document.frame.passes.end[depot]) - 1

    def lens(name: str) -> None:
        window.picture.lens.setCurrentIndex(window.picture.lens.findData(name))
        wait(app, lambda: window.picture._shown_lens == name and not window.picture.view.note, 60)

    document.selection.choose(last)
    window.show_page("Overdraw")
    lens("layers")
    document.pin.put((420, 360))
    wait(app, lambda: overdraw.stack.table.rows.rowCount() > 2, 60)
    shoot("overdraw")
    document.pin.put(None)
    overdraw.tabs.setCurrentWidget(overdraw.findings)
    lens("owner")
    window.picture.view.probed.emit((460, 300))
    shoot("owner")
    window.picture.view.probed.emit(None)
    window.show_page("Geometry")
    lens("density")
    window.picture.outline.setChecked(True)
    document.selection.choose(int(document.frame.passes.first[depot]) + 212)
    geometry.tabs.setCurrentWidget(geometry.mesh)
    wait(app, lambda: geometry.mesh.picture.image is not None and bool(geometry.mesh.attributes.rows.rows), 60)
    wait(app, lambda: window.picture.view._outline is not None, 60)
    shoot("geometry")
    window.picture.outline.setChecked(False)
    lens("colour")
    window.show_page("Findings")
    window.page("Findings").findings.choose("not-visible-0")  # type: ignore[attr-defined]
    shoot("findings")
    window.show_page("Plan")
    wait(app, lambda: window.picture.pinned.name == "today", 60)
    shoot("plan")


def together(
    app: QApplication, window: MainWindow, document: Document, depot: int, shoot: Callable[[str], None]
) -> None:
    """What the pages about calls and batches show."""
    state, batching = window.page("State"), window.page("Batching")
    assert isinstance(state, StatePage) and isinstance(batching, BatchingPage)
    wait(app, lambda: document.structure is not None, 60)
    document.selection.choose(int(document.frame.passes.end[depot]) - 1)
    window.show_page("Batching")
    window.picture.lens.setCurrentIndex(window.picture.lens.findData("batch"))
    wait(app, lambda: window.picture._shown_lens == "batch" and not window.picture.view.note, 60)
    batching.findings.choose("batch-3-767")
    document.selection.choose(int(document.frame.passes.end[depot]) - 1)
    wait(app, lambda: "after step 988" in window.picture.title.text() and not window.picture.view.note, 60)
    shoot("batching")
    row = next(
        i for i, n in enumerate(batching.tree.nodes.root.children) if isinstance(n.thing, Batch) and n.thing.samplers
    )
    batching.tabs.setCurrentWidget(batching.code)
    batching.tree.setCurrentIndex(batching.tree.nodes.index(row, 0))
    wait(app, lambda: batching.code.piece.count() == 4, 60)
    batching.code.piece.setCurrentText("Fragment shader")
    wait(app, lambda: not window.picture.view.note, 60)
    shoot("code")
    batching.tabs.setCurrentWidget(batching.findings)
    window.picture.lens.setCurrentIndex(window.picture.lens.findData("colour"))
    window.show_page("State")
    index = state.tree.nodes.index(0, 0)
    state.tree.expand(index)
    inner = state.tree.nodes.index(0, 0, index)
    state.tree.expand(inner)
    app.processEvents()
    state.tree.setCurrentIndex(state.tree.nodes.index(30, 0, inner))
    state.tree.scrollTo(index, state.tree.ScrollHint.PositionAtTop)
    wait(app, lambda: not window.picture.view.note, 60)
    shoot("state")


def shaded(app: QApplication, window: MainWindow, document: Document, shoot: Callable[[str], None]) -> None:
    """What the pages about shaders and trials show: the most expensive program's source, then the grading pass."""
    shaders, trials = window.page("Shaders"), window.page("Trials")
    assert isinstance(shaders, ShadersPage) and isinstance(trials, TrialsPage)
    window.show_page("Shaders")
    wait(app, lambda: shaders.table.rows.rowCount() > 0, 60)
    shaders.table.selectRow(0)
    last = shaders.studied[0].steps[-1]
    document.selection.choose(last)
    wait(app, lambda: f"after step {last}" in window.picture.title.text(), 60)
    shaders.source.editor.mark(next(f.lines for f in document.findings if f.rule == "uniform-expression"))
    shoot("shaders")
    loop = next(f for f in document.findings if f.rule == "long-loop" and "rounds" in f.title)
    shaders.table.choose_program(loop.program)
    shaders.tabs.setCurrentWidget(shaders.limits)
    wait(app, lambda: not window.picture.view.note, 60)
    shoot("limits")
    shaders.tabs.setCurrentWidget(shaders.source)
    window.show_page("Trials")
    for rule, note in (
        ("unused-feature", "no snow this season"),
        ("uniform-expression", "sky once a vertex"),
        ("plain-texture", ""),
    ):
        for finding in [f for f in document.findings if f.rule == rule and f.id in document.proofs]:
            document.mark_trial(finding.id, KEPT, note)
    trials.together.click()
    wait(app, lambda: document.log.together is not None, 120)
    trials.table.rows.sort(0)
    trials.table.selectRow(0)
    shoot("trials")


def over_time(app: QApplication, window: MainWindow, path: Path) -> None:
    """Eight frames of the platform beside each other, and what its views look like when they are drawn less often."""
    window.open_files([frame_path(path, PLATFORM_FRAMES)])
    window.show_page("Over time")
    page = window.page("Over time")
    assert isinstance(page, OverTimePage)
    wait(app, lambda: len(page.table.rows.rows) == PLATFORM_FRAMES, 60)
    page.tabs.setCurrentWidget(page.views)
    page.views.table.selectRow([view.name for view in page.views.table.rows.rows].index("monitor"))


def memory(app: QApplication, window: MainWindow, path: Path, shoot: Callable[[str], None]) -> None:
    """The store room: what its memory consists of and what could be less."""
    window.open_files([path])
    window.show_page("Memory")
    page = window.page("Memory")
    assert isinstance(page, MemoryPage)
    wait(app, lambda: bool(page.table.rows.rows), 60)
    page.tabs.setCurrentWidget(page.findings)
    page.findings.table.selectRow(0)
    wait(app, lambda: not window.picture.view.note, 60)
    shoot("memory")
    window.close_current()


def marks(app: QApplication, window: MainWindow, shoot: Callable[[str], None]) -> None:
    """A store room that leaks, marked four times."""
    page = window.page("Capture")
    assert isinstance(page, CapturePage)
    window.show_page("Capture")
    page.form.show_choice(TargetChoice("python", "-m wendascope.demo --off-screen --view store --flaws leak"))
    page.start()
    page.tabs.setCurrentWidget(page.marks)
    for count in range(1, 5):
        beats = len(page.session.memory)
        wait(app, lambda beats=beats: len(page.session.memory) > beats + 25, 60)  # type: ignore[misc]
        page.marks.mark.click()
        wait(app, lambda count=count: len(page.session.marked) == count, 60)  # type: ignore[misc]
    wait(app, lambda: "Grows" in page.marks.answer.text(), 60)
    shoot("marks")
    page.stop_button.click()
    wait(app, lambda: not page.session.running, 20)
    page.tabs.setCurrentWidget(page.table)


def main() -> None:
    app = make_application()
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        # no path of this machine in a picture: `python` is found like this, and files go to a home of its own
        os.environ["PATH"] = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
        os.environ["HOME"] = folder
        files = [Path(shutil.copy(DATA / name, folder)) for name in ("depot.wend", "depot-better.wend")]
        window = MainWindow(QSettings(str(Path(folder) / "settings.ini"), QSettings.Format.IniFormat))
        window.set_scheme("light")
        window.resize(1280, 800)
        window.show()

        def shoot(name: str) -> None:
            app.processEvents()
            window.grab().save(str(OUT / f"{name}.png"))
            print(OUT / f"{name}.png")

        session(app, window)
        shoot("capture")
        page = window.page("Capture")
        assert isinstance(page, CapturePage)
        page.stop_button.click()
        wait(app, lambda: not page.session.running, 20)
        marks(app, window, shoot)
        memory(app, window, Path(shutil.copy(DATA / "store.wend", folder)), shoot)
        window.open_files(files)
        window.show_page("Time")
        document = window.workspace.current
        assert document is not None
        wait(app, lambda: document.structure is not None and bool(document.pass_pictures.images), 60)
        wait(app, lambda: window._figure("Shaders") != "", 60)
        shoot("time")
        depot = document.frame.passes.names.index("depot")
        document.selection.choose(int(document.frame.passes.first[depot]) + 240)
        wait(app, lambda: "after step" in window.picture.title.text())
        shoot("step")
        drawn(app, window, document, depot, shoot)
        together(app, window, document, depot, shoot)
        shaded(app, window, document, shoot)
        window.show_page("Time")
        window.set_scheme("dark")
        window.strip.show_group(depot)
        document.selection.choose(int(document.frame.passes.end[depot]) - 1)
        window.picture.lens.setCurrentIndex(window.picture.lens.findData("depth"))
        wait(app, lambda: window.picture._found is not None and "distance" in window.picture._found)
        shoot("dark")
        window.set_scheme("light")
        window.picture.lens.setCurrentIndex(window.picture.lens.findData("colour"))
        over_time(app, window, Path(shutil.copy(DATA / "platform.wend", folder)))
        shoot("over-time")
        window.close_current()
        window.compare(*files)
        compare = window.page("Compare")
        compare.measure()  # type: ignore[attr-defined]
        wait(app, lambda: compare.figure() not in ("", "two"), 240)
        shoot("compare")
        window.close()
        window.deleteLater()
        app.sendPostedEvents(None, QEvent.Type.DeferredDelete)


if __name__ == "__main__":
    main()

"""The main window: header, frame strip, question rail with its pages, picture and facts."""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QFileSystemWatcher, QSettings, Qt, QUrl
from PySide6.QtGui import (
    QAction,
    QActionGroup,
    QCloseEvent,
    QDesktopServices,
    QDragEnterEvent,
    QDropEvent,
    QGuiApplication,
    QKeySequence,
    QPalette,
)
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QMessageBox,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

import wendascope
from wendascope.analysis.findings import Finding, Remedy
from wendascope.analysis.guidelines import guidelines, own_file, shipped_text
from wendascope.analysis.structure import study
from wendascope.demo.data import demo_files
from wendascope.desktop import theme
from wendascope.desktop.command_palette import CommandPalette
from wendascope.desktop.facts_panel import FactsPanel
from wendascope.desktop.header import Header
from wendascope.desktop.jobs import JobRunner
from wendascope.desktop.models.commands import Failed, JobName, T, Work
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages import pages
from wendascope.desktop.picture import PicturePanel
from wendascope.desktop.rail import QuestionRail
from wendascope.desktop.source_view import LONGEST_SECONDS
from wendascope.desktop.strip import FrameStrip
from wendascope.errors import CancelledError, FileError, WendascopeError
from wendascope.files import write_atomically
from wendascope.measure.lenses import lenses
from wendascope.measure.pictures import verify
from wendascope.measure.records import Verification
from wendascope.measure.survey import REPEATS
from wendascope.replay.client import Replay, in_force
from wendascope.report.formats import export, form_named, forms
from wendascope.report.survey import survey_document
from wendascope.trials.examine import Examined, examine, keep
from wendascope.trials.proof import Proof, prove, prove_all
from wendascope.trials.runs import Beside, picture_of

_RECENT = 10
_DEFAULT_BUDGET = 16.7
_FILTER = "Captured frames (*.wend);;All files (*)"


def _line(vertical: bool = False) -> QFrame:
    line = QFrame()
    line.setFrameShape(QFrame.Shape.VLine if vertical else QFrame.Shape.HLine)
    line.setFrameShadow(QFrame.Shadow.Plain)
    line.setForegroundRole(QPalette.ColorRole.Mid)
    return line


class MainWindow(QMainWindow):
    """One window; frames are opened into it and looked at one at a time."""

    def __init__(self, settings: QSettings | None = None) -> None:
        super().__init__()
        self.settings = settings or QSettings("Wendascope", "Wendascope")
        self.workspace = Workspace(float(self.settings.value("budget_ms", _DEFAULT_BUDGET)))  # type: ignore[arg-type]
        self._jobs: dict[Document, JobRunner] = {}
        self._studied: set[Document] = set()
        self._watcher = QFileSystemWatcher(self)
        if own_file().exists():
            self._watcher.addPath(str(own_file()))
        self._watcher.fileChanged.connect(self._guidelines_changed)
        self._actions: list[tuple[str, QAction]] = []
        self.setWindowTitle("Wendascope")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.header = Header(self.workspace)
        self.strip = FrameStrip(self.workspace)
        self.workspace.commands = self
        made = [(title, maker(self.workspace, self.settings)) for title, maker in pages()]
        self._pages = dict(made)
        self.rail = QuestionRail(made)
        self.pages = QStackedWidget()
        for _, page in made:
            self.pages.addWidget(page.widget())
        self.rail.chosen.connect(self._show_page)
        self.picture = PicturePanel()
        self.facts = FactsPanel()
        self._build()
        self._menus()
        self.header.measure.connect(self.measure)
        self.header.cancel.connect(self.cancel)
        self.workspace.listen(self._refresh)
        self._restore()
        self._refresh()

    # ---- layout --------------------------------------------------------------------------------------

    def _build(self) -> None:
        side = QSplitter(Qt.Orientation.Vertical)
        side.addWidget(self.picture)
        side.addWidget(self.facts)
        side.setSizes([380, 300])
        side.setChildrenCollapsible(False)
        self._side = side
        across = QSplitter(Qt.Orientation.Horizontal)
        across.addWidget(self.pages)
        across.addWidget(side)
        across.setStretchFactor(0, 3)
        across.setStretchFactor(1, 2)
        across.setSizes([720, 460])
        across.setChildrenCollapsible(False)
        self.splitters = {"across": across, "side": side}
        below = QHBoxLayout()
        below.setContentsMargins(0, 0, 0, 0)
        below.setSpacing(0)
        below.addWidget(self.rail)
        below.addWidget(_line(vertical=True))
        below.addWidget(across, 1)
        frame_view = QWidget()
        self._strip_line = _line()
        layout = QVBoxLayout(frame_view)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.header)
        layout.addWidget(self.strip)
        layout.addWidget(self._strip_line)
        layout.addLayout(below, 1)
        self.setCentralWidget(frame_view)

    def _show_page(self, index: int) -> None:
        """Show a page; one that stands alone gets the room of strip, picture and facts."""
        self.pages.setCurrentIndex(index)
        alone = list(self._pages.values())[index].alone
        is_open = self.workspace.current is not None
        for part in (self.strip, self._strip_line, self._side):
            part.setVisible(is_open and not alone)
        self.header.setVisible(is_open)
        self._enable()

    def show_page(self, title: str) -> None:
        """Go to a page by its title."""
        self.rail.choose(self._page_index(title))

    def compare(self, before: Path, after: Path) -> None:
        """Open both files and show their comparison."""
        self.open_files([before, after])
        page = self._pages["Compare"]
        page.choose(before, after)  # type: ignore[attr-defined]
        self.show_page("Compare")

    # ---- menus -----------------------------------------------------------------------------------------

    def _add(
        self, menu: QMenu, text: str, run: Callable[[], object], shortcut: str | QKeySequence.StandardKey | None = None
    ) -> QAction:
        action = QAction(text, self)
        if shortcut is not None:
            action.setShortcut(QKeySequence(shortcut))
        action.triggered.connect(lambda _checked=False: run())
        menu.addAction(action)
        self._actions.append((f"{menu.title().replace('&', '')}: {text.replace('&', '')}", action))
        return action

    def _menus(self) -> None:
        bar = self.menuBar()
        files = bar.addMenu("&File")
        self._add(files, "&Open...", self.choose_files, QKeySequence.StandardKey.Open)
        self._recent_menu = files.addMenu("Open &recent")
        self._add(files, "Open the &demo frames", self.open_demo)
        self._add(files, "&Compare with another frame", lambda: self.show_page("Compare"), "Ctrl+D")
        self._close_action = self._add(files, "&Close this frame", self.close_current, QKeySequence.StandardKey.Close)
        files.addSeparator()
        self._save_picture_action = self._add(files, "Save the &picture...", self.save_picture, "Ctrl+Shift+P")
        self._copy_picture_action = self._add(files, "Copy the picture", self.copy_picture, "Ctrl+Shift+C")
        self._export_actions = [
            self._add(files, f"Write {form.title}...", functools.partial(self.write_report, form.name))
            for form in forms()
        ]
        files.addSeparator()
        self._add(files, "&Guidelines...", self.edit_guidelines)
        self._add(files, "&Quit", self.close, QKeySequence.StandardKey.Quit)

        frame = bar.addMenu("F&rame")
        self._measure_action = self._add(frame, "&Measure", self.measure, "Ctrl+M")
        self._cancel_action = self._add(frame, "&Cancel measuring", self.cancel, "Ctrl+.")
        self._verify_action = self._add(frame, "&Verify the picture", self.verify)
        self._prove_action = self._add(frame, "&Prove all findings", self.prove_everything, "Ctrl+Shift+M")

        go = bar.addMenu("&Go")
        self._go_actions = [
            self._add(go, "&Next step", lambda: self._move(1), "Alt+Down"),
            self._add(go, "&Previous step", lambda: self._move(-1), "Alt+Up"),
            self._add(go, "Next p&ass", lambda: self._move_pass(1), "Alt+PgDown"),
            self._add(go, "Previous pa&ss", lambda: self._move_pass(-1), "Alt+PgUp"),
            self._add(go, "&Finished picture", lambda: self._choose(None), "Alt+End"),
        ]
        go.addSeparator()
        self._back_action = self._add(go, "&Back", lambda: self._history(-1), "Alt+Left")
        self._forward_action = self._add(go, "F&orward", lambda: self._history(1), "Alt+Right")
        go.addSeparator()
        self._add(go, "Find &in this page", self._find, QKeySequence.StandardKey.Find)

        view = bar.addMenu("&View")
        for title in self._pages:
            self._add(view, f"Page: {title}", functools.partial(self.show_page, title))
        view.addSeparator()
        for i, item in enumerate(lenses()):
            choose = functools.partial(self.picture.lens.setCurrentIndex, i)
            self._add(view, f"Lens: {item.title}", choose, item.shortcut)
        self._outline_action = self._add(view, "&Outline the selected step", self.picture.outline.toggle, "Ctrl+L")
        view.addSeparator()
        self._add(view, "Picture: &larger", lambda: self.picture.view.zoom_by(1.25), QKeySequence.StandardKey.ZoomIn)
        self._add(view, "Picture: s&maller", lambda: self.picture.view.zoom_by(0.8), QKeySequence.StandardKey.ZoomOut)
        self._add(view, "Picture: &fit", self.picture.view.fit, "Ctrl+0")
        self._add(view, "Picture: &one to one", lambda: self.picture.view.set_zoom(1.0), "Ctrl+Shift+0")
        self._add(view, "Strip: whole frame", self.strip.show_all, "Ctrl+Home")
        view.addSeparator()
        schemes = QActionGroup(self)
        chosen = str(self.settings.value("scheme", "system"))
        for name, title in (
            ("system", "Colours: as the system"),
            ("light", "Colours: light"),
            ("dark", "Colours: dark"),
        ):
            action = self._add(view, title, functools.partial(self.set_scheme, name))
            action.setCheckable(True)
            action.setChecked(name == chosen)
            schemes.addAction(action)
        self.set_scheme(chosen)

        help_menu = bar.addMenu("&Help")
        self._add(help_menu, "&All commands...", self.show_palette, "Ctrl+Space")
        self._add(help_menu, "A&bout Wendascope", self.about)

    def set_scheme(self, name: str) -> None:
        """Colours: `system`, `light` or `dark`."""
        theme.choose(name)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply(app)
        self.settings.setValue("scheme", name)
        self.facts.refresh()

    def show_palette(self) -> None:
        CommandPalette(self._actions, self).exec()

    def about(self) -> None:
        QMessageBox.about(
            self,
            "About Wendascope",
            f"Wendascope {wendascope.__version__}\n\nShows where the time of a captured frame goes. Its files are"
            " described in docs/file-format.md.",
        )

    # ---- documents ---------------------------------------------------------------------------------------

    def open_files(self, paths: list[Path]) -> None:
        """Open files; a bad one is one message and the others are opened."""
        first: Document | None = None
        for path in paths:
            try:
                document = self.workspace.open(path)
            except WendascopeError as error:
                self._complain("This file cannot be opened", str(error))
                continue
            first = first or document
            self._remember(path.resolve())
            if document.introduction:
                self._tell_confinement(document)
        if first is not None:
            self.workspace.show(first)
            if self.pages.currentIndex() == self._page_index("Capture"):
                self.show_page("Time")

    def _tell_confinement(self, document: Document) -> None:
        """Complete what is said of a stranger's frame by what holds it on this machine, which takes a moment to try."""
        self._runner(document).submit(
            JobName.CONFINEMENT,
            lambda _replay, _progress, _cancelled: in_force().sentence,
            lambda sentence: document.set_introduction(
                f"{document.introduction} {sentence}" if document.introduction else ""
            ),
            lambda _error: None,
        )

    def _page_index(self, title: str) -> int:
        return list(self._pages).index(title)

    def open_demo(self) -> None:
        self.open_files(demo_files())

    def choose_files(self) -> None:
        folder = str(self.settings.value("folder", str(Path.home())))
        names, _ = QFileDialog.getOpenFileNames(self, "Open captured frames", folder, _FILTER)
        if names:
            self.settings.setValue("folder", str(Path(names[0]).parent))
            self.open_files([Path(name) for name in names])

    def close_current(self) -> None:
        document = self.workspace.current
        if document is not None:
            self.workspace.close(document)
            jobs = self._jobs.pop(document, None)
            if jobs is not None:
                jobs.close()

    def recent(self) -> list[str]:
        found = self.settings.value("recent", [])
        return [found] if isinstance(found, str) else list(found or [])  # type: ignore[call-overload]

    def _remember(self, path: Path) -> None:
        rest = [name for name in self.recent() if name != str(path)]
        self.settings.setValue("recent", [str(path), *rest][:_RECENT])
        self._fill_recent()

    def _fill_recent(self) -> None:
        self._recent_menu.clear()
        for name in self.recent():
            action = self._recent_menu.addAction(name)
            action.triggered.connect(lambda _checked=False, n=name: self.open_files([Path(n)]))
        self._recent_menu.setEnabled(bool(self.recent()))
        for page in self._pages.values():
            page.show_recent(self.recent())

    def _runner(self, document: Document) -> JobRunner:
        if document not in self._jobs:
            runner = JobRunner(document.path)
            runner.progress.connect(self._on_progress)
            runner.busy.connect(self._on_busy)
            self._jobs[document] = runner
        return self._jobs[document]

    def _refresh(self) -> None:
        document = self.workspace.current
        self.settings.setValue("budget_ms", self.workspace.budget_ms)
        if document is None:
            self.show_page("Capture")
        self._show_page(self.pages.currentIndex())
        self.setWindowTitle("Wendascope" if document is None else f"{document.path.name} - Wendascope")
        if document is not None:
            document.listen(self._measured)
            document.selection.listen(self._enable)
            self._study(document)
        self.picture.show_document(document, self._runner(document) if document else None)
        self.facts.show_document(document)
        self.rail.update()
        self._fill_recent()
        self._enable()

    def _measured(self) -> None:
        self.header.refresh_time()
        self.rail.update()
        self._enable()

    def _enable(self) -> None:
        document = self.workspace.current
        is_open = document is not None
        running = self._measuring()
        for action in (
            *self._go_actions,
            self._close_action,
            self._verify_action,
            self._save_picture_action,
            self._copy_picture_action,
        ):
            action.setEnabled(is_open)
        for action in self._export_actions:
            action.setEnabled(document is not None and document.survey is not None)
        self._measure_action.setEnabled(is_open and not running)
        self._prove_action.setEnabled(document is not None and not running and any(f.remedy for f in document.findings))
        self._cancel_action.setEnabled(running)
        self._back_action.setEnabled(document is not None and document.selection.can_go_back)
        self._forward_action.setEnabled(document is not None and document.selection.can_go_forward)

    # ---- measuring -----------------------------------------------------------------------------------------

    def _measuring(self) -> bool:
        document = self.workspace.current
        return document is not None and document in self._jobs and self._jobs[document].running(JobName.MEASURE)

    def run_measurement(self, work: Work[T], done: Callable[[T], None], failure: str) -> None:
        """A long job for the shown document, one at a time; it can be cancelled, and `failure` is what is said when
        it fails.
        """
        document = self.workspace.current
        if document is None or self._measuring():
            return
        self.header.show_progress("starting", 0.0)
        self._runner(document).submit(JobName.MEASURE, work, done, lambda error: self._failed(failure, error))

    def measure(self) -> None:
        """Survey the shown frame in the background and keep the result in its file."""
        document = self.workspace.current
        if document is not None:
            self.run_measurement(
                lambda replay, progress, cancelled: examine(document.frame, replay, REPEATS, progress, cancelled),
                lambda found: self._examined(document, found),
                "The frame could not be measured",
            )

    def _examined(self, document: Document, found: Examined) -> None:
        document.set_examined(found)
        try:
            keep(document.path, found)
        except FileError as error:
            self._complain("Measured, but not kept in the file", str(error))

    def prove(self, findings: list[Finding]) -> None:
        """Try the remedies of findings in the background; of several, also all that held as one changed frame."""
        document = self.workspace.current
        if document is None or not findings or self._measuring():
            return
        self.header.show_progress("starting", 0.0)
        self._runner(document).submit(
            JobName.MEASURE,
            lambda replay, progress, cancelled: self._proofs(document, findings, replay, progress, cancelled),
            document.add_proofs,
            lambda error: self._proof_ended(document, error),
        )

    def _proof_ended(self, document: Document, error: Exception) -> None:
        document.reload_proofs()  # those done before are kept
        self._failed("The proof could not be run", error)

    @staticmethod
    def _proofs(
        document: Document,
        findings: list[Finding],
        replay: Replay,
        progress: Callable[[str, float], None],
        cancelled: Callable[[], bool],
    ) -> list[Proof]:
        if len(findings) == 1:
            return [prove(document.path, document.frame, findings, replay, progress=progress, cancelled=cancelled)]
        proofs, combined = prove_all(
            document.path, document.frame, findings, replay, progress=progress, cancelled=cancelled
        )
        return [*proofs, *([combined] if combined else [])]

    def prove_everything(self) -> None:
        document = self.workspace.current
        if document is not None:
            self.prove([f for f in document.findings if f.remedy is not None])

    def show_difference(self, found: Beside, title: str) -> None:
        self.picture.show_difference(found, title)

    def show_changed_picture(self, remedies: list[Remedy], title: str) -> None:
        """Show the finished picture of the changed frame, and where it differs. One whose shaders never end is
        stopped.
        """
        self.run_job(
            JobName.CHANGED_PICTURE,
            lambda replay, progress, cancelled: replay.run(
                picture_of.asked(remedies), progress, cancelled, LONGEST_SECONDS
            ),
            lambda found: self.picture.show_difference(found, title),
            lambda error: self._failed("The changed frame could not be replayed", error),
        )

    def _study(self, document: Document) -> None:
        """Work out in the background what follows from the calls alone."""
        if document.structure is not None or document in self._studied:
            return
        self._studied.add(document)
        self._runner(document).submit(
            JobName.STUDY,
            lambda _replay, _progress, _cancelled: study(document.frame, document.accepted, document.drawn),
            document.set_structure,
            lambda error: self._failed("The calls could not be looked at", error),
        )

    def edit_guidelines(self) -> None:
        """Open a copy of the guidelines in the system's editor; frames are looked at again when it is saved."""
        path = own_file()
        try:
            if not path.exists():
                write_atomically(path, lambda scratch: scratch.write_text(shipped_text()))
        except WendascopeError as error:
            self._complain("The guidelines cannot be edited", str(error))
            return
        if str(path) not in self._watcher.files():
            self._watcher.addPath(str(path))
        if not QDesktopServices.openUrl(QUrl.fromLocalFile(str(path))):
            self._complain(
                "No editor was found",
                f"Edit {path} with a program of your choice; frames are looked at again when it is saved.",
            )

    def _guidelines_changed(self, path: str) -> None:
        if Path(path).exists() and path not in self._watcher.files():
            self._watcher.addPath(path)  # editors put a new file in the place of the old one
        guidelines.cache_clear()
        self._studied.clear()
        for document in self.workspace.documents:
            document.structure = None
        if self.workspace.current is not None:
            self._study(self.workspace.current)

    def run_job(self, name: JobName, work: Work[T], done: Callable[[T], None], failed: Failed) -> None:
        """A replay job for the shown document; a later one of the same name takes its place."""
        if self.workspace.current is not None:
            self._runner(self.workspace.current).submit(name, work, done, failed, replaces=True)

    def cancel(self) -> None:
        document = self.workspace.current
        if document is not None and document in self._jobs:
            self._jobs[document].cancel(JobName.MEASURE)

    def verify(self) -> None:
        """Compare the replay with the captured picture and say the result."""
        document = self.workspace.current
        if document is None:
            return
        self._runner(document).submit(
            JobName.VERIFY,
            lambda replay, progress, cancelled: replay.run(verify.asked(), progress, cancelled),
            lambda found: self._verified(document, found),
            lambda error: self._failed("The frame could not be replayed", error),
        )

    def _verified(self, document: Document, found: Verification) -> None:
        document.set_verification(found)
        self.header.refresh_time()
        if found.identical:
            QMessageBox.information(
                self,
                "Verify",
                f"Identical: all {found.pixels:,} pixels of the replay are those of the captured picture.",
            )
        else:
            self._complain("The replay differs", f"{found.sentence[:1].upper()}{found.sentence[1:]}.")

    def _on_progress(self, job: str, what: str, part: float) -> None:
        if job == JobName.MEASURE and self._measuring():
            self.header.show_progress(what, part)
        elif job == "picture":
            self.picture.show_progress(what, part)

    def _on_busy(self, job: str, busy: bool) -> None:
        if job == JobName.MEASURE and not busy:
            self.header.show_progress(None)
        self._enable()

    # ---- going about -----------------------------------------------------------------------------------------

    def _move(self, by: int) -> None:
        if self.workspace.current:
            self.workspace.current.next_step(by)

    def _move_pass(self, by: int) -> None:
        if self.workspace.current:
            self.workspace.current.next_pass(by)

    def _choose(self, step: int | None) -> None:
        if self.workspace.current:
            self.workspace.current.selection.choose(step)

    def _history(self, by: int) -> None:
        document = self.workspace.current
        if document is not None:
            (document.selection.go_back if by < 0 else document.selection.go_forward)()

    def _find(self) -> None:
        list(self._pages.values())[self.pages.currentIndex()].focus_search()

    # ---- out of the window -------------------------------------------------------------------------------------

    def save_picture(self) -> None:
        image = self.picture.view.image
        if image is None or self.workspace.current is None:
            return
        start = self.workspace.current.path.with_suffix(".png")
        name, _ = QFileDialog.getSaveFileName(self, "Save the picture", str(start), "PNG (*.png)")
        if not name:
            return
        data = QBuffer()
        image.save(data, "PNG")  # type: ignore[call-overload]
        try:
            write_atomically(Path(name), lambda scratch: scratch.write_bytes(data.data().data()))
        except WendascopeError as error:
            self._complain("The picture was not saved", str(error))

    def copy_picture(self) -> None:
        if self.picture.view.image is not None:
            QGuiApplication.clipboard().setImage(self.picture.view.image)

    def write_report(self, form_name: str) -> None:
        """Ask where, and write the survey in one form, in the background."""
        document = self.workspace.current
        if document is None or document.survey is None:
            return
        form = form_named(form_name)
        if form.folder:
            name = QFileDialog.getExistingDirectory(self, f"Folder for {form.title}", str(document.path.parent))
        else:
            start = document.path.with_name(f"{document.path.stem}-{form.name}{form.suffix}")
            name, _ = QFileDialog.getSaveFileName(self, f"Write {form.title} to", str(start))
        if not name:
            return
        told = survey_document(
            document.frame,
            document.survey,
            self.workspace.budget_ms,
            document.drawn,
            document.findings,
            document.proofs,
        )
        self._runner(document).submit(
            JobName.REPORT,
            lambda _replay, _progress, _cancelled: export(form_name, told, Path(name), document.path),
            lambda _done: self.statusBar().showMessage(f"Wrote {name}", 8000),
            lambda error: self._failed("The report was not written", error),
        )

    def _failed(self, title: str, error: Exception) -> None:
        """Say why a job failed, unless it was cancelled."""
        if not isinstance(error, CancelledError):
            self._complain(title, str(error))

    def _complain(self, title: str, text: str) -> None:
        box = QMessageBox(QMessageBox.Icon.Warning, title, f"<b>{title}</b>", QMessageBox.StandardButton.Ok, self)
        box.setInformativeText(text)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    # ---- dropping, remembering ----------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.open_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])
        event.acceptProposedAction()

    def _restore(self) -> None:
        geometry = self.settings.value("geometry")
        if isinstance(geometry, QByteArray):
            self.restoreGeometry(geometry)
        for name, splitter in self.splitters.items():
            state = self.settings.value(f"splitter_{name}")
            if isinstance(state, QByteArray):
                splitter.restoreState(state)
        self._fill_recent()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.settings.setValue("geometry", self.saveGeometry())
        for name, splitter in self.splitters.items():
            self.settings.setValue(f"splitter_{name}", splitter.saveState())
        for page in self._pages.values():
            page.close_page()
        for jobs in self._jobs.values():
            jobs.close()
        self._jobs.clear()
        event.accept()

"""The main window: header, frame strip, question rail with its pages, picture and facts."""

from __future__ import annotations

import functools
from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QCoreApplication, QEvent, QSettings, Qt
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QGuiApplication,
    QPalette,
    QShowEvent,
)
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QMessageBox,
    QSplitter,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

import wendascope
from wendascope.demo.data import demo_files
from wendascope.desktop.charts.strip import FrameStrip
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages import UNKNOWN, Page, page_modules, pages
from wendascope.desktop.views.facts_panel import FactsPanel
from wendascope.desktop.views.picture_panel import PicturePanel
from wendascope.desktop.views.step_objects_view import StepObjectsView
from wendascope.desktop.widgets import theme
from wendascope.desktop.widgets.current_stack import CurrentStack
from wendascope.desktop.widgets.plain import plain_tip
from wendascope.desktop.window.command_palette import CommandPalette
from wendascope.desktop.window.frame_work import FrameWork
from wendascope.desktop.window.guide import GuideWindow
from wendascope.desktop.window.guidelines_file import GuidelinesFile
from wendascope.desktop.window.header import Header
from wendascope.desktop.window.menus import Menus
from wendascope.desktop.window.opening import opened_document
from wendascope.desktop.window.page_stack import PageStack
from wendascope.desktop.window.rail import QuestionRail
from wendascope.desktop.window.splits import PageSplits
from wendascope.errors import WendascopeError
from wendascope.files import write_atomically
from wendascope.frame.frame import Picture
from wendascope.frame.step_objects import StepObject
from wendascope.measure.records import Verification
from wendascope.report.formats import form_named
from wendascope.texts import capital, visible

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

    def __init__(self, settings: QSettings | None = None, opening: bool = False) -> None:
        """With `opening`, files are opened right after: what is shown without any need not be built."""
        super().__init__()
        self._opening = opening
        self.settings = settings or QSettings("Wendascope", "Wendascope")
        self._look(str(self.settings.value("scheme", "system")))  # before there is anything to paint anew
        self.workspace = Workspace(float(self.settings.value("budget_ms", _DEFAULT_BUDGET)))  # type: ignore[arg-type]
        self.workspace.set_grouping(str(self.settings.value("group_by", "")))
        self.work = FrameWork(self.workspace, self)
        self._closed = False
        self.guide: GuideWindow | None = None
        self.guidelines = GuidelinesFile()
        self.setWindowTitle("Wendascope")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.header = Header(self.workspace)
        self.strip = FrameStrip(self.workspace)
        self.workspace.commands = self
        self.workspace.jobs = self.work
        self.pages = PageStack(
            [(title, functools.partial(maker, self.workspace, self.settings)) for title, maker in pages()],
            page_modules(),
        )
        self.rail = QuestionRail(self.pages.titles, self._figure, self._missing)
        self.rail.chosen.connect(self._show_page)
        self.pages.made.connect(self._page_made)
        self.picture = PicturePanel()
        self.facts = FactsPanel()
        self.step_objects = StepObjectsView(self.workspace)
        self.step_objects.looked_at.connect(self._look_beside)
        self.step_objects.followed.connect(self._follow_object)
        self._build()
        self.menus = Menus(self)
        self._connect()
        self.workspace.listen(self._refresh)
        self._restore()
        self._refresh()

    def _connect(self) -> None:
        self.header.measure.connect(self.work.measure)
        self.header.cancel.connect(self.work.cancel)
        self.work.progress.connect(self._on_progress)
        self.work.picture_progress.connect(self.picture.show_progress)
        self.work.changed.connect(self.menus.enable)
        self.work.failed.connect(self._complain)
        self.work.verified.connect(self._verified)
        self.work.difference.connect(self.picture.show_difference)
        self.work.report_written.connect(lambda name: self.statusBar().showMessage(f"Wrote {name}", 8000))
        self.guidelines.changed.connect(self.work.study_again)
        self.guidelines.failed.connect(self._complain)

    # ---- layout --------------------------------------------------------------------------------------

    def _build(self) -> None:
        self.under = CurrentStack()
        self.step_tabs = QTabWidget()
        self.step_tabs.addTab(self.facts, "Facts")
        self.step_tabs.addTab(self.step_objects, "Reads and writes")
        self.under.addWidget(self.step_tabs)
        side = QSplitter(Qt.Orientation.Vertical)
        side.addWidget(self.picture)
        side.addWidget(self.under)
        side.setChildrenCollapsible(False)
        self._side = side
        across = QSplitter(Qt.Orientation.Horizontal)
        across.addWidget(self.pages)
        across.addWidget(side)
        across.setChildrenCollapsible(False)
        self.splitters = {"across": across, "side": side}
        self._splits = PageSplits(self.settings, self.splitters)
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

    def _missing(self, title: str) -> tuple[str, str]:
        """What a page without a figure waits for: in a word or two, and what to do about it."""
        if self.workspace.current is None:
            return "no frame", "Capture a frame or open one: this page tells about it"
        page = self.pages.known(title)
        waits = page.waits_for() if page is not None else ("", "")
        if waits[0] == UNKNOWN and self.work.surveying():
            return "…", "This is being measured"
        return waits

    def _figure(self, title: str) -> str:
        """The answer of a page in a figure; empty before there is one."""
        page = self.pages.known(title)
        return page.figure() if page is not None else ""

    def _page_made(self, title: str) -> None:
        page = self.pages.page(title)
        page.show_recent(self.recent())
        beside = page.beside()
        if beside is not None:
            self.under.addWidget(beside)
        self.rail.update()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.pages.make_ahead()

    def _show_page(self, index: int) -> None:
        """Show a page; one that stands alone gets the room of strip, picture and facts."""
        self.enlarge_picture(False)
        self.pages.setCurrentIndex(index)
        # what the page before needed is forgotten first: the window is not made larger for both
        QCoreApplication.sendPostedEvents(None, QEvent.Type.LayoutRequest)
        page = self.pages.current()
        alone, is_open = page.alone, self.workspace.current is not None
        self.under.setCurrentWidget(page.beside() or self.step_tabs)
        if page.beside() is None:
            self.picture.leave_change()
        if is_open and not alone:
            self._splits.show(self.page_titles()[index], {"across": page.picture_share, "side": page.under_share})
        for part in (self.strip, self._strip_line, self._side):
            part.setVisible(is_open and not alone)
        self.header.setVisible(is_open)
        self.menus.enable()

    @property
    def picture_is_large(self) -> bool:
        return self.under.isHidden()

    def switch_picture(self) -> None:
        self.enlarge_picture(not self.picture_is_large)

    def enlarge_picture(self, large: bool) -> None:
        """Give the picture the room of page and facts, or take it back; the splitters stay as they are set."""
        if large and (self._side.isHidden() or self.workspace.current is None):
            return
        self.pages.setVisible(not large)
        self.under.setVisible(not large)

    def show_page(self, title: str) -> None:
        """Go to a page by its title."""
        self.rail.choose(self.page_titles().index(title))

    def compare(self, before: Path, after: Path) -> None:
        """Open both files and show their comparison."""
        self.open_files([before, after])
        page = self.page("Compare")
        page.choose(before, after)  # type: ignore[attr-defined]
        self.show_page("Compare")

    def show_finding(self, identity: str) -> None:
        """Go to the Findings page, with one of them chosen."""
        self.show_page("Findings")
        self.page("Findings").choose(identity)  # type: ignore[attr-defined]

    # ---- looks -----------------------------------------------------------------------------------------

    def set_scheme(self, name: str) -> None:
        """Colours: `system`, `light` or `dark`."""
        self._look(name)
        self.settings.setValue("scheme", name)
        self.facts.refresh()

    def _look(self, scheme: str) -> None:
        theme.choose(scheme)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply(app)

    def show_palette(self) -> None:
        CommandPalette(self.menus.actions, self).exec()

    def show_guide(self, name: str = "") -> None:
        """Open the guide, beside the window: the page that belongs to what is shown, or one by its name."""
        if self.guide is None:
            self.guide = GuideWindow(self.settings, self)
        self.guide.show_page(name or self.pages.current().guide)

    def about(self) -> None:
        QMessageBox.about(
            self,
            "About Wendascope",
            f"Wendascope {wendascope.__version__}\n\nShows where the time of a captured frame goes, and proves what"
            " makes it faster. The guide opens with F1.",
        )

    # ---- documents ---------------------------------------------------------------------------------------

    def open_files(self, paths: list[Path]) -> None:
        """Open files; a bad one is one message and the others are opened."""
        first: Document | None = None
        self.pages.stop()
        for path in paths:
            self.statusBar().showMessage(f"Opening {visible(path.name)}")
            try:
                document = self.workspace.find(path) or opened_document(path.resolve(), self._pictured)
            except WendascopeError as error:
                self._complain("This file cannot be opened", str(error))
                continue
            finally:
                self.statusBar().clearMessage()
            if self._closed:
                return
            document = self.workspace.find(path) or document  # opened once more meanwhile
            self.workspace.add(document)
            first = first or document
            self._remember(path.resolve())
            if document.introduction:
                self.work.tell_confinement(document)
        self._opening = False
        if first is None and self.workspace.current is None:
            self._refresh()
        elif first is not None:
            self.workspace.show(first)
        self.pages.make_ahead()

    def _pictured(self, picture: Picture) -> None:
        """Show what the program showed while its frame is still being read."""
        if self.workspace.current is None:
            self._side.setVisible(True)
            self.picture.show_captured(picture)

    def page(self, title: str) -> Page:
        """A page by its title."""
        return self.pages.page(title)

    def page_titles(self) -> list[str]:
        """Titles in the order of the rail."""
        return self.pages.titles

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
            self.work.close(document)

    def recent(self) -> list[str]:
        found = self.settings.value("recent", [])
        return [found] if isinstance(found, str) else list(found or [])  # type: ignore[call-overload]

    def _remember(self, path: Path) -> None:
        rest = [name for name in self.recent() if name != str(path)]
        self.settings.setValue("recent", [str(path), *rest][:_RECENT])
        self._fill_recent()

    def _fill_recent(self) -> None:
        self.menus.fill_recent(self.recent())
        for page in self.pages.pages:
            page.show_recent(self.recent())

    def _refresh(self) -> None:
        document = self.workspace.current
        self.settings.setValue("budget_ms", self.workspace.budget_ms)
        self.settings.setValue("group_by", self.workspace.grouping)
        if document is None:
            if self._opening:
                for part in (self.header, self.strip, self._strip_line, self._side):
                    part.hide()
                return
            self.show_page("Capture")
        elif self.pages.currentIndex() == self.page_titles().index("Capture"):
            self.show_page("Time")
        self._show_page(self.pages.currentIndex())
        self.setWindowTitle("Wendascope" if document is None else f"{document.path.name} - Wendascope")
        if document is not None:
            document.listen(self._measured)
            document.selection.listen(self.menus.enable)
            self.work.study(document)
        self.picture.show_document(document, self.work.runner(document) if document else None)
        if document is not None:
            self.work.picture_passes(document)  # after the picture that everybody looks at
        self.facts.show_document(document)
        self.step_objects.show_document(document)
        self.rail.update()
        self._fill_recent()
        self.menus.enable()

    def _measured(self) -> None:
        self.header.refresh_time()
        self.rail.update()
        self.menus.enable()

    # ---- news of the work in the background --------------------------------------------------------------

    def _on_progress(self, word: str, line: str, part: float | None) -> None:
        self.header.show_progress(None if part is None else word, part or 0.0)
        if part is None:
            self.statusBar().clearMessage()
        else:
            self.statusBar().showMessage(f"Measuring: {line}")
        self.rail.update()

    def _verified(self, verification: Verification) -> None:
        self.header.refresh_time()
        if verification.identical:
            QMessageBox.information(
                self,
                "Verify",
                f"Identical: all {verification.pixels:,} pixels of the replay are those of the captured picture.",
            )
        else:
            self._complain("The replay differs", f"{capital(verification.sentence)}.")

    # ---- going about -----------------------------------------------------------------------------------------

    def move_step(self, by: int) -> None:
        if self.workspace.current:
            self.workspace.current.next_step(by)

    def move_pass(self, by: int) -> None:
        if self.workspace.current:
            self.workspace.current.next_pass(by)

    def choose_step(self, step: int | None) -> None:
        if self.workspace.current:
            self.workspace.current.selection.choose(step)

    def go_in_history(self, by: int) -> None:
        document = self.workspace.current
        if document is not None:
            (document.selection.go_back if by < 0 else document.selection.go_forward)()

    def _look_beside(self, thing: StepObject) -> None:
        self.picture.show_beside(thing.item.object_class, thing.item.name, thing.item.title)

    def _follow_object(self, thing: StepObject) -> None:
        """To the step that wrote it last, or to what it holds where none did."""
        if thing.writer >= 0:
            self.choose_step(thing.writer)
        else:
            self.show_page("Memory")
            self.page("Memory").choose(thing.item)  # type: ignore[attr-defined]

    def find_in_page(self) -> None:
        self.pages.current().focus_search()

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
        self.work.write_report(form_name, Path(name))

    def _complain(self, title: str, text: str) -> None:
        box = QMessageBox(QMessageBox.Icon.Warning, title, title, QMessageBox.StandardButton.Ok, self)
        box.setInformativeText(plain_tip(text))
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
        self._fill_recent()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.settings.setValue("geometry", self.saveGeometry())
        self._closed = True
        self.pages.stop()
        for page in self.pages.pages:
            page.close_page()
        self.work.close_all()
        event.accept()

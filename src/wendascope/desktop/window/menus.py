"""The menus of the window, which are all its commands, and when each can be used."""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMenu

from wendascope.measure.lenses import lenses
from wendascope.report.formats import forms

if TYPE_CHECKING:
    from wendascope.desktop.window.main_window import MainWindow


class Menus:
    """Built once; `enable` follows what is shown."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self.actions: list[tuple[str, QAction]] = []
        """Every command with its title, as the palette lists them."""
        self._file_menu()
        self._frame_menu()
        self._go_menu()
        self._view_menu()
        self._help_menu()

    def _bar(self, title: str) -> QMenu:
        return self._window.menuBar().addMenu(title)

    def _add(
        self, menu: QMenu, text: str, run: Callable[[], object], shortcut: str | QKeySequence.StandardKey | None = None
    ) -> QAction:
        action = QAction(text, self._window)
        if shortcut is not None:
            action.setShortcut(QKeySequence(shortcut))
        action.triggered.connect(lambda _checked=False: run())
        menu.addAction(action)
        self.actions.append((f"{menu.title().replace('&', '')}: {text.replace('&', '')}", action))
        return action

    def _file_menu(self) -> None:
        window = self._window
        files = self._bar("&File")
        self._add(files, "&Open...", window.choose_files, QKeySequence.StandardKey.Open)
        self._recent_menu = files.addMenu("Open &recent")
        self._add(files, "Open the &demo frames", window.open_demo)
        self._add(files, "&Compare with another frame", lambda: window.show_page("Compare"), "Ctrl+D")
        self._close_action = self._add(files, "&Close this frame", window.close_current, QKeySequence.StandardKey.Close)
        files.addSeparator()
        self._save_picture_action = self._add(files, "Save the &picture...", window.save_picture, "Ctrl+Shift+P")
        self._copy_picture_action = self._add(files, "Copy the picture", window.copy_picture, "Ctrl+Shift+C")
        self._export_actions = [
            self._add(files, f"Write {form.title}...", functools.partial(window.write_report, form.name))
            for form in forms()
        ]
        files.addSeparator()
        self._add(files, "&Guidelines...", window.guidelines.edit)
        self._add(files, "&Quit", window.close, QKeySequence.StandardKey.Quit)

    def _frame_menu(self) -> None:
        work = self._window.work
        frame = self._bar("F&rame")
        self._measure_action = self._add(frame, "&Measure", work.measure, "Ctrl+M")
        self._cancel_action = self._add(frame, "&Cancel measuring", work.cancel, "Ctrl+.")
        self._verify_action = self._add(frame, "&Verify the picture", work.verify)
        self._prove_action = self._add(frame, "&Prove all findings", work.prove_everything, "Ctrl+Shift+M")

    def _go_menu(self) -> None:
        window = self._window
        go = self._bar("&Go")
        self._go_actions = [
            self._add(go, "&Next step", lambda: window.move_step(1), "Alt+Down"),
            self._add(go, "&Previous step", lambda: window.move_step(-1), "Alt+Up"),
            self._add(go, "Next p&ass", lambda: window.move_pass(1), "Alt+PgDown"),
            self._add(go, "Previous pa&ss", lambda: window.move_pass(-1), "Alt+PgUp"),
            self._add(go, "&Finished picture", lambda: window.choose_step(None), "Alt+End"),
        ]
        go.addSeparator()
        self._back_action = self._add(go, "&Back", lambda: window.go_in_history(-1), "Alt+Left")
        self._forward_action = self._add(go, "F&orward", lambda: window.go_in_history(1), "Alt+Right")
        go.addSeparator()
        self._add(go, "Find &in this page", window.find_in_page, QKeySequence.StandardKey.Find)

    def _view_menu(self) -> None:
        window = self._window
        picture = window.picture
        view = self._bar("&View")
        for title in window.page_titles():
            self._add(view, f"Page: {title}", functools.partial(window.show_page, title))
        view.addSeparator()
        for i, item in enumerate(lenses()):
            choose = functools.partial(picture.lens.setCurrentIndex, i)
            self._add(view, f"Lens: {item.title}", choose, item.shortcut)
        self._outline_action = self._add(view, "&Outline the selected step", picture.outline.toggle, "Ctrl+L")
        view.addSeparator()
        self._add(view, "Picture: o&ver the page, and back", window.switch_picture, "Ctrl+E")
        self._add(view, "Picture: &larger", lambda: picture.view.zoom_by(1.25), QKeySequence.StandardKey.ZoomIn)
        self._add(view, "Picture: s&maller", lambda: picture.view.zoom_by(0.8), QKeySequence.StandardKey.ZoomOut)
        self._add(view, "Picture: &fit", picture.view.fit, "Ctrl+0")
        self._add(view, "Picture: &one to one", lambda: picture.view.set_zoom(1.0), "Ctrl+Shift+0")
        self._add(view, "Strip: whole frame", window.strip.show_all, "Ctrl+Home")
        view.addSeparator()
        schemes = QActionGroup(window)
        chosen = str(window.settings.value("scheme", "system"))
        for name, title in (
            ("system", "Colours: as the system"),
            ("light", "Colours: light"),
            ("dark", "Colours: dark"),
        ):
            action = self._add(view, title, functools.partial(window.set_scheme, name))
            action.setCheckable(True)
            action.setChecked(name == chosen)
            schemes.addAction(action)

    def _help_menu(self) -> None:
        window = self._window
        help_menu = self._bar("&Help")
        self._add(help_menu, "&Guide to this page", window.show_guide, QKeySequence.StandardKey.HelpContents)
        self._add(help_menu, "Guide: &contents", functools.partial(window.show_guide, "index"))
        self._add(help_menu, "&All commands...", window.show_palette, "Ctrl+Space")
        self._add(help_menu, "A&bout Wendascope", window.about)

    def fill_recent(self, names: list[str]) -> None:
        """Offer the files that were opened last."""
        self._recent_menu.clear()
        for name in names:
            action = self._recent_menu.addAction(name)
            action.triggered.connect(lambda _checked=False, n=name: self._window.open_files([Path(n)]))
        self._recent_menu.setEnabled(bool(names))

    def enable(self) -> None:
        """Only what can be done now."""
        document = self._window.workspace.current
        work = self._window.work
        for action in (
            *self._go_actions,
            self._close_action,
            self._verify_action,
            self._save_picture_action,
            self._copy_picture_action,
        ):
            action.setEnabled(document is not None)
        for action in self._export_actions:
            action.setEnabled(document is not None and document.survey is not None)
        self._measure_action.setEnabled(document is not None and not work.surveying())
        provable = document is not None and any(f.remedy for f in document.findings)
        self._prove_action.setEnabled(provable and not work.proving())
        self._cancel_action.setEnabled(work.measuring())
        self._back_action.setEnabled(document is not None and document.selection.can_go_back)
        self._forward_action.setEnabled(document is not None and document.selection.can_go_forward)

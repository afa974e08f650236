"""Lights and parts of views: what each takes, and what the picture is without it."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton, QWidget

from wendascope.advice.left_out import LIGHTS, Kind, LeftOut
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.answer import lay_out
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.replay.client import Replay
from wendascope.task import Task
from wendascope.texts import plural, three_digits, verb
from wendascope.trials.survey.examine import Examined, try_the_rest


class LightsView(QWidget):
    """A table of what was tried without, with the picture of each and a way to try the rest."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self.rest = QPushButton("Try the rest")
        self.rest.setToolTip("Replay the frame without each of those that were not tried yet; it can be cancelled")
        self.picture = QPushButton("Show the picture without it")
        self.picture.setToolTip("The finished picture without the chosen one, and where it differs")
        self.answer = Label()
        self.table: RowsTable[LeftOut] = RowsTable(
            RowsModel(_columns()),
            "Lights and parts of views",
            empty="Measure the frame to see its lights, its shadows, and what its other views consist of.",
        )
        self.table.rows.soft = lambda item: not item.tried
        self.table.rows.tip = lambda item: item.effect(self._pixels)
        lay_out(self, [self.rest, self.picture], self.answer, self.table)
        self.rest.clicked.connect(self._try)
        self.picture.clicked.connect(self._show_picture)
        self.table.chosen_changed.connect(self._chosen)

    @property
    def _pixels(self) -> int:
        width, height = self._document.frame.size if self._document else (1, 1)
        return width * height

    def show_document(self, document: Document | None) -> None:
        """Follow a document; None for none."""
        self._document = document
        items = document.left_out if document else []
        if items != self.table.rows.rows:
            self.table.rows.show_rows(items)
        waiting = sum(not item.tried for item in items)
        self.rest.setEnabled(waiting > 0)
        self.picture.setEnabled(self.table.chosen is not None)
        self.answer.setText(_told(items, waiting))

    def _chosen(self, item: LeftOut | None) -> None:
        self.picture.setEnabled(item is not None)
        if item is not None and self._document is not None:
            self._document.selection.mark(item.steps)

    def _try(self) -> None:
        document = self._document
        examined = document.examined if document else None
        if document is None or examined is None:
            return

        def work(replay: Replay, task: Task) -> Examined:
            return try_the_rest(document.path, examined, replay, task)

        self._workspace.jobs.run_measurement(work, document.set_examined, "The rest could not be tried")

    def _show_picture(self) -> None:
        item = self.table.chosen
        if item is not None:
            self._workspace.jobs.show_changed_picture([item.remedy], f"without {item.name}")


def _told(items: list[LeftOut], waiting: int) -> str:
    lights = [item for item in items if item.kind in LIGHTS]
    if not items:
        return "No lights, and no views beside the main one, are known in this frame."
    needless = [item for item in items if item.needless]
    kinds = plural(len(lights), "light or shadow", "lights and shadows")
    views = sum(item.kind == Kind.VIEW for item in items)
    parts = plural(len(items) - len(lights) - views, "part")
    text = f"{kinds}, {plural(views, 'other view')}, {parts} of views."
    if needless:
        count = len(needless)
        text += f" {count} of them {verb(count, 'changes', 'change')} no pixel of the picture: see the findings."
    if waiting:
        text += f" {waiting} {verb(waiting, 'is', 'are')} not tried yet."
    return text


def _columns() -> list[Column[LeftOut]]:
    return [
        Column("left out", 0, lambda item: item.name, right=False),
        Column("what it is", 136, lambda item: f"{item.view}: part" if item.view else item.kind.value, right=False),
        Column("steps", 50, lambda item: f"{len(item.steps):,}", lambda item: len(item.steps)),
        Column(
            "~ ms",
            64,
            lambda item: "" if item.ms is None else three_digits(item.ms),
            lambda item: item.ms,
            tip="The time of its steps; of a light in shaders, its rounds' part of their modelled cost",
        ),
        Column(
            "pixels",
            72,
            lambda item: f"{item.pixels:,}" if item.tried and not item.refused else "",
            lambda item: item.pixels if item.tried and not item.refused else None,
            tip="Of the finished picture that come out otherwise without it",
        ),
        Column(
            "by up to",
            64,
            lambda item: f"{item.max_difference}" if item.tried and not item.refused else "",
            lambda item: item.max_difference if item.tried and not item.refused else None,
            tip="Of 255",
        ),
        Column("", 124, _state, right=False),
    ]


def _state(item: LeftOut) -> str:
    if item.refused:
        return "cannot be tried"
    if not item.tried:
        return "not tried yet"
    if item.needless:
        return "no pixel needs it"
    return "" if item.pixels_far else "hardly visible"

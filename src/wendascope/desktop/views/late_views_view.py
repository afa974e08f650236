"""Views beside the main one: how the picture looks when each is drawn less often, and what that saves."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QPushButton, QSplitter, QWidget

from wendascope import records
from wendascope.analysis.sequence.late_views import FAR, RATES, LateView, LateViews
from wendascope.desktop.charts.curves import Curves
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.answer import lay_out
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import theme
from wendascope.frame.passes import PassKey
from wendascope.frame.places import frame_path, place_of
from wendascope.frame.remedy import Remedy
from wendascope.texts import plural, three_digits
from wendascope.trials.survey.late_views import views_here


class LateViewsView(QWidget):
    """A table of views, the curve of the chosen one over how often it is drawn, and its worst picture."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._passes: dict[tuple[PassKey, ...], list[int]] = {}
        self._kept: dict[Path, LateViews] = {}
        self.worst = QPushButton("Show the worst picture")
        self.worst.setToolTip("The frame that differs most where the view is drawn every fourth time only")
        self.answer = Label()
        self.table: RowsTable[LateView] = RowsTable(
            RowsModel(self._columns()),
            "Views over time",
            empty="Measure a frame of a sequence to see which of its views could be drawn less often.",
        )
        self.table.rows.tip = lambda view: view.refused
        self.curves = Curves("drawn in every ... frame")
        body = QSplitter()
        body.addWidget(self.table)
        body.addWidget(self.curves)
        body.setSizes([480, 210])
        body.setChildrenCollapsible(False)
        lay_out(self, [self.worst], self.answer, body)
        self.worst.clicked.connect(self._show_worst)
        self.table.chosen_changed.connect(self._chosen)

    def show_document(self, document: Document | None) -> None:
        """Follow a document; None for none."""
        self._document = document
        known = self._known(document) if document and document.frames > 1 else None
        here = views_here(document.frame, known) if document and known else []
        self._passes = {tuple(view.passes): passes for passes, view in here}
        views = [view for _, view in here]
        if views != self.table.rows.rows:
            self.table.rows.show_rows(views)
        if known is None:
            self.answer.setText("Measuring a frame of a sequence replays every frame with each view as it was before.")
        elif not views:
            self.answer.setText("No view beside the main one changes in these frames.")
        else:
            self.answer.setText(
                f"{plural(len(views), 'view')} beside the main one {'change' if len(views) > 1 else 'changes'} in these"
                " frames. Pixels are those that differ visibly where it lags most."
            )
        self._chosen(self.table.chosen)

    def _known(self, document: Document) -> LateViews | None:
        """What is kept of the sequence, which changes no more once it is there."""
        file = place_of(document.path)[0]
        if file not in self._kept:
            found = records.LATE_VIEWS.newest(file)
            if found is None:
                return None
            self._kept[file] = found
        return self._kept[file]

    def _ms(self, view: LateView) -> float | None:
        """What the view takes in the shown frame."""
        document = self._document
        if document is None or document.survey is None:
            return None
        times = document.case.passes_in_frame
        return sum(times[index] for index in self._passes.get(tuple(view.passes), []))

    def _saved(self, view: LateView, rate: int) -> float:
        return (self._ms(view) or 0.0) * (rate - 1) / rate

    def _chosen(self, view: LateView | None) -> None:
        self.worst.setEnabled(view is not None and view.worst(max(RATES)) is not None)
        shown = [(1, 0, 0.0)]
        for rate in RATES:
            worst = view.worst(rate) if view else None
            if view is not None and worst is not None:
                shown.append((rate, worst.pixels_far, self._saved(view, rate)))
        self.curves.setVisible(len(shown) > 1)
        if len(shown) > 1:
            self.curves.show_curves(
                [float(rate) for rate, _, _ in shown],
                ("ms saved", [saved for _, _, saved in shown], theme().accent),
                ("visible pixels", [float(pixels) for _, pixels, _ in shown], theme().ink),
            )

    def _show_worst(self) -> None:
        view, document = self.table.chosen, self._document
        worst = view.worst(max(RATES)) or view.worst(2) if view else None
        if view is None or worst is None or document is None:
            return
        if place_of(document.path)[1] != worst.frame:
            self._workspace.commands.open_files([frame_path(document.path, worst.frame)])
            document = self._workspace.current
            if document is None or place_of(document.path)[1] != worst.frame:
                return
        known = self._known(document)
        passes = next((p for p, v in views_here(document.frame, known) if v.passes == view.passes), []) if known else []
        table = document.frame.passes
        steps = [s for index in passes for s in range(int(table.first[index]), int(table.end[index]))]
        if steps:
            self._workspace.jobs.show_changed_picture(
                [Remedy("older-result", steps, frames_ago=worst.frames_ago)],
                f"{view.name} as it was {plural(worst.frames_ago, 'frame')} ago",
            )

    def _columns(self) -> list[Column[LateView]]:
        def late(rate: int, word: str) -> Column[LateView]:
            def far(view: LateView) -> int | None:
                worst = view.worst(rate)
                return None if worst is None else worst.pixels_far

            return Column(
                word,
                58,
                lambda view: "" if far(view) is None else f"{far(view):,}",
                far,
                tip=f"Pixels that differ by more than {FAR} of 255 at worst, drawn in every {word} frame",
            )

        return [
            Column("view", 0, lambda view: view.name, right=False),
            Column("~ ms", 52, lambda v: "" if self._ms(v) is None else three_digits(self._ms(v) or 0.0), self._ms),
            Column(
                "changes",
                64,
                lambda v: f"{v.changes}",
                lambda v: v.changes,
                tip="Frames that differ from the one before",
            ),
            late(2, "second"),
            late(3, "third"),
            late(4, "fourth"),
            Column(
                "enough",
                64,
                self._enough,
                tip="How many frames need to draw it; moved: each is the one before, moved by whole pixels",
            ),
        ]

    def _enough(self, view: LateView) -> str:
        """What follows, in few words."""
        if view.refused:
            return "not tried"
        if view.scrolls:
            return "moved"
        width, height = self._document.frame.size if self._document else (1, 1)
        rate = view.rate_unseen(width * height)
        return "all" if rate == 1 else f"1 in {rate}"

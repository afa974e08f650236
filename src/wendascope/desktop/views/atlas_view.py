"""Atlas plans: options, pages with their pictures, and saving them as PNG, JSON and CSV."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRect, QSettings, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QMessageBox,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from wendascope.analysis.draws.atlas import AtlasPlan, Options, page_picture, plan_atlases
from wendascope.analysis.draws.structure import Structure
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.errors import FileError
from wendascope.report.atlas import write_atlas
from wendascope.texts import share, visible

_SIZES = (512, 1024, 2048, 4096, 8192)


class _PagePicture(QWidget):
    """One page with the outlines of its textures, over the grey of the picture surround."""

    def __init__(self) -> None:
        super().__init__()
        self._image: QImage | None = None
        self.plan: AtlasPlan | None = None
        self.number = 0
        self.setMinimumSize(20 * GRID, 14 * GRID)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Page of the atlas")

    def show_page(self, plan: AtlasPlan | None, number: int, pixels: np.ndarray | None) -> None:
        self.plan, self.number = plan, number
        self._image = None
        if pixels is not None:
            turned = np.ascontiguousarray(pixels[::-1])
            self._image = QImage(
                turned.data, turned.shape[1], turned.shape[0], turned.strides[0], QImage.Format.Format_RGBA8888
            ).copy()
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(theme().surround))
        if self._image is None or self.plan is None:
            return
        page = self.plan.pages[self.number]
        scale = min((self.width() - 2 * GRID) / page.width, (self.height() - 2 * GRID) / page.height)
        left, top = (self.width() - page.width * scale) / 2, (self.height() - page.height * scale) / 2
        whole = QRect(int(left), int(top), int(page.width * scale), int(page.height * scale))
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(whole, QColor("#3A3A38"))
        painter.drawImage(whole, self._image)
        painter.setPen(QPen(QColor("#FFFFFF"), 1, Qt.PenStyle.DotLine))
        for p in page.places:
            y = page.height - p.y - p.height
            painter.drawRect(int(left + p.x * scale), int(top + y * scale), int(p.width * scale), int(p.height * scale))


class AtlasView(QWidget):
    """Plans are made again whenever an option changes; options are remembered."""

    def __init__(self, workspace: Workspace, settings: QSettings) -> None:
        super().__init__()
        self._workspace, self._settings = workspace, settings
        self._structure: Structure | None = None
        self._plans: list[AtlasPlan] = []
        self.group = QComboBox()
        self.group.setAccessibleName("Textures drawn together")
        self.page = QComboBox()
        self.page.setAccessibleName("Page")
        self.largest = QComboBox()
        self.largest.setAccessibleName("Largest page")
        for size in _SIZES:
            self.largest.addItem(f"{size} pixels", size)
        self.largest.setCurrentIndex(self.largest.findData(int(settings.value("atlas/size", 2048))))  # type: ignore[call-overload]
        self.padding = QSpinBox()
        self.padding.setRange(0, 64)
        self.padding.setSuffix(" pixels")
        self.padding.setValue(int(settings.value("atlas/padding", 2)))  # type: ignore[call-overload]
        self.rotation = QCheckBox("Turn textures")
        self.rotation.setChecked(settings.value("atlas/rotation") == "true")
        self.power = QCheckBox("Powers of two")
        self.power.setChecked(settings.value("atlas/power") == "true")
        self.save = QPushButton("Save ...")
        self.save.setToolTip("Pages as PNG, rectangles as JSON and CSV, into a folder")
        first, second = QHBoxLayout(), QHBoxLayout()
        of_group: tuple[QWidget, ...] = (Label("Textures of"), self.group, self.page)
        for widget in of_group:
            first.addWidget(widget)
        first.addStretch(1)
        first.addWidget(self.save)
        options: tuple[QWidget, ...] = (
            Label("Pages up to"),
            self.largest,
            Label("padding"),
            self.padding,
            self.rotation,
            self.power,
        )
        for widget in options:
            second.addWidget(widget)
        second.addStretch(1)
        self.facts = Label()
        self.facts.setWordWrap(True)
        self.facts.setFont(figures_font())
        self.facts.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.facts.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.picture = _PagePicture()
        body = QHBoxLayout()
        body.addWidget(self.picture, 3)
        scroll = QScrollArea()
        scroll.setWidget(self.facts)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        body.addWidget(scroll, 2)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addLayout(first)
        layout.addLayout(second)
        layout.addLayout(body, 1)
        self.group.currentIndexChanged.connect(self._group_chosen)
        self.page.currentIndexChanged.connect(self._show)
        self.largest.currentIndexChanged.connect(self._plan)
        self.padding.valueChanged.connect(self._plan)
        self.rotation.toggled.connect(self._plan)
        self.power.toggled.connect(self._plan)
        self.save.clicked.connect(self._save)
        self._show()

    @property
    def options(self) -> Options:
        return Options(
            self.largest.currentData() or 2048, self.padding.value(), self.rotation.isChecked(), self.power.isChecked()
        )

    def show_document(self, document: Document | None) -> None:
        found = document.structure if document else None
        if found is not self._structure:
            self._structure = found
            self._plan()

    def _plan(self) -> None:
        options, structure = self.options, self._structure
        for name, value in (
            ("size", options.page),
            ("padding", options.padding),
            ("rotation", str(options.rotation).lower()),
            ("power", str(options.power_of_two).lower()),
        ):
            self._settings.setValue(f"atlas/{name}", value)
        if structure is None:
            self._planned([])
            return
        self._workspace.jobs.run_job(
            JobName.ATLAS,
            lambda _replay, _task: plan_atlases(structure.sharing, options),
            self._planned,
            lambda error: self.facts.setText(str(error)),
        )

    def _planned(self, plans: list[AtlasPlan]) -> None:
        self._plans = plans
        kept = self.group.currentText()
        self.group.blockSignals(True)
        self.group.clear()
        self.group.addItems([visible(plan.title) for plan in plans])
        self.group.setCurrentIndex(max(self.group.findText(kept), 0) if plans else -1)
        self.group.blockSignals(False)
        self._group_chosen()

    def _group_chosen(self) -> None:
        plan = self._chosen
        self.page.blockSignals(True)
        self.page.clear()
        self.page.addItems([f"page {k + 1}" for k in range(len(plan.pages))] if plan else [])
        self.page.setVisible(plan is not None and len(plan.pages) > 1)
        self.page.blockSignals(False)
        self._show()

    @property
    def _chosen(self) -> AtlasPlan | None:
        row = self.group.currentIndex()
        return self._plans[row] if 0 <= row < len(self._plans) else None

    def _show(self, _row: int = 0) -> None:
        plan, structure = self._chosen, self._structure
        self.save.setEnabled(plan is not None)
        if plan is None or structure is None or not plan.pages:
            self.picture.show_page(None, 0, None)
            self.facts.setText("No textures are drawn together that could share a page." if structure else "")
            return
        number = max(self.page.currentIndex(), 0)
        padding = self.options.padding
        self._workspace.jobs.run_job(
            JobName.ATLAS_PAGE,
            lambda _replay, _task: page_picture(structure.sharing.frame, plan.pages[number], padding),
            lambda pixels: self.picture.show_page(plan, number, pixels),
            lambda error: self.facts.setText(str(error)),
        )
        self.facts.setText(_facts(plan, number))

    def _save(self) -> None:
        structure, document = self._structure, self._workspace.current
        folder = QFileDialog.getExistingDirectory(
            self, "Save the atlas into", str(document.path.parent) if document else ""
        )
        if not folder or structure is None or self._chosen is None:
            return
        try:
            written = write_atlas(structure.sharing.frame, [self._chosen], self.options.padding, folder)
        except FileError as error:
            QMessageBox.warning(self, "The atlas cannot be saved", str(error))
            return
        self.facts.setText(f"Saved {len(written)} files.\n\n{_facts(self._chosen, max(self.page.currentIndex(), 0))}")


def _facts(plan: AtlasPlan, number: int) -> str:
    page = plan.pages[number]
    lines = [
        (
            f"{len(plan.steps):,} draws read {plan.textures} textures; with one batch per page, {plan.draws_then:,}"
            " draws would do."
        ),
        (
            f"Page {number + 1} of {len(plan.pages)}: {page.width} x {page.height}, {len(page.places)} textures,"
            f" {share(page.wasted)} of its area free."
        ),
        f"Memory: {plan.bytes_before / 1024:,.0f} KiB now, {plan.bytes_after / 1024:,.0f} KiB then.",
        "If compressed, by arithmetic, KiB now and then: "
        + ", ".join(f"{name} {a / 1024:,.0f} and {b / 1024:,.0f}" for name, (a, b) in plan.compressed().items())
        + ".",
    ]
    lines += [
        f"Not on a page, {reason}: {', '.join(map(str, names[:8]))}{' ...' if len(names) > 8 else ''}."
        for reason, names in plan.left_out.items()
    ]
    lines += [f"{c[:1].upper()}{c[1:]}." for c in plan.caveats]
    return "\n\n".join(lines)

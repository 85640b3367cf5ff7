"""Origin: where a number comes from, beside the picture that shows its pixels."""

from __future__ import annotations

from textwrap import wrap
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtGui import QPalette
from PyQt6.QtWidgets import QApplication, QHeaderView, QLabel, QPushButton, QTableView

from rilievo.core.image.number_scale import NumberScale
from rilievo.core.measure.region_flags import REGION_MARKS
from rilievo.core.method.signal_flags import MARKS
from rilievo.core.pipeline.origin import Origin
from rilievo.core.wording.numbers import shown
from rilievo.ui.panels.error_card import ErrorCard
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, StagePanel, faint, side_by_side
from rilievo.ui.widgets.small_plot import SmallPlot

_TABLE_HEIGHT = 190


class _Pixels(QAbstractTableModel):
    """The pixels of a region."""

    titles = ("x", "y", "native", "signal", "measured")

    def __init__(self) -> None:
        super().__init__()
        self._origin: Origin | None = None

    def show(self, origin: Origin | None) -> None:
        self.beginResetModel()
        self._origin = origin
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if self._origin is None else int(self._origin.x.size)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return len(self.titles)

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        if orientation is Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self.titles[section]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        origin = self._origin
        if origin is None:
            return None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        k = index.row()
        return (
            str(origin.x[k] + 1),
            str(origin.y[k] + 1),
            shown(float(origin.native[k]), 6),
            shown(float(origin.signal[k]), 6),
            "yes" if origin.used[k] else "no",
        )[index.column()]


class OriginPanel(StagePanel):
    """One number: what it is, its formula, pixels, steps, file and marks."""

    back_wanted = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.origin: Origin | None = None
        self.head = Card("Origin")
        self.back = QPushButton("‹ Back")
        self.back.setProperty("role", "link")
        self.back.setToolTip("Back to the stage (Esc)")
        self.back.clicked.connect(self.back_wanted)
        self.copy = QPushButton("Copy as text")
        self.copy.setToolTip("Copy everything that is said here, with the pixels")
        self.copy.clicked.connect(self.copy_text)
        self.value = QLabel("")
        self.value.setProperty("role", "big")
        self.value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.definition, self.formula = faint(), QLabel("")
        self.with_values, self.source = QLabel(""), faint()
        for label in (self.formula, self.with_values):
            label.setWordWrap(True)
            label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.head.add(side_by_side(self.back, self.copy, stretch=True))
        for widget in (self.value, self.definition, self.formula, self.with_values, self.source):
            self.head.add(widget)
        self.add_card(self.head)
        self.error = ErrorCard(theme)
        self.add_card(self.error)
        self.marks_card = Card("Marks")
        self.marks = QLabel("")
        self.marks.setProperty("role", "check")
        self.marks.setWordWrap(True)
        self.marks_card.add(self.marks)
        self.add_card(self.marks_card)
        self.steps_card = Card("Steps", "mean of these pixels")
        self.steps = QLabel("")
        self.steps.setWordWrap(True)
        self.steps.setTextFormat(Qt.TextFormat.RichText)
        self.steps_card.add(self.steps)
        self.add_card(self.steps_card)
        self.pixels_card = Card("Pixels")
        self.plot = SmallPlot(theme, "Histogram of the region's signal", 76)
        self.pixels_card.add(self.plot)
        self._pixels = _Pixels()
        self.table = QTableView()
        self.table.setModel(self._pixels)
        self.table.setShowGrid(False)
        self.table.setFixedHeight(scaled(_TABLE_HEIGHT))
        self.table.setAccessibleName("Pixels of the region")
        header, vertical = self.table.horizontalHeader(), self.table.verticalHeader()
        if header is not None and vertical is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
            vertical.hide()
            vertical.setDefaultSectionSize(22)
        self.pixels_card.add(self.table)
        self.add_card(self.pixels_card)
        self.file_card = Card("File")
        self.file = QLabel("")
        self.file.setWordWrap(True)
        self.file.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.file_card.add(self.file)
        self.add_card(self.file_card)

    def show_origin(self, origin: Origin, scale: NumberScale) -> None:
        """Show where a number comes from; intensities on the number scale in force."""
        self.origin = origin
        quantity = origin.quantity
        self.head.set_about(f"{origin.sample} · {origin.region_class} {origin.region}")
        unit = f" {origin.unit}" if origin.unit else ""
        self.value.setText(f"{quantity.title}, {origin.channel}: {shown(origin.value, 6)}{unit}")
        self.definition.setText(f"{quantity.key}: {quantity.definition}.")
        self.formula.setText(quantity.formula)
        self.with_values.setText(f"= {origin.formula} = {shown(origin.value, 6)}")
        self.with_values.setVisible(origin.formula != quantity.formula)
        self.source.setText(quantity.source)
        self.source.setVisible(bool(quantity.source))
        meanings = {**MARKS, **REGION_MARKS}
        self.marks.setText("\n".join(f"{m}: {meanings[m]}." for m in origin.marks))
        self.marks_card.setVisible(bool(origin.marks))
        self.error.clear()
        self._show_steps(scale)
        self._show_pixels()
        # Places where a long path and the checksum may be broken into lines.
        path = origin.file.replace("/", "/\u200b")
        lines = [path]
        for name, checksum in origin.files:
            sums = "\u200b".join(wrap(checksum, 16)) or "is being computed"
            lines.append(f"SHA-256 {sums}" if len(origin.files) == 1 else f"{name}: SHA-256 {sums}")
        self.file.setText("\n".join(lines))
        bar = self.verticalScrollBar()
        if bar is not None:
            bar.setValue(0)

    def _show_steps(self, scale: NumberScale) -> None:
        origin = self.origin
        if origin is None:
            return
        if not origin.steps:
            self.steps.setText("No step is on: the signal is the native value.")
            return
        faint = self.palette().color(QPalette.ColorRole.PlaceholderText).name()
        self.steps.setText(
            "<br>".join(
                f"{k}. <b>{step.title}</b>: {shown(scale.value(step.before))} → "
                f"{shown(scale.value(step.after))}<br>&nbsp;&nbsp;&nbsp;"
                f"<span style='color:{faint}'>{step.text}</span>"
                for k, step in enumerate(origin.steps, start=1)
            )
        )

    def _show_pixels(self) -> None:
        origin = self.origin
        if origin is None:
            return
        self._pixels.show(origin)
        histogram = origin.histogram
        self.pixels_card.set_about(f"{origin.x.size} px, {histogram.total} measured")
        self.plot.setVisible(histogram.total > 1)
        if histogram.total > 1:
            pad = (histogram.highest - histogram.lowest) / 20 or 1.0
            self.plot.show_histogram(histogram, (histogram.lowest - pad, histogram.highest + pad))

    def copy_text(self) -> None:
        """Put everything onto the clipboard."""
        clipboard = QApplication.clipboard()
        if self.origin is not None and clipboard is not None:
            clipboard.setText(self.origin.text())

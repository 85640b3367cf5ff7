"""Columns of the table as scatter, histogram or strip; brushing chooses regions."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF, pyqtSignal
from PyQt6.QtGui import QColor, QShowEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from rilievo.core.column_points import (
    ColumnPoints,
    bar_points,
    chosen_rows,
    column_points,
)
from rilievo.core.compare import group_order
from rilievo.core.report.group_style import group_style
from rilievo.ui.model import StudyModel
from rilievo.ui.panels.brush_plot import BrushPlot
from rilievo.ui.panels.measurements import Measurements
from rilievo.ui.stages.card import choice_box
from rilievo.ui.theme.roles import Theme

KINDS = (("scatter", "Scatter"), ("histogram", "Histogram"), ("strip", "Strip"))


class ColumnsPlot(QWidget):
    """Shows the rows that the table shows."""

    number_chosen = pyqtSignal(str, int, str, str)  # sample, region, channel, key

    def __init__(self, model: StudyModel, table: Measurements, theme: Theme) -> None:
        super().__init__()
        self._model, self._table, self._theme = model, table, theme
        self.kind = choice_box("Kind of plot", KINDS, 104)
        self.across, self.upwards = QComboBox(), QComboBox()
        self.across.setAccessibleName("Across")
        self.upwards.setAccessibleName("Upwards")
        self.about = QLabel("")
        self.about.setProperty("role", "faint")
        self._versus = QLabel("against")
        head = QHBoxLayout()
        head.setContentsMargins(16, 4, 16, 2)
        head.setSpacing(8)
        for widget in (self.kind, self.upwards, self._versus, self.across):
            head.addWidget(widget)
        head.addStretch(1)
        head.addWidget(self.about)
        self.plot = BrushPlot(theme, "Plot of table columns")
        self.plot.brushed.connect(self.brush)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self.plot, 1)
        self._points: ColumnPoints | None = None
        self._dots = pyqtgraph.ScatterPlotItem(pxMode=True)
        self._chosen = pyqtgraph.ScatterPlotItem(pxMode=True)
        self._dots.sigClicked.connect(self._on_dot)
        self._bars = pyqtgraph.BarGraphItem(x=[0], height=[0], width=1)
        for item in (self._bars, self._dots, self._chosen):
            self.plot.getPlotItem().addItem(item)
        for box in (self.kind, self.across, self.upwards):
            box.currentIndexChanged.connect(lambda _: self.refresh())
        table.rows.modelReset.connect(self.refresh)
        model.selection_changed.connect(self._show_chosen)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def _fill(self) -> None:
        keys = self._table.rows.keys
        known = [self.across.itemData(k) for k in range(self.across.count())]
        if known == list(keys):
            return
        for box, first in ((self.across, "area"), (self.upwards, "mean")):
            kept = box.currentData() or first
            box.blockSignals(True)
            box.clear()
            for key in keys:
                box.addItem(self._table.rows.all.heading(key), key)
            box.setCurrentIndex(max(box.findData(kept), 0))
            box.blockSignals(False)

    def refresh(self) -> None:
        """Plot the columns that are chosen."""
        if not self.isVisible():
            return
        self._fill()
        rows, shown = self._table.rows.all, self._table.rows.shown.rows
        kind, x, y = self.kind.currentData(), self.across.currentData(), self.upwards.currentData()
        self._versus.setVisible(kind == "scatter")
        self.across.setVisible(kind == "scatter")
        if not rows.keys or x is None or y is None:
            self._points = None
            self.about.setText("Measure first; then any columns are plotted here.")
            return
        self._points = column_points(rows, shown, kind, x, y)
        points = self._points
        groups = group_order([entry.group for entry in self._model.state.samples])
        colours = [QColor(group_style(groups, g).colour) for g in points.groups or ("",)]
        for colour in colours:
            colour.setAlpha(150)
        brushes = np.array([pyqtgraph.mkBrush(c) for c in colours], dtype=object)
        if kind == "histogram":
            at, counts, width = bar_points(rows, shown, y)
            self._bars.setOpts(
                x=at, height=counts, width=width, brush=self._theme.colour("hairline"),
                pen=pyqtgraph.mkPen(self._theme.colour("faint")),
            )  # fmt: skip
            self._dots.setData([], [])
        else:
            self._bars.setOpts(x=[0], height=[0], width=1)
            self._dots.setData(
                points.x, points.y, size=6, pen=None, brush=brushes[points.group].tolist()
            )
        self._bars.setVisible(kind == "histogram")
        self._label(kind, x, y)
        count, total = points.rows.size, points.total
        few = f"{count} of {total} rows drawn" if count < total else f"{total} rows"
        named = ", ".join(points.groups) if 1 < len(points.groups) <= 6 else ""
        self.about.setText(f"{few} · drag to choose" + (f" · {named}" if named else ""))
        self.plot.getPlotItem().enableAutoRange()
        self._show_chosen()

    def _label(self, kind: str, x: str, y: str) -> None:
        rows = self._table.rows.all
        item = self.plot.getPlotItem()
        if kind == "histogram":
            self.plot.label("bottom", rows.heading(y))
            self.plot.label("left", "regions")
        else:
            self.plot.label("left", rows.heading(y))
            self.plot.label("bottom", rows.heading(x) if kind == "scatter" else "sample")
        ticks: Any = None
        if kind == "strip" and self._points is not None:
            ticks = [list(enumerate(self._points.samples))]
        item.getAxis("bottom").setTicks(ticks)

    def _show_chosen(self) -> None:
        points = self._points
        if points is None or not self.isVisible():
            return
        names = {e.id: e.name for e in self._model.state.samples}
        chosen = {names[i]: regions for i, regions in self._model.selected_regions().items()}
        marked = chosen_rows(self._table.rows.all, points.rows, chosen)
        drawn = marked if self.kind.currentData() != "histogram" else np.zeros(0, np.intp)
        self._chosen.setData(
            points.x[drawn], points.y[drawn], size=9,
            pen=pyqtgraph.mkPen(self._theme.colour("ink"), width=1.5),
            brush=pyqtgraph.mkBrush(self._theme.colour("accent")),
        )  # fmt: skip

    def brush(self, box: QRectF) -> None:
        """Choose the regions of the rows within a rectangle."""
        if self._points is None:
            return
        whole = self.kind.currentData() == "histogram"
        within = self._points.within(
            box.left(), box.right(), *((-np.inf, np.inf) if whole else (box.top(), box.bottom()))
        )
        self._choose(within)

    def _choose(self, rows: NDArray[np.int64]) -> None:
        table = self._table.rows.all
        ids = {e.name: e.id for e in self._model.state.samples}
        chosen: dict[int, set[int]] = {}
        for k in np.unique(table.table_at[rows]).tolist():
            own = rows[table.table_at[rows] == k]
            sample = ids.get(table.tables[k].sample)
            if sample is not None:
                chosen[sample] = set(table.region[own].tolist())
        self._model.select_regions(chosen, self._model.sample_id)

    def _on_dot(self, _: object, dots: Any) -> None:
        if self._points is None or not len(dots):
            return
        at = dots[0].pos()
        away = np.hypot(self._points.x - at.x(), self._points.y - at.y())
        self.choose_dot(int(away.argmin()))

    def choose_dot(self, k: int) -> None:
        """Show where the number of a dot comes from."""
        if self._points is not None:
            rows, row = self._table.rows.all, int(self._points.rows[k])
            self.number_chosen.emit(
                rows.sample(row), int(rows.region[row]), rows.channel(row),
                self.upwards.currentData(),
            )  # fmt: skip

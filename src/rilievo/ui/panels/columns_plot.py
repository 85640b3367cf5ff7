"""Columns of the table as scatter, histogram or strip; brushing chooses regions."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF, pyqtSignal
from PyQt6.QtGui import QColor, QShowEvent
from PyQt6.QtWidgets import QComboBox, QLabel, QVBoxLayout, QWidget

from rilievo.core.compare import group_order
from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.table.plot_points import (
    ColumnPoints,
    bar_points,
    column_points,
)
from rilievo.ui.compute.compute import Compute
from rilievo.ui.panels.measurements_panel import Measurements
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.brush_plot import BrushPlot
from rilievo.ui.widgets.card import choice_box
from rilievo.ui.widgets.flow_layout import FlowLayout

Bars = tuple[NDArray[np.float64], NDArray[np.int64], float]
# Markers of groups as this library calls them.
_SYMBOLS = {"o": "o", "s": "s", "^": "t1", "D": "d", "v": "t", "p": "p", "h": "h", "P": "+"}
KINDS = (("scatter", "Scatter"), ("histogram", "Histogram"), ("strip", "Strip"))


class ColumnsPlot(QWidget):
    """Shows the rows that the table shows."""

    number_chosen = pyqtSignal(str, int, str, str)  # sample, region, channel, key

    def __init__(
        self, session: StudySession, compute: Compute, table: Measurements, theme: Theme
    ) -> None:
        super().__init__()
        self._session, self._compute, self._table, self._theme = session, compute, table, theme
        self.kind = choice_box("Kind of plot", KINDS, 104)
        self.across, self.upwards = QComboBox(), QComboBox()
        self.across.setAccessibleName("Across")
        self.upwards.setAccessibleName("Upwards")
        self.about = QLabel("")
        self.about.setProperty("role", "faint")
        self._versus = QLabel("against")
        head = FlowLayout(spacing=8)
        head.setContentsMargins(16, 4, 16, 2)
        for widget in (self.kind, self.upwards, self._versus, self.across, self.about):
            head.addWidget(widget)
        self.plot = BrushPlot(theme, "Plot of table columns")
        self.plot.brushed.connect(self.brush)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self.plot, 1)
        self.points: ColumnPoints | None = None
        self._dots: list[pyqtgraph.ScatterPlotItem] = []
        self._chosen = pyqtgraph.ScatterPlotItem(pxMode=True)
        self._chosen.setZValue(10)
        self._legend = self.plot.getPlotItem().addLegend(
            offset=(-8, 4), labelTextColor=theme.colour("ink"), labelTextSize="9pt"
        )
        theme.changed.connect(self._dress)
        self._bars = pyqtgraph.BarGraphItem(x=[0], height=[0], width=1)
        for item in (self._bars, self._chosen):
            self.plot.getPlotItem().addItem(item)
        for box in (self.kind, self.across, self.upwards):
            box.currentIndexChanged.connect(lambda _: self.refresh())
        table.rows.modelReset.connect(self.refresh)
        session.focus.regions_changed.connect(self._show_chosen)

    def _dress(self) -> None:
        self._legend.setLabelTextColor(self._theme.colour("ink"))
        self.refresh()

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
            self.points = None
            self.about.setText("Measure first; then any columns are plotted here.")
            return

        def work() -> tuple[ColumnPoints, Bars | None]:
            bars = bar_points(rows, shown, y) if kind == "histogram" else None
            return column_points(rows, shown, kind, x, y), bars

        def done(found: tuple[ColumnPoints, Bars | None]) -> None:
            if rows is self._table.rows.all:
                self._draw(*found, kind, x, y)

        self._compute.jobs.run("columns plot", work, done)

    def _draw(self, points: ColumnPoints, bars: Bars | None, kind: str, x: str, y: str) -> None:
        self.points = points
        self._bars.setVisible(bars is not None)
        if bars is not None:
            at, counts, width = bars
            self._bars.setOpts(
                x=at, height=counts, width=width, brush=self._theme.colour("hairline"),
                pen=pyqtgraph.mkPen(self._theme.colour("faint")),
            )  # fmt: skip
        self._draw_dots(points if bars is None else None)
        self._label(kind, x, y)
        count, total = points.rows.size, points.total
        few = f"{count} of {total} rows drawn" if count < total else f"{total} rows"
        self.about.setText(f"{few} · drag to choose, click a dot for its origin")
        self.plot.getPlotItem().enableAutoRange()
        self._show_chosen()

    def _draw_dots(self, points: ColumnPoints | None) -> None:
        """The dots of each group in its colour and form, and what they mean."""
        item = self.plot.getPlotItem()
        for old in self._dots:
            item.removeItem(old)
        self._dots = []
        self._legend.clear()
        if points is None:
            return
        order = group_order([entry.group for entry in self._session.state.samples])
        for position, group in enumerate(points.groups):
            style = group_style(order, group)
            colour = QColor(style.colour)
            colour.setAlpha(150)
            dots = pyqtgraph.ScatterPlotItem(
                *points.of_group(position), size=6, pen=None, brush=pyqtgraph.mkBrush(colour),
                symbol=_SYMBOLS.get(style.marker, "o"),
            )  # fmt: skip
            dots.sigClicked.connect(self._on_dot)
            item.addItem(dots)
            self._dots.append(dots)
            if len(points.groups) > 1:
                self._legend.addItem(dots, group or "no group")

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
        if kind == "strip" and self.points is not None:
            ticks = [list(enumerate(self.points.samples))]
        item.getAxis("bottom").setTicks(ticks)

    def _show_chosen(self) -> None:
        points = self.points
        if points is None or not self.isVisible():
            return
        rows = self._table.rows.all.rows_of(self._session.focus.chosen_by_name())
        shown = np.isin(points.rows, rows) & (self.kind.currentData() != "histogram")
        drawn = np.flatnonzero(shown)
        self._chosen.setData(
            points.x[drawn], points.y[drawn], size=9,
            pen=pyqtgraph.mkPen(self._theme.colour("ink"), width=1.5),
            brush=pyqtgraph.mkBrush(self._theme.colour("accent")),
        )  # fmt: skip

    def brush(self, box: QRectF) -> None:
        """Choose the regions of the rows within a rectangle."""
        if self.points is None:
            return
        whole = self.kind.currentData() == "histogram"
        within = self.points.within(
            box.left(), box.right(), *((-np.inf, np.inf) if whole else (box.top(), box.bottom()))
        )
        chosen = self._table.rows.all.regions_of(within)
        entry = self._session.focus.entry
        self._session.focus.choose_by_name(chosen, entry.name if entry is not None else "")

    def _on_dot(self, _: object, dots: Any) -> None:
        if self.points is None or not len(dots):
            return
        at = dots[0].pos()
        away = np.hypot(self.points.x - at.x(), self.points.y - at.y())
        self.choose_dot(int(away.argmin()))

    def choose_dot(self, k: int) -> None:
        """Show where the number of a dot comes from."""
        if self.points is not None:
            rows, row = self._table.rows.all, int(self.points.rows[k])
            self.number_chosen.emit(
                rows.sample(row), int(rows.region[row]), rows.channel(row),
                self.upwards.currentData(),
            )  # fmt: skip

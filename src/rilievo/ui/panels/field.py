"""All stars of the picture: where they are wide, and in which direction they are drawn out."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from rilievo.core.image.image import Sample
from rilievo.core.measure import QUANTITIES
from rilievo.core.table.star_field import SUMMED, StarField, field_of_table, whiskers, width_shares
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.brush_plot import BrushPlot


class FieldPanel(QWidget):
    """Dots coloured by FWHM, with a whisker along each star's longer axis."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self.field: StarField | None = None
        self.plot = BrushPlot(theme, "Field of the stars")
        self.plot.brushed.connect(self._choose)
        view = self.plot.getPlotItem().getViewBox()
        view.setAspectLocked(True)
        self._lines = pyqtgraph.PlotCurveItem(
            pen=pyqtgraph.mkPen(theme.colour("ink", 150), width=1.2), connect="pairs"
        )
        self.dots = pyqtgraph.ScatterPlotItem(pxMode=True)
        self.dots.sigClicked.connect(self._on_clicked)
        for item in (self._lines, self.dots):
            self.plot.getPlotItem().addItem(item)
        self.title = QLabel("")
        self.title.setProperty("role", "title")
        self.say = QLabel("")
        self.say.setProperty("role", "check")
        self.say.setWordWrap(True)
        self.numbers = QLabel("")
        self.numbers.setProperty("role", "figure")
        self.key = QLabel("")
        self.key.setProperty("role", "faint")
        self.key.setWordWrap(True)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(16, 6, 4, 4)
        column.setSpacing(6)
        for widget in (self.title, self.say, self.numbers, self.key):
            column.addWidget(widget)
        column.addStretch(1)
        left.setFixedWidth(scaled(300))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 8, 0)
        layout.setSpacing(4)
        layout.addWidget(left)
        layout.addWidget(self.plot, 1)
        self._regions = np.zeros(0, np.int64)
        self._positions = np.zeros((0, 2))
        for signal in (session.focus.changed, session.measurements.changed):
            signal.connect(self.refresh)
        self._empty()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """Show the stars of the focused sample as they were measured."""
        if not self.isVisible():
            return
        table = self._session.measurements.tables.get(self._session.focus.sample_id or -1)
        sample = self._compute.store.focused
        found = None
        if table is not None and sample is not None:
            channel = self._compute.store.channel_for(sample)
            found = field_of_table(table, channel, sample.first.shape, bottom_up=sample.bottom_up)
        if found is None or sample is None:
            self._empty()
            return
        self.field, columns, self._regions = found
        self._show(self.field, columns, sample)

    def _empty(self) -> None:
        self.field = None
        self.title.setText("Field")
        self.say.setText("")
        self.numbers.setText("")
        self.key.setText(
            "Measure a class of stars with FWHM, ellipticity and orientation (the set “Stars”); "
            "then this map shows how they vary over the picture."
        )
        self.dots.setData([], [])
        self._lines.setData([], [])

    def _show(self, field: StarField, columns: dict[str, np.ndarray], sample: Sample) -> None:
        self.title.setText(f"{field.count} stars")
        said = field.sentences()
        self.say.setText("\n".join(said) or "Even over the field: no tilt, no common direction.")
        lines = []
        for key in SUMMED:
            if key in field.spreads:
                spread = field.spreads[key]
                lines.append(
                    f"{QUANTITIES[key].heading('')}: {shown(spread.median, 4)} ± "
                    f"{shown(spread.sigma, 2)}"
                )
        lines.append(f"common ellipticity: {field.ellipticity:.3f} at {field.angle:.0f}°")
        self.numbers.setText("\n".join(lines))
        low, high, shares = width_shares(columns["fwhm"])
        self.key.setText(
            f"Dots by FWHM, from blue ({low:.2f} px) to amber ({high:.2f} px); whiskers along the "
            "longer axis, by ellipticity. Numbers are median ± 1.4826 · MAD."
        )
        colours = pyqtgraph.ColorMap(
            [0.0, 1.0], [self._theme.colour("water"), self._theme.colour("check")]
        )
        brushes = [pyqtgraph.mkBrush(colour) for colour in colours.map(shares, mode="qcolor")]
        view = self.plot.getPlotItem().getViewBox()
        view.invertY(not sample.bottom_up)
        x, y = columns["star_x"], columns["star_y"]
        self._positions = np.column_stack([x, y])
        self.dots.setData(x, y, size=7, brush=brushes, pen=pyqtgraph.mkPen(None))
        self._lines.setData(*whiskers(columns, max(sample.first.shape) / 6))
        self.plot.label("bottom", "x (px)")
        self.plot.label("left", "y (px)")
        view.setRange(QRectF(0, 0, sample.first.shape[1], sample.first.shape[0]))

    def _on_clicked(self, _: object, points: Any) -> None:
        if len(points):
            self._choose_at(points[0].pos())

    def _choose_at(self, at: QPointF) -> None:
        away = np.hypot(self._positions[:, 0] - at.x(), self._positions[:, 1] - at.y())
        self._session.focus.set(regions={int(self._regions[int(away.argmin())])})

    def _choose(self, box: QRectF) -> None:
        inside = [
            int(region)
            for region, (x, y) in zip(self._regions, self._positions, strict=True)
            if box.contains(x, y)
        ]
        self._session.focus.set(regions=inside)

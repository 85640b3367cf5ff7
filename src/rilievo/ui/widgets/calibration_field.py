"""Points of a calibration curve: typed or from picks, with the fit and what it leaves."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from pydantic import ValidationError
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPalette, QPen, QPolygonF
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.errors import StepError
from rilievo.core.parameters import Parameters
from rilievo.core.signal.intensity_curves import CalibrationPoint, FittedCurve
from rilievo.core.signal.steps.curve_calibrate import Calibrate
from rilievo.core.wording.numbers import parsed, shown, typed
from rilievo.ui.theme.style import scaled, text_font
from rilievo.ui.widgets.card import faint, side_by_side
from rilievo.ui.widgets.parameter_fields import Field, Known

_TITLES = ("Counts", "Stands for", "Curve", "Residual")
_HEIGHT = 132


class _CurvePlot(QWidget):
    """Points and curve above, residuals below."""

    def __init__(self) -> None:
        super().__init__()
        self._points: tuple[CalibrationPoint, ...] = ()
        self._curve: FittedCurve | None = None
        self.setFixedHeight(scaled(132))
        self.setAccessibleName("Calibration curve and residuals")

    def show_curve(self, points: tuple[CalibrationPoint, ...], curve: FittedCurve | None) -> None:
        """Show points with their curve."""
        self._points, self._curve = points, curve
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._points:
            return
        palette = self.palette()
        x = np.array([p.intensity for p in self._points])
        y = np.array([p.value for p in self._points])
        pad = (float(np.ptp(x)) or 1.0) / 12
        low, high = float(x.min()) - pad, float(x.max()) + pad
        above = QRectF(6, 4, self.width() - 12, self.height() * 0.62)
        below = QRectF(6, above.bottom() + 16, self.width() - 12, self.height() * 0.2)
        line_x = np.linspace(low, high, 120)
        line_y = self._curve.of(line_x) if self._curve is not None else np.full(120, math.nan)
        every = np.concatenate([y, line_y[np.isfinite(line_y)]])
        bottom, top = float(every.min()), float(every.max())
        span = top - bottom or 1.0

        def at(area: QRectF, v: float, share: float) -> QPointF:
            across = area.left() + (v - low) / (high - low) * area.width()
            return QPointF(across, area.bottom() - share * area.height())

        painter.setPen(QPen(palette.color(QPalette.ColorRole.Mid), 1))
        painter.drawLine(above.bottomLeft(), above.bottomRight())
        painter.drawLine(QPointF(below.left(), below.center().y()),
                         QPointF(below.right(), below.center().y()))  # fmt: skip
        painter.setPen(QPen(palette.color(QPalette.ColorRole.Highlight), 1.6))
        painter.drawPolyline(
            QPolygonF(
                [
                    at(above, float(u), (float(v) - bottom) / span)
                    for u, v in zip(line_x, line_y, strict=True)
                    if math.isfinite(v)
                ]
            )
        )
        residuals = self._curve.residuals if self._curve is not None else ()
        most = max((abs(r) for r in residuals), default=0.0) or 1.0
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(palette.color(QPalette.ColorRole.WindowText))
        for k, (u, v) in enumerate(zip(x, y, strict=True)):
            painter.drawEllipse(at(above, float(u), (float(v) - bottom) / span), 3, 3)
            if k < len(residuals):
                share = 0.5 + residuals[k] / most / 2
                painter.drawEllipse(at(below, float(u), share), 2.5, 2.5)
        painter.setFont(text_font(10))
        painter.setPen(palette.color(QPalette.ColorRole.PlaceholderText))
        label = QRectF(6, above.bottom() + 1, self.width() - 12, 14)
        painter.drawText(label, int(Qt.AlignmentFlag.AlignLeft), shown(low, 4))
        painter.drawText(label, int(Qt.AlignmentFlag.AlignRight), shown(high, 4))
        painter.drawText(label, int(Qt.AlignmentFlag.AlignHCenter), "counts; residuals below")


class CalibrationField(Field):
    """A table of points; the last row is for another one."""

    wide = True

    def __init__(self, title: str) -> None:
        super().__init__()
        self._points: tuple[CalibrationPoint, ...] = ()
        self.table = QTableWidget(0, len(_TITLES))
        self.table.setHorizontalHeaderLabels(_TITLES)
        self.table.setFixedHeight(scaled(_HEIGHT))
        self.table.setAccessibleName(title)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        header, vertical = self.table.horizontalHeader(), self.table.verticalHeader()
        if header is not None and vertical is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
            vertical.hide()
            vertical.setDefaultSectionSize(24)
        self.table.itemChanged.connect(self._on_item)
        self.picks = QPushButton("From picks")
        self.picks.setToolTip(
            "Take the picks of this sample: their mean before this step, and the number in the "
            "name of their specimen"
        )
        self.picks.clicked.connect(self.draw_wanted)
        self.remove = QPushButton("Remove")
        self.remove.setToolTip("Remove the chosen points")
        self.remove.clicked.connect(self._remove)
        self.plot = _CurvePlot()
        self.text = QLabel("")
        self.text.setWordWrap(True)
        self.say = faint(
            "Type an intensity and what it stands for, or take picks of known patches."
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(side_by_side(self.picks, self.remove, stretch=True))
        for widget in (self.table, self.plot, self.text, self.say):
            layout.addWidget(widget)
        self.setFocusProxy(self.table)

    def show_value(self, value: Any, known: Known) -> None:
        self._points = tuple(value)

    def show_rest(self, parameters: Parameters) -> None:
        if not isinstance(parameters, Calibrate):
            return
        curve: FittedCurve | None = None
        try:
            curve = parameters.curve()
            r = "" if math.isnan(curve.r_squared) else f", R² {curve.r_squared:.6f}"
            unit = parameters.signal_unit()
            self.text.setText(f"{unit or 'value'} = {curve.text()}{r}")
            self.say.setText("")
        except StepError as exc:
            self.text.setText("")
            self.say.setText(str(exc))
        self.plot.setVisible(bool(self._points))
        self.plot.show_curve(self._points, curve)
        unit = parameters.signal_unit()
        for column, title in enumerate(_TITLES):
            head = self.table.horizontalHeaderItem(column)
            if head is not None and column:
                head.setText(f"{title} ({unit})" if unit else title)
        self._fill(curve)

    def _fill(self, curve: FittedCurve | None) -> None:
        self.table.blockSignals(True)
        self.table.setRowCount(len(self._points) + 1)
        for row, point in enumerate(self._points):
            off = curve.residuals[row] if curve is not None else math.nan
            fitted = point.value - off
            texts = (
                f"{point.intensity:.6g}",
                typed(point.value),
                shown(fitted, 4),
                shown(off, 3),
            )
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(point.label)
                item.setTextAlignment(
                    int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                )
                if column > 1:
                    item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
                self.table.setItem(row, column, item)
        for column in range(len(_TITLES)):
            self.table.setItem(len(self._points), column, QTableWidgetItem(""))
        self.table.blockSignals(False)

    def _number(self, row: int, column: int) -> float | None:
        item = self.table.item(row, column)
        return parsed(item.text()) if item is not None else None

    def _on_item(self, item: QTableWidgetItem) -> None:
        row = item.row()
        intensity, value = self._number(row, 0), self._number(row, 1)
        if row < len(self._points):
            # What is shown is rounded; only the number that was typed is taken.
            point = self._points[row]
            intensity = intensity if item.column() == 0 else point.intensity
            value = value if item.column() == 1 else point.value
        if intensity is None or value is None:
            if item.text().strip() and parsed(item.text()) is None:
                self.say.setText(f"“{item.text()}” is not a number.")
            return
        self.set_point(row, intensity, value)

    def set_point(self, row: int, intensity: float, value: float) -> None:
        """Change a point, or add one after the last."""
        label = self._points[row].label if row < len(self._points) else ""
        try:
            point = CalibrationPoint(intensity=intensity, value=value, label=label)
        except ValidationError:
            self.say.setText("A point needs two finite numbers.")
            return
        points = list(self._points)
        points[row : row + 1] = [point]
        self.entered.emit(tuple(points))

    def _remove(self) -> None:
        rows = {index.row() for index in self.table.selectedIndexes()}
        self.entered.emit(tuple(p for k, p in enumerate(self._points) if k not in rows))

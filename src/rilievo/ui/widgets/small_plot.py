"""A small plot on a card: a histogram or curve with markers to drag and labelled ticks to click."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFont,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPolygonF,
)
from PyQt6.QtWidgets import QWidget

from rilievo.core.image.histogram import Histogram, heights_between
from rilievo.core.wording.numbers import shown
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

Floats = NDArray[np.float64]
_NEAR = 6.0
_BINS = 160
_TICK_ROW = 15.0
_AXIS = 16.0
_LEFT, _RIGHT = 6.0, 6.0


@dataclass(frozen=True)
class Line:
    """A line at a value. movable : it can be dragged; otherwise a click on its label chooses it."""

    key: str
    value: float
    label: str = ""
    role: str = "accent"
    movable: bool = True


class SmallPlot(QWidget):
    """Shows heights over a range of values; says what was dragged or clicked."""

    begun = pyqtSignal(str)
    moved = pyqtSignal(str, float)
    released = pyqtSignal(str)
    picked = pyqtSignal(str)  # the label of a line that cannot be moved
    clicked = pyqtSignal(float)  # a position without a line

    def __init__(self, theme: Theme, name: str, height: int = 92) -> None:
        super().__init__()
        self._theme = theme
        self.positions: Floats = np.zeros(0)
        self.heights: Floats = np.zeros(0)
        self._others: list[Floats] = []
        self._range = (0.0, 1.0)
        self.lines: tuple[Line, ...] = ()
        self.stretch: tuple[float, float] | None = None
        self.stretch_text = ""
        self.hint = ""
        self._stepped = False
        # How values are printed along the axis.
        self.printed: Callable[[float], str] = lambda value: shown(value, 4)
        self._held: str | None = None
        self._boxes: list[tuple[str, QRectF]] = []
        self._height = height
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        self.setMouseTracking(True)
        self.setFixedHeight(height)

    def sizeHint(self) -> QSize:
        return QSize(320, self._height)

    def show_curve(
        self,
        x: Floats,
        y: Floats,
        ends: tuple[float, float] | None = None,
        *,
        others: Sequence[Floats] = (),
        stepped: bool = False,
    ) -> None:
        """Show heights over values; `others` are drawn thin behind. stepped : as a histogram."""
        self.positions, self.heights, self._others, self._stepped = x, y, list(others), stepped
        if ends is None and x.size:
            ends = (float(x[0]), float(x[-1]))
        if ends is not None and ends[1] > ends[0]:
            self._range = ends
        self.update()

    def show_histogram(self, histogram: Histogram, ends: tuple[float, float]) -> None:
        """Show a histogram over a range, its heights as logarithms."""
        edges, heights = heights_between(histogram, "counts", *ends, _BINS)
        self.show_curve((edges[:-1] + edges[1:]) / 2, np.log1p(heights), ends, stepped=True)

    def show_lines(self, lines: Sequence[Line]) -> None:
        """Show these lines; one that is held stays where the pointer is."""
        self.lines = tuple(line for line in lines if math.isfinite(line.value))
        self.setFixedHeight(self._height + round(_TICK_ROW * self._tick_rows()))
        self.update()

    def show_stretch(self, stretch: tuple[float, float] | None, text: str = "") -> None:
        """Mark a stretch of values as good."""
        self.stretch, self.stretch_text = stretch, text
        self.update()

    # -- positions

    def position_of(self, value: float) -> float:
        """Return where a value stands in the widget."""
        low, high = self._range
        return _LEFT + (value - low) / (high - low) * (self.width() - _LEFT - _RIGHT)

    def value_at(self, x: float) -> float:
        """Return the value at a position of the widget, within the range."""
        low, high = self._range
        share = (x - _LEFT) / max(self.width() - _LEFT - _RIGHT, 1.0)
        return low + min(max(share, 0.0), 1.0) * (high - low)

    def _tick_rows(self) -> int:
        return max((row for _, row, _ in self._tick_positions()), default=-1) + 1

    def _tick_positions(self) -> list[tuple[Line, int, QRectF]]:
        """Each tick's label in the first row where it has room."""
        metrics = QFontMetricsF(text_font(10))
        ends: list[float] = []
        result = []
        for line in sorted((k for k in self.lines if not k.movable), key=lambda k: k.value):
            wide = metrics.horizontalAdvance(line.label) + 8
            position = self.position_of(min(max(line.value, self._range[0]), self._range[1]))
            left = min(max(position - wide / 2, 0.0), self.width() - wide)
            row = next((k for k, end in enumerate(ends) if left >= end + 2), len(ends))
            if row == len(ends):
                ends.append(0.0)
            ends[row] = left + wide
            result.append((line, row, QRectF(left, row * _TICK_ROW, wide, _TICK_ROW - 1)))
        return result

    # -- drawing

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        top = _TICK_ROW * self._tick_rows()
        area = QRectF(
            _LEFT, top + 2, self.width() - _LEFT - _RIGHT, self.height() - top - _AXIS - 2
        )
        if self.stretch is not None:
            self._paint_stretch(painter, area)
        highest = max(
            [float(np.nanmax(k)) for k in (self.heights, *self._others) if k.size] or [0.0]
        )
        if highest > 0:
            for other in self._others:
                painter.setPen(QPen(self._theme.colour("hairline"), 1))
                painter.drawPolyline(self._points(area, other, highest))
            points = self._points(area, self.heights, highest)
            if self._stepped and points.count():
                closed = QPolygonF(points)
                closed.append(QPointF(points.at(points.count() - 1).x(), area.bottom()))
                closed.append(QPointF(points.at(0).x(), area.bottom()))
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(self._theme.colour("hairline"))
                painter.drawPolygon(closed)
            painter.setPen(QPen(self._theme.colour("ink"), 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(points)
        painter.setPen(QPen(self._theme.colour("hairline"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        self._paint_axis(painter, area)
        self._paint_lines(painter, area)
        self._paint_stretch_text(painter, area)
        if self.hint:
            painter.setFont(text_font(11))
            painter.setPen(self._theme.colour("faint"))
            flags = int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap)
            painter.drawText(area, flags, self.hint)
        if self.hasFocus():
            painter.setPen(QPen(self._theme.colour("accent"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))

    def _paint_stretch(self, painter: QPainter, area: QRectF) -> None:
        if self.stretch is None:
            return
        left, right = (
            self.position_of(min(max(v, self._range[0]), self._range[1])) for v in self.stretch
        )
        good = QColor(self._theme.colour("good"))
        good.setAlpha(46)
        box = QRectF(left, area.top(), max(right - left, 2.0), area.height())
        painter.fillRect(box, good)

    def _paint_stretch_text(self, painter: QPainter, area: QRectF) -> None:
        """What the stretch says, on a ground of its own, so that no line runs through it."""
        if self.stretch is None or not self.stretch_text:
            return
        font = text_font(10)
        wide = QFontMetricsF(font).horizontalAdvance(self.stretch_text) + 8
        middle = self.position_of(sum(self.stretch) / 2)
        start = min(max(middle - wide / 2, area.left()), area.right() - wide)
        box = QRectF(start, area.top() + 1, wide, 14)
        painter.fillRect(box, self._theme.colour("panel"))
        painter.setFont(font)
        painter.setPen(self._theme.colour("good"))
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), self.stretch_text)

    def _points(self, area: QRectF, heights: Floats, highest: float) -> QPolygonF:
        points = QPolygonF()
        if heights.size != self.positions.size:
            return points
        inside = (
            (self.positions >= self._range[0])
            & (self.positions <= self._range[1])
            & np.isfinite(heights)
        )
        for x, y in zip(self.positions[inside], heights[inside], strict=True):
            down = area.bottom() - float(y) / highest * (area.height() - 16)
            points.append(QPointF(self.position_of(float(x)), down))
        return points

    def _paint_axis(self, painter: QPainter, area: QRectF) -> None:
        painter.setFont(text_font(10))
        painter.setPen(self._theme.colour("faint"))
        below = QRectF(area.left(), area.bottom() + 1, area.width(), _AXIS - 1)
        for share, flag in (
            (0.0, Qt.AlignmentFlag.AlignLeft),
            (0.5, Qt.AlignmentFlag.AlignHCenter),
            (1.0, Qt.AlignmentFlag.AlignRight),
        ):
            value = self._range[0] + share * (self._range[1] - self._range[0])
            painter.drawText(below, int(flag | Qt.AlignmentFlag.AlignVCenter), self.printed(value))

    def _paint_lines(self, painter: QPainter, area: QRectF) -> None:
        self._boxes = []
        painter.setFont(text_font(10))
        for line, _, box in self._tick_positions():
            position = self.position_of(min(max(line.value, self._range[0]), self._range[1]))
            painter.setPen(QPen(self._theme.colour(line.role), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(position, box.bottom()), QPointF(position, area.bottom()))
            painter.setPen(self._theme.colour(line.role))
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), line.label)
            self._boxes.append((line.key, box))
        painter.setFont(text_font(10, QFont.Weight.DemiBold))
        for line in self.lines:
            if not line.movable:
                continue
            position = self.position_of(line.value)
            if not area.left() - 1 <= position <= area.right() + 1:
                continue
            painter.setPen(QPen(self._theme.colour(line.role), 2))
            painter.drawLine(QPointF(position, area.top()), QPointF(position, area.bottom()))
            painter.setBrush(self._theme.colour(line.role))
            painter.drawPolygon(
                QPolygonF(
                    [
                        QPointF(position - 4, area.bottom() + 6),
                        QPointF(position + 4, area.bottom() + 6),
                        QPointF(position, area.bottom()),
                    ]
                )
            )

    # -- input

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        at = event.position()
        for key, box in self._boxes:
            if box.contains(at):
                self.picked.emit(key)
                return
        movable = [line for line in self.lines if line.movable]
        near = sorted(movable, key=lambda k: abs(self.position_of(k.value) - at.x()))
        if near and abs(self.position_of(near[0].value) - at.x()) <= _NEAR:
            self._held = near[0].key
            self.begun.emit(self._held)
            return
        self.clicked.emit(self.value_at(at.x()))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._held is not None:
            self.moved.emit(self._held, self.value_at(event.position().x()))
            return
        over = any(box.contains(event.position()) for _, box in self._boxes)
        near = any(
            line.movable and abs(self.position_of(line.value) - event.position().x()) <= _NEAR
            for line in self.lines
        )
        shape = Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor
        self.setCursor(Qt.CursorShape.SizeHorCursor if near else shape)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        held, self._held = self._held, None
        if held is not None:
            self.released.emit(held)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        movable = [line for line in self.lines if line.movable]
        ways = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event is None or not movable or event.key() not in ways:
            super().keyPressEvent(event)
            return
        line = movable[-1 if event.modifiers() & Qt.KeyboardModifier.ControlModifier else 0]
        step = (self._range[1] - self._range[0]) / 200 * ways[Qt.Key(event.key())]
        self.begun.emit(line.key)
        self.moved.emit(line.key, min(max(line.value + step, self._range[0]), self._range[1]))
        self.released.emit(line.key)

    def drag(self, key: str, to: float) -> None:
        """Drag a line to a value, as the pointer does."""
        self.begun.emit(key)
        self.moved.emit(key, to)
        self.released.emit(key)

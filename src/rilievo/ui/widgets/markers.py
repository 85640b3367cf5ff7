"""Markers of the Ridges: a line through all rows, and a flag with its value above the plot."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import pyqtgraph
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFocusEvent,
    QFont,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPolygonF,
)
from PyQt6.QtWidgets import QWidget

from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled, text_font


class _HasPositions(Protocol):
    """A plot that says where values stand in the widget."""

    def plot_left(self) -> float: ...

    def position_of(self, value: float) -> float: ...

    def value_at(self, x: float) -> float: ...


@dataclass(frozen=True)
class Marker:
    """A vertical line through all rows that can be dragged."""

    key: str
    value: float
    label: str
    role: str = "accent"


class MarkerLine(pyqtgraph.InfiniteLine):  # type: ignore[misc]
    """A draggable line; its value stands on a flag above the plot."""

    def __init__(self, theme: Theme, marker: Marker) -> None:
        super().__init__(
            pos=marker.value,
            angle=90,
            movable=True,
            pen=pyqtgraph.mkPen(theme.colour(marker.role), width=2),
            hoverPen=pyqtgraph.mkPen(theme.colour("accent_dark"), width=3),
        )
        self.setZValue(1000)


# How far along the axis, and to which other marker.
_KEYS = {
    Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1),
    Qt.Key.Key_Down: (0, 1),
}  # fmt: skip


class Flags(QWidget):
    """The flags of the markers, over the plot; they can be dragged like the lines."""

    begun = pyqtSignal(str)
    moved = pyqtSignal(str, float)

    def __init__(self, plot: _HasPositions, theme: Theme) -> None:
        super().__init__()
        self._plot, self._theme = plot, theme
        self._markers: list[Marker] = []
        self._held: str | None = None
        # The marker that keys move.
        self._chosen = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Markers")
        self.setToolTip("Drag a flag; Up and Down choose one, Left and Right move it")
        self.setFixedHeight(scaled(26))

    def show_markers(self, markers: list[Marker]) -> None:
        self._markers = markers
        self.setCursor(Qt.CursorShape.SizeHorCursor if markers else Qt.CursorShape.ArrowCursor)
        self.update()

    def boxes(self) -> list[tuple[Marker, float, QRectF]]:
        """Where each flag stands: its tip, and a box that stays inside the plot."""
        left = self._plot.plot_left()
        metrics = QFontMetricsF(text_font(12, QFont.Weight.DemiBold))
        boxes = []
        for marker in self._markers:
            tip = self._plot.position_of(marker.value)
            if not left - 1 <= tip <= self.width():
                continue
            width = metrics.horizontalAdvance(marker.label) + 14
            start = min(max(tip - width / 2, left), self.width() - width - 4)
            boxes.append((marker, tip, QRectF(start, 1, width, 19)))
        return boxes

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(text_font(12, QFont.Weight.DemiBold))
        for marker, tip, box in self.boxes():
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self._theme.colour(marker.role))
            painter.drawRoundedRect(box, 2, 2)
            painter.drawPolygon(
                QPolygonF([QPointF(tip - 5, 19), QPointF(tip + 5, 19), QPointF(tip, 25)])
            )
            if self.hasFocus() and marker is self._markers[self._chosen % len(self._markers)]:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(self._theme.colour("ink"), 2))
                painter.drawRoundedRect(box.adjusted(1, 1, -1, -1), 2, 2)
            painter.setPen(self._theme.colour("on_accent"))
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), marker.label)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        way = None if event is None else _KEYS.get(Qt.Key(event.key()))
        if event is None or way is None or not self._markers:
            super().keyPressEvent(event)
            return
        along, other = way
        if other:
            self._chosen = (self._chosen + other) % len(self._markers)
        else:
            marker = self._markers[min(self._chosen, len(self._markers) - 1)]
            steps = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            left = self._plot.plot_left()
            pixel = self._plot.value_at(left + 1) - self._plot.value_at(left)
            if not event.isAutoRepeat():
                self.begun.emit(marker.key)
            self.moved.emit(marker.key, marker.value + along * steps * pixel)
        self._tell()
        self.update()

    def _tell(self) -> None:
        """Have the chosen marker and its value read out."""
        marker = self._markers[min(self._chosen, len(self._markers) - 1)]
        self.setAccessibleDescription(f"{marker.key} at {marker.label}")

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        if self._markers:
            self._tell()
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        super().focusOutEvent(event)
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        for marker, _, box in self.boxes():
            if box.contains(event.position()):
                self._held = marker.key
                self.begun.emit(marker.key)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._held is not None:
            self.moved.emit(self._held, self._plot.value_at(event.position().x()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._held = None

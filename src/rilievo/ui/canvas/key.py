"""The key: the legend beside the picture, whose two ends are dragged to set the display range."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFont,
    QKeyEvent,
    QLinearGradient,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
)
from PyQt6.QtWidgets import QWidget

from rilievo.core.image.number_scale import NumberScale
from rilievo.core.view.palettes import Equaliser, ViewStyle, colour_table
from rilievo.core.wording.numbers import rounded, shown
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

_BAR_WIDTH = 14
_MARGIN = 16
# Room beyond the range at each end, as a share of it, so that it can be dragged wider.
_ROOM = 0.18
# From so far on a handle is meant, in pixels.
_HANDLE = 12.0
_STOPS = 64


class Key(QWidget):
    """A gradient from low to high with two handles; keys move the end that was used last."""

    range_dragged = pyqtSignal(float, float)
    drag_begun = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._low, self._high = 0.0, 1.0
        self._axis = (-_ROOM, 1 + _ROOM)
        self._held: int | None = None
        # Value under the pointer, and both ends, when both began to be dragged.
        self._both: tuple[float, float, float] | None = None
        self._last = 1
        self._colours = colour_table(ViewStyle())
        self.contours: tuple[float, ...] = ()
        self.number_scale = NumberScale()
        self.setFixedWidth(100)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Key: display range")
        self.setToolTip(
            "Display range: drag an end, or use the arrow keys (left and right change the end)"
        )

    def sizeHint(self) -> QSize:
        return QSize(100, 360)

    def set_range(self, low: float, high: float) -> None:
        """Show a display range."""
        if (low, high) == (self._low, self._high) and self._held is None:
            return
        self._low, self._high = low, high
        if self._held is None:
            room = (high - low) * _ROOM
            self._axis = (low - room, high + room)
        self.setAccessibleDescription(f"from {low:g} to {high:g}")
        self.update()

    def set_style(
        self, style: ViewStyle, equal: Equaliser | None = None, contours: Sequence[float] = ()
    ) -> None:
        """Show the colours of a style, and the levels of its contours."""
        colours = colour_table(style, equal=equal)
        if colours is not self._colours or tuple(contours) != self.contours:
            self._colours, self.contours = colours, tuple(contours)
            self.update()

    def set_number_scale(self, scale: NumberScale) -> None:
        """Print the numbers on another scale."""
        if scale != self.number_scale:
            self.number_scale = scale
            self.update()

    @property
    def range(self) -> tuple[float, float]:
        """The range shown."""
        return self._low, self._high

    def position(self, value: float) -> float:
        """Return the height of a value in the widget."""
        low, high = self._axis
        return self._bar().bottom() - (value - low) / (high - low) * self._bar().height()

    def _value(self, y: float) -> float:
        low, high = self._axis
        return low + (self._bar().bottom() - y) / self._bar().height() * (high - low)

    def _bar(self) -> QRectF:
        return QRectF(
            self.width() - _BAR_WIDTH - 26, _MARGIN, _BAR_WIDTH, self.height() - 2 * _MARGIN
        )

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bar = self._bar()
        # The ground again, so that the numbers can be read where the picture lies underneath.
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._theme.colour("picture_ground", 225))
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        low_y, high_y = self.position(self._low), self.position(self._high)
        gradient = QLinearGradient(QPointF(0, low_y), QPointF(0, high_y))
        for i in range(_STOPS + 1):
            colour = int(self._colours[round(i / _STOPS * (len(self._colours) - 1))])
            gradient.setColorAt(i / _STOPS, QColor.fromRgb(colour & 0xFFFFFF))
        painter.setPen(QPen(self._theme.colour("ink", 120), 1))
        painter.setBrush(gradient)
        painter.drawRect(bar)
        painter.setFont(text_font(12))
        for i in range(5):
            value = self._low + (self._high - self._low) * i / 4
            y = self.position(value)
            end = i in (0, 4)
            painter.setPen(QPen(self._theme.colour("over_picture", 255 if end else 190), 1))
            painter.drawLine(QPointF(bar.left() - 5, y), QPointF(bar.left() - 1, y))
            span = self.number_scale.difference(self._high - self._low)
            text = shown(rounded(self.number_scale.value(value), span))
            font = text_font(12, QFont.Weight.DemiBold if end else QFont.Weight.Normal)
            painter.setFont(font)
            painter.drawText(
                QRectF(0, y - 9, bar.left() - 8, 18),
                int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter),
                text,
            )
        painter.setPen(QPen(QColor(60, 34, 18), 1.2))
        for level in self.contours:
            if self._low < level < self._high:
                y = self.position(level)
                painter.drawLine(QPointF(bar.left(), y), QPointF(bar.right(), y))
        for i, y in enumerate((low_y, high_y)):
            tip = bar.right() + 3
            handle = QPolygonF(
                [QPointF(tip, y), QPointF(tip + 12, y - 7), QPointF(tip + 12, y + 7)]
            )
            used = self.hasFocus() and i == self._last
            painter.setPen(QPen(self._theme.colour("accent" if used else "ink"), 2 if used else 1))
            painter.setBrush(self._theme.colour("over_picture"))
            painter.drawPolygon(handle)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        y = event.position().y()
        away = [abs(y - self.position(self._low)), abs(y - self.position(self._high))]
        self.drag_begun.emit()
        between = self.position(self._high) < y < self.position(self._low)
        if between and min(away) > _HANDLE:
            # Between the handles both are dragged, with the range between them as it is.
            self._held, self._both = 0, (self._value(y), self._low, self._high)
            return
        self._both = None
        self._held = self._last = 0 if away[0] < away[1] else 1
        self._drag_to(y)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._held is None:
            self.setCursor(Qt.CursorShape.SizeVerCursor)
        else:
            self._drag_to(event.position().y())

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._held = self._both = None
        self.set_range(self._low, self._high)
        room = (self._high - self._low) * _ROOM
        self._axis = (self._low - room, self._high + room)
        self.update()

    def _drag_to(self, y: float) -> None:
        bar = self._bar()
        if self._both is not None:
            start, low, high = self._both
            by = self._value(y) - start
            self.range_dragged.emit(low + by, high + by)
            return
        self._move_end(self._value(min(max(y, bar.top()), bar.bottom())))

    def _move_end(self, value: float) -> None:
        least = abs(self._axis[1] - self._axis[0]) * 1e-3
        if self._last == 0:
            low, high = min(value, self._high - least), self._high
        else:
            low, high = self._low, max(value, self._low + least)
        self.range_dragged.emit(low, high)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = (self._high - self._low) * 0.02
        key = event.key()
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.drag_begun.emit()
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                by = step if key == Qt.Key.Key_Up else -step
                self.range_dragged.emit(self._low + by, self._high + by)
                return
            end = (self._low, self._high)[self._last]
            self._move_end(end + (step if key == Qt.Key.Key_Up else -step))
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._last = 1 - self._last
            self.update()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: object) -> None:
        self.update()

    def focusOutEvent(self, event: object) -> None:
        self.update()

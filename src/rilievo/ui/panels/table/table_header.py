"""The header of the table: titles, and below each number's title its histogram to brush."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPoint, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter
from PyQt6.QtWidgets import QHeaderView, QWidget

from rilievo.core.measure import QUANTITIES
from rilievo.ui.panels.table.rows_model import IDENTITY, RowsModel
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled

BARS = 20
_TITLE, _MARGIN = 24, 6


class HistogramHeader(QHeaderView):
    """Sections with a histogram; dragging across one asks for a range of its column."""

    brushed = pyqtSignal(int, object)  # column, and (low, high) or None

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(Qt.Orientation.Horizontal, parent)
        self._theme = theme
        self.histograms: dict[int, tuple[np.ndarray, float, float]] = {}
        self.ranges: dict[int, tuple[float, float]] = {}
        self._drag: tuple[int, float, float] | None = None
        self.setSectionsClickable(True)
        self.setHighlightSections(False)
        self.setMinimumSectionSize(44)
        self.setDefaultAlignment(Qt.AlignmentFlag.AlignVCenter)
        self.setMouseTracking(True)

    def topic_at(self, position: QPoint) -> str:
        """Return what explains the column at a position."""
        model, column = self.model(), self.logicalIndexAt(position) - len(IDENTITY)
        if not isinstance(model, RowsModel) or not 0 <= column < len(model.keys):
            return ""
        key = model.keys[column]
        return f"quantities#{key}" if key in QUANTITIES else ""

    def sizeHint(self) -> QSize:
        return QSize(super().sizeHint().width(), scaled(_TITLE) + BARS)

    def paintSection(self, painter: QPainter | None, rect: QRect, logicalIndex: int) -> None:  # noqa: N803
        if painter is None:
            return
        painter.save()
        super().paintSection(painter, rect.adjusted(0, 0, 0, -BARS), logicalIndex)
        painter.restore()
        painter.save()
        bars = self._bars(rect)
        painter.fillRect(
            QRect(rect.left(), bars.top(), rect.width(), BARS), self._theme.colour("panel")
        )
        known = self.histograms.get(logicalIndex)
        if known is not None and known[0].any():
            self._paint_histogram(painter, bars, logicalIndex, known)
        painter.restore()

    def _bars(self, rect: QRect) -> QRect:
        return QRect(rect.left() + _MARGIN, rect.bottom() - BARS + 1, rect.width() - 2 * _MARGIN,
                     BARS)  # fmt: skip

    def _paint_histogram(
        self,
        painter: QPainter,
        bars: QRect,
        column: int,
        known: tuple[np.ndarray, float, float],
    ) -> None:
        counts, low, high = known
        chosen = self._chosen(column)
        # The square root keeps rare values visible beside a peak.
        heights = np.sqrt(counts / counts.max()) * (BARS - 4)
        wide = bars.width() / counts.size
        for k, height in enumerate(heights.tolist()):
            if height <= 0:
                continue
            middle = low + (k + 0.5) / counts.size * (high - low)
            inside = chosen is None or chosen[0] <= middle <= chosen[1]
            colour = self._theme.colour("accent" if inside and chosen else "faint")
            colour.setAlpha(255 if inside and chosen else 130 if inside else 60)
            left = bars.left() + round(k * wide)
            painter.fillRect(
                left,
                bars.bottom() - max(1, round(height)),
                max(1, round((k + 1) * wide) - round(k * wide)),
                max(1, round(height)),
                colour,
            )

    def _chosen(self, column: int) -> tuple[float, float] | None:
        if self._drag is not None and self._drag[0] == column:
            return min(self._drag[1:]), max(self._drag[1:])
        return self.ranges.get(column)

    # -- brushing

    def _value_at(self, column: int, x: int) -> float | None:
        known = self.histograms.get(column)
        if known is None or not math.isfinite(known[1]):
            return None
        left = self.sectionViewportPosition(column) + _MARGIN
        share = (x - left) / max(1, self.sectionSize(column) - 2 * _MARGIN)
        return known[1] + min(max(share, 0.0), 1.0) * (known[2] - known[1])

    def _brush_column(self, at: QPoint) -> int | None:
        column = self.logicalIndexAt(at)
        in_bars = at.y() >= self.height() - BARS
        return column if in_bars and column in self.histograms else None

    def mousePressEvent(self, e: QMouseEvent | None) -> None:
        if e is not None and e.button() == Qt.MouseButton.LeftButton:
            at = e.position().toPoint()
            column = self._brush_column(at)
            value = None if column is None else self._value_at(column, at.x())
            if column is not None and value is not None:
                self._drag = (column, value, value)
                self.updateSection(column)
                return
        super().mousePressEvent(e)

    def mouseMoveEvent(self, e: QMouseEvent | None) -> None:
        if e is not None and self._drag is not None:
            column, start, _ = self._drag
            value = self._value_at(column, e.position().toPoint().x())
            if value is not None:
                self._drag = (column, start, value)
                self.updateSection(column)
            return
        if e is not None:
            over = self._brush_column(e.position().toPoint()) is not None
            self.setToolTip(
                "Drag across the histogram to keep a range of rows; a click takes it away"
                if over
                else ""
            )
        super().mouseMoveEvent(e)

    def mouseReleaseEvent(self, e: QMouseEvent | None) -> None:
        if self._drag is not None:
            column, start, end = self._drag
            self._drag = None
            low, high = min(start, end), max(start, end)
            self.brushed.emit(column, (low, high) if high > low else None)
            self.updateSection(column)
            return
        super().mouseReleaseEvent(e)

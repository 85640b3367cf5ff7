"""A plot in which dragging marks a rectangle instead of moving the view."""

from __future__ import annotations

from typing import Any

import pyqtgraph
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtWidgets import QGraphicsRectItem

from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.live_plot import dress_axes, name_plot


class _BrushBox(pyqtgraph.ViewBox):  # type: ignore[misc]
    brushed = pyqtSignal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__(enableMenu=False)
        self.setDefaultPadding(0.03)
        self._band = QGraphicsRectItem()
        self._theme = theme
        self.dress()
        self._band.setZValue(1e9)
        self._band.hide()
        self.addItem(self._band, ignoreBounds=True)

    def dress(self) -> None:
        """Take the colours in force."""
        self._band.setPen(pyqtgraph.mkPen(self._theme.colour("accent"), width=1))
        self._band.setBrush(self._theme.colour("accent", 40))

    def mouseDragEvent(self, ev: Any, axis: int | None = None) -> None:
        if ev.button() != Qt.MouseButton.LeftButton:
            super().mouseDragEvent(ev, axis)
            return
        ev.accept()
        start = self.mapToView(ev.buttonDownPos())
        end = self.mapToView(ev.pos())
        box = QRectF(start, end).normalized()
        self._band.setRect(box)
        self._band.show()
        if ev.isFinish():
            self._band.hide()
            self.brushed.emit(box)


class BrushPlot(pyqtgraph.PlotWidget):  # type: ignore[misc]
    """Axes and ground of the theme; `brushed` gives the rectangle in data coordinates."""

    brushed = pyqtSignal(object)

    def __init__(self, theme: Theme, name: str) -> None:
        self.box = _BrushBox(theme)
        super().__init__(viewBox=self.box)
        self._theme = theme
        self.box.brushed.connect(self.brushed)
        name_plot(self, name)
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        item.getAxis("left").setWidth(64)
        self._labels: dict[str, str] = {}
        self.dress()
        theme.changed.connect(self.dress)

    def label(self, side: str, text: str) -> None:
        """Write what an axis shows."""
        self._labels[side] = text
        style = {"color": self._theme.value("faint"), "font-size": "11px"}
        self.getPlotItem().setLabel(side, text, **style)

    def dress(self) -> None:
        """Take the colours in force."""
        self.setBackground(self._theme.colour("panel"))
        dress_axes(self.getPlotItem(), self._theme)
        self.box.dress()
        for side, text in self._labels.items():
            self.label(side, text)

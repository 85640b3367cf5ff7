"""A plot in which dragging marks a rectangle instead of moving the view."""

from __future__ import annotations

from typing import Any

import pyqtgraph
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtWidgets import QGraphicsRectItem

from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.live_plot import dress_axes


class _BrushBox(pyqtgraph.ViewBox):  # type: ignore[misc]
    brushed = pyqtSignal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__(enableMenu=False)
        self.setDefaultPadding(0.03)
        self._band = QGraphicsRectItem()
        self._band.setPen(pyqtgraph.mkPen(theme.colour("accent"), width=1))
        self._band.setBrush(theme.colour("accent", 40))
        self._band.setZValue(1e9)
        self._band.hide()
        self.addItem(self._band, ignoreBounds=True)

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
        super().__init__(background=theme.panel, viewBox=self.box)
        self.box.brushed.connect(self.brushed)
        self.setAccessibleName(name)
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        dress_axes(item, theme)
        item.getAxis("left").setWidth(64)
        self._label_style = {"color": theme.faint, "font-size": "11px"}

    def label(self, side: str, text: str) -> None:
        """Write what an axis shows."""
        self.getPlotItem().setLabel(side, text, **self._label_style)

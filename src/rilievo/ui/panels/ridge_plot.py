"""The plot of the Ridges: heights of the hills, axes, and where the pointer is."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, pyqtSignal

from rilievo.core.image.histogram import Histogram, pooled
from rilievo.core.image.number_scale import NumberScale
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font
from rilievo.ui.widgets.live_plot import ScaledAxis, name_plot

BINS = 240
# Shares below this are at the foot of a logarithmic hill.
_LEAST_SHARE = 1e-5


def hills(
    histograms: Sequence[Histogram],
    low: float,
    high: float,
    *,
    logarithmic: bool,
    kind: str = "share",
) -> NDArray[np.float64]:
    """Return heights from 0 to 1, one row a histogram; the tallest of all has 1.

    kind : share, counts, or cumulative (share of pixels at or below, from 0 to 1 in each row).
    """
    heights = np.stack([pooled(h, low, high, BINS)[0] for h in histograms])
    if kind == "cumulative":
        before = np.array([h.share_at_or_below(low) for h in histograms])
        return np.asarray(np.minimum(before[:, None] + np.cumsum(heights, axis=1), 1.0))
    if kind == "counts":
        heights *= np.array([[h.total] for h in histograms], dtype=np.float64)
    if logarithmic:
        least = 0.5 if kind == "counts" else _LEAST_SHARE
        heights = np.log10(np.maximum(heights, least) / least)
    top = heights.max()
    return np.asarray(heights / top if top > 0 else heights, dtype=np.float64)


class RidgePlot(pyqtgraph.PlotWidget):  # type: ignore[misc]
    """The plot area; speaks of the pointer in data coordinates."""

    hovered = pyqtSignal(object)
    clicked = pyqtSignal(float)

    def __init__(self, theme: Theme) -> None:
        self._axis = ScaledAxis("bottom")
        super().__init__(axisItems={"bottom": self._axis})
        self._theme = theme
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        item.getViewBox().setMouseEnabled(x=True, y=False)
        item.getViewBox().setDefaultPadding(0)
        for side in ("left", "bottom"):
            axis = item.getAxis(side)
            axis.setPen(pyqtgraph.mkPen(None))
            axis.setStyle(tickLength=0, tickTextOffset=6)
            axis.setTickFont(text_font(10))
        item.getAxis("bottom").enableAutoSIPrefix(False)
        item.getAxis("left").setWidth(104)
        item.getAxis("bottom").setHeight(22)
        name_plot(self, "Histograms of all samples")
        self.dress()
        theme.changed.connect(self.dress)

    def dress(self) -> None:
        """Take the colours in force."""
        self.setBackground(self._theme.colour("panel"))
        for side in ("left", "bottom"):
            self.getPlotItem().getAxis(side).setTextPen(self._theme.colour("faint"))

    def set_number_scale(self, scale: NumberScale) -> None:
        """Print levels on another scale."""
        self._axis.set_number_scale(scale)

    def plot_left(self) -> float:
        """Where the data area begins in the widget."""
        return float(self.plotItem.vb.sceneBoundingRect().left())

    def position_of(self, value: float) -> float:
        """Return the widget position of a value."""
        return float(self.plotItem.vb.mapViewToScene(QPointF(value, 0)).x())

    def value_at(self, x: float) -> float:
        """Return the value at a widget position."""
        return float(self.plotItem.vb.mapSceneToView(QPointF(x, 0)).x())

    def mouseMoveEvent(self, event: object) -> None:
        super().mouseMoveEvent(event)
        at = self.plotItem.vb.mapSceneToView(QPointF(event.position()))  # type: ignore[attr-defined]
        self.hovered.emit((at.x(), at.y()))

    def leaveEvent(self, event: object) -> None:
        super().leaveEvent(event)
        self.hovered.emit(None)

"""The live plots of the drawer: dressed alike, with axes on the number scale in force."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pyqtgraph
from PyQt6.QtCore import QPointF, Qt, pyqtSignal

from rilievo.core.image.number_scale import NumberScale
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

# What can be overlaid in a plot of the focused channel.
OVERLAID = (
    ("none", "This channel"),
    ("channels", "All channels"),
    ("samples", "All samples"),
)


class ScaledAxis(pyqtgraph.AxisItem):  # type: ignore[misc]
    """An axis in native values whose ticks are round on the number scale."""

    def __init__(self, orientation: str) -> None:
        super().__init__(orientation)
        self.number_scale = NumberScale()

    def set_number_scale(self, scale: NumberScale) -> None:
        """Print on another scale."""
        if scale != self.number_scale:
            self.number_scale = scale
            self.picture = None
            self.update()

    def _is_plain(self) -> bool:
        factor = self.number_scale.factor
        return self.number_scale.kind == "native" or not factor > 0

    def tickValues(self, minVal: float, maxVal: float, size: float) -> list[Any]:  # noqa: N803
        if self._is_plain():
            return list(super().tickValues(minVal, maxVal, size))
        scale = self.number_scale
        levels = super().tickValues(scale.value(minVal), scale.value(maxVal), size)
        return [
            (step / scale.factor, [scale.native(value) for value in values])
            for step, values in levels
        ]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        if self._is_plain():
            return list(super().tickStrings(values, scale, spacing))
        numbers = self.number_scale
        on_scale = [numbers.value(value) for value in values]
        return list(super().tickStrings(on_scale, scale, spacing * numbers.factor))


def name_plot(plot: Any, name: str) -> None:
    """Name a plot and what receives its keys, for those who cannot see it."""
    plot.setAccessibleName(name)
    plot.viewport().setAccessibleName(name)


def dress_axes(item: Any, theme: Theme) -> None:
    """Give the axes of a plot the colours and the type of the theme."""
    for side in ("left", "bottom"):
        axis = item.getAxis(side)
        axis.setPen(pyqtgraph.mkPen(theme.colour("hairline")))
        axis.setTextPen(theme.colour("faint"))
        axis.setStyle(tickLength=-4, tickTextOffset=5)
        axis.setTickFont(text_font(10))
        axis.enableAutoSIPrefix(False)


class Plot(pyqtgraph.PlotWidget):  # type: ignore[misc]
    """A plot that speaks of the pointer in data coordinates; double click shows all."""

    hovered = pyqtSignal(object)  # (x, y) or None
    whole_wanted = pyqtSignal()
    zoomed = pyqtSignal()

    def __init__(self, theme: Theme, *, intensity_axis: str = "bottom", name: str = "Plot") -> None:
        self._intensity = ScaledAxis(intensity_axis)
        super().__init__(axisItems={intensity_axis: self._intensity})
        self._theme = theme
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        view = item.getViewBox()
        view.setDefaultPadding(0.02)
        view.setMouseEnabled(x=True, y=False)
        self.dress()
        name_plot(self, name)
        theme.changed.connect(self.dress)
        item.getAxis("left").setWidth(58)
        item.getAxis("bottom").setHeight(20)
        view.sigXRangeChanged.connect(lambda *_: self.zoomed.emit())

    def dress(self) -> None:
        """Take the colours in force."""
        self.setBackground(self._theme.colour("panel"))
        dress_axes(self.getPlotItem(), self._theme)

    def set_number_scale(self, scale: NumberScale) -> None:
        """Print intensities on another scale."""
        self._intensity.set_number_scale(scale)

    def mouseMoveEvent(self, event: Any) -> None:
        super().mouseMoveEvent(event)
        at = self.plotItem.vb.mapSceneToView(QPointF(event.position()))
        self.hovered.emit((at.x(), at.y()))

    def leaveEvent(self, event: object) -> None:
        super().leaveEvent(event)
        self.hovered.emit(None)

    def mouseDoubleClickEvent(self, event: Any) -> None:
        self.whole_wanted.emit()


class Curves:
    """Curves by key in a plot, made once and moved afterwards; making one is slow."""

    def __init__(self, plot: Plot) -> None:
        self._plot = plot
        self._curves: dict[str, pyqtgraph.PlotCurveItem] = {}

    def show(self, key: str, x: Any, y: Any, *, pen: Any, steps: bool = False) -> None:
        """Draw a curve; with steps x holds the edges of the bins of y."""
        curve = self._curves.get(key)
        if curve is None:
            curve = pyqtgraph.PlotCurveItem(antialias=True)
            self._curves[key] = curve
            self._plot.getPlotItem().addItem(curve)
        curve.setData(x, y, pen=pen, stepMode="center" if steps else None, connect="finite")

    def keep(self, keys: Callable[[str], bool]) -> None:
        """Remove the curves whose key is not kept."""
        for key in [key for key in self._curves if not keys(key)]:
            self._plot.getPlotItem().removeItem(self._curves.pop(key))

    def __len__(self) -> int:
        return len(self._curves)


def line_marker(theme: Theme, role: str = "accent", *, horizontal: bool = False) -> Any:
    """Return a thin marker line that is not dragged."""
    pen = pyqtgraph.mkPen(theme.colour(role), width=1, style=Qt.PenStyle.DashLine)
    return pyqtgraph.InfiniteLine(angle=0 if horizontal else 90, movable=False, pen=pen)

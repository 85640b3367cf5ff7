"""Ridges: the histograms of all samples one under the other, with markers through all rows.

A row shows the share of pixels per bin, so that different sizes compare. Dragging a marker
speaks to all samples at once.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
import pyqtgraph
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.core.image.histogram import Histogram, pooled
from rilievo.core.image.image import Lane
from rilievo.core.image.number_scale import NumberScale
from rilievo.core.report.group_style import group_style
from rilievo.core.signal.steps.background_level import LevelBackground
from rilievo.core.study.study import StudyState
from rilievo.ui.jobs import Jobs
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import on_scale
from rilievo.ui.panels.markers import Flags, Marker, MarkerLine
from rilievo.ui.panels.plot import ScaledAxis
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font
from rilievo.ui.workbench import Workbench

_BINS = 240
_CHOSEN_BINS = 40
_KINDS = ("share", "counts", "cumulative")
# How many rows high the tallest hill stands.
_OVERLAP = 2.4
# Shares below this are at the foot of a logarithmic hill.
_LEAST_SHARE = 1e-5


@dataclass(frozen=True, eq=False)
class _Row:
    sample_id: int
    name: str
    colour: str
    histogram: Histogram


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
    heights = np.stack([pooled(h, low, high, _BINS)[0] for h in histograms])
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


class _Plot(pyqtgraph.PlotWidget):  # type: ignore[misc]
    """The plot area; speaks of the pointer in data coordinates."""

    hovered = pyqtSignal(object)
    clicked = pyqtSignal(float)

    def __init__(self, theme: Theme) -> None:
        self._axis = ScaledAxis("bottom")
        super().__init__(background=theme.panel, axisItems={"bottom": self._axis})
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        item.getViewBox().setMouseEnabled(x=True, y=False)
        item.getViewBox().setDefaultPadding(0)
        for side in ("left", "bottom"):
            axis = item.getAxis(side)
            axis.setPen(pyqtgraph.mkPen(None))
            axis.setTextPen(theme.colour("faint"))
            axis.setStyle(tickLength=0, tickTextOffset=6)
            axis.setTickFont(text_font(10))
        item.getAxis("bottom").enableAutoSIPrefix(False)
        item.getAxis("left").setWidth(104)
        item.getAxis("bottom").setHeight(22)

    def set_number_scale(self, scale: NumberScale) -> None:
        """Print levels on another scale."""
        self._axis.set_number_scale(scale)

    def plot_left(self) -> float:
        """Where the data area begins in the widget."""
        return float(self.plotItem.vb.sceneBoundingRect().left())

    def place_of(self, value: float) -> float:
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


class Ridges(QWidget):
    """The panel: title, plot, reading."""

    marker_moved = pyqtSignal(str, float)
    marker_begun = pyqtSignal(str)

    def __init__(self, model: StudyModel, bench: Workbench, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self._model, self._bench, self._jobs, self._theme = model, bench, jobs, theme
        self._rows: list[_Row] = []
        self._curves: list[pyqtgraph.PlotCurveItem] = []
        self._chosen: Histogram | None = None
        self._chosen_curve = pyqtgraph.PlotCurveItem(
            pen=pyqtgraph.mkPen(theme.colour("ink"), width=1.6), antialias=True
        )
        self._chosen_curve.setZValue(50)
        self._lines: dict[str, MarkerLine] = {}
        self._logarithmic = True
        self._kind = "share"
        self._range: tuple[float, float] = (0.0, 1.0)
        self._lane: Lane = "native"
        self._channel = ""
        self._dragged: str | None = None
        self.setAccessibleName("Ridges: histograms of all samples")
        self._title = QLabel("Ridges")
        self._title.setProperty("role", "title")
        self._about = QLabel("")
        self._about.setProperty("role", "faint")
        self._height_button = QPushButton("log")
        self._height_button.setProperty("role", "link")
        self._height_button.setToolTip("Height of the hills: logarithmic or linear")
        self._height_button.clicked.connect(self._toggle_height)
        self.kind_button = QPushButton("share")
        self.kind_button.setProperty("role", "link")
        self.kind_button.setToolTip("Kind: share of pixels, counts, or cumulative share")
        self.kind_button.clicked.connect(self._next_kind)
        self._plot = _Plot(theme)
        self._plot.hovered.connect(self._read)
        self._plot.scene().sigMouseClicked.connect(self._on_click)
        self._flags = Flags(self._plot, theme)
        self._flags.begun.connect(self.marker_begun)
        self._flags.moved.connect(self.marker_moved)
        self._plot.plotItem.vb.sigXRangeChanged.connect(lambda *_: self._flags.update())
        self._empty = QLabel("Histograms of all samples appear here.")
        self._empty.setProperty("role", "faint")
        self._empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._empty.setWordWrap(True)
        self._empty.setContentsMargins(24, 0, 24, 0)
        self._reading = QLabel("")
        self._reading.setProperty("role", "faint")
        head = QHBoxLayout()
        head.setContentsMargins(16, 8, 4, 0)
        head.addWidget(self._title)
        head.addStretch(1)
        head.addWidget(self._about)
        head.addWidget(self.kind_button)
        head.addWidget(self._height_button)
        foot = QHBoxLayout()
        foot.setContentsMargins(16, 0, 16, 6)
        foot.addWidget(self._reading)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 12, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self._flags)
        layout.addWidget(self._plot, 1)
        layout.addWidget(self._empty, 1)
        layout.addLayout(foot)
        self._hint()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.refresh)
        for signal in (bench.facts_changed, model.focus_changed, model.stage_changed):
            signal.connect(lambda *_: self._timer.start(0))
        model.changed.connect(self._on_change)
        bench.drag.changed.connect(self.place_markers)
        model.viewing.changed.connect(lambda: self._timer.start(0))

    # -- what is shown

    def _on_change(self, old: StudyState, new: StudyState) -> None:
        if old.samples != new.samples:
            self.refresh()
        else:
            self.place_markers()

    def _wanted_channel(self) -> str | None:
        if self._model.stage == "outline":
            return self._bench.outline_channel
        if self._model.stage == "compare" and self._bench.compared_channel is not None:
            return self._bench.compared_channel
        return self._model.channel

    def refresh(self) -> None:
        """Draw the rows anew, in a thread as far as it is computing."""
        channel = self._wanted_channel()
        lane: Lane = "native" if self._model.stage in ("look", "correct") else "signal"
        groups = self._model.state.groups
        rows = []
        for entry in self._model.state.samples:
            facts = self._bench.facts.get(entry.id)
            if facts is None or channel is None:
                continue
            histograms = facts.signal if lane == "signal" else facts.native
            if channel in histograms and histograms[channel].total:
                colour = group_style(groups, entry.group).colour
                rows.append(_Row(entry.id, entry.name, colour, histograms[channel]))
        self._channel = channel or ""
        self._lane = lane
        if not rows:
            facts = self._bench.focused_facts
            error = facts.error if facts is not None else None
            self._clear(error or "Histograms of all samples appear here.")
            return
        low, high = self._extent(rows)
        logarithmic, kind = self._logarithmic, self._kind
        found = [row.histogram for row in rows]

        def work() -> NDArray[np.float64]:
            return hills(found, low, high, logarithmic=logarithmic, kind=kind)

        self._jobs.run(
            "ridges", work, partial(self._draw, rows, (low, high)), lambda _: None, every=True
        )

    def _extent(self, rows: list[_Row]) -> tuple[float, float]:
        ends = self._bench.automatic_range(self._channel, self._lane)
        low = min(ends[0], *(row.histogram.lowest for row in rows[:1]))
        span = ends[1] - ends[0]
        return max(low, ends[0] - 0.15 * span), ends[1] + 0.35 * span

    def _clear(self, why: str) -> None:
        self._empty.setText(why)
        self._rows = []
        self._plot.getPlotItem().clear()
        self._curves.clear()
        self._lines.clear()
        self._chosen = None
        self._hint()

    def _hint(self) -> None:
        self._about.setText("")
        self._plot.getAxis("left").setTicks([[]])
        self._plot.getAxis("bottom").setTicks([[]])
        self._height_button.setVisible(False)
        self.kind_button.setVisible(False)
        self._flags.show_markers([])
        self._show_plot(False)

    def _show_plot(self, shown_now: bool) -> None:
        for widget in (self._flags, self._plot, self._reading):
            widget.setVisible(shown_now)
        self._empty.setVisible(not shown_now)

    def _draw(
        self, rows: list[_Row], extent: tuple[float, float], heights: NDArray[np.float64]
    ) -> None:
        item = self._plot.getPlotItem()
        changed = extent != self._range or len(rows) != len(self._rows)
        self._rows = rows
        self._show_plot(True)
        self._range = extent
        low, high = extent
        centres = low + (np.arange(_BINS) + 0.5) * (high - low) / _BINS
        count = len(rows)
        for i, (row, height) in enumerate(zip(rows, heights, strict=True)):
            base = float(count - 1 - i)
            focused = row.sample_id == self._model.sample_id
            fill = QColor(row.colour)
            fill.setAlpha(110 if focused else 52)
            self._curve(i).setData(
                centres,
                base + _OVERLAP * height,
                pen=pyqtgraph.mkPen(QColor(row.colour), width=2.2 if focused else 1.1),
                fillLevel=base,
                brush=fill,
            )
        for curve in self._curves[count:]:
            item.removeItem(curve)
        del self._curves[count:]
        self._plot.set_number_scale(self._bench.number_scale(self._channel))
        self._height_button.setVisible(self._kind != "cumulative")
        self.kind_button.setVisible(True)
        self.kind_button.setText(self._kind)
        self._height_button.setText("log" if self._logarithmic else "linear")
        about = "as in the file" if self._lane == "native" else "corrected"
        self._about.setText(f"{self._channel} · {about} ·")
        self._set_names(rows)
        view = item.getViewBox()
        view.setLimits(xMin=low - (high - low), xMax=high + 20 * (high - low))
        if changed:
            self._show_extent()
        item.getAxis("bottom").setTicks(None)
        self._draw_chosen()
        self.place_markers()

    def show_chosen(self, histogram: Histogram | None, channel: str) -> None:
        """Draw the levels of the chosen regions over the row of the focused sample."""
        self._chosen = histogram if channel == self._channel else None
        self._draw_chosen()

    def _draw_chosen(self) -> None:
        places = [i for i, row in enumerate(self._rows) if row.sample_id == self._model.sample_id]
        known = self._chosen is not None and self._chosen.total and self._lane == "signal"
        if self._chosen is None or not known or not places:
            self._chosen_curve.setData([], [])
            return
        low, high = self._range
        # A region has few pixels: finer bins would be a comb.
        centres = low + (np.arange(_CHOSEN_BINS) + 0.5) * (high - low) / _CHOSEN_BINS
        height = pooled(self._chosen, low, high, _CHOSEN_BINS)[0]
        if self._kind == "cumulative":
            height = self._chosen.share_at_or_below(low) + np.cumsum(height)
        base = float(len(self._rows) - 1 - places[0])
        self._chosen_curve.setData(centres, base + _OVERLAP * height / max(height.max(), 1e-12))
        if self._chosen_curve.scene() is None:
            self._plot.getPlotItem().addItem(self._chosen_curve)

    def _show_extent(self) -> None:
        """Show all levels again, after zooming with the wheel."""
        top = len(self._rows) - 1 + _OVERLAP + 0.1
        view = self._plot.getPlotItem().getViewBox()
        view.setRange(xRange=self._range, yRange=(-0.15, top), padding=0)

    def _curve(self, i: int) -> pyqtgraph.PlotCurveItem:
        """The curve of row i; making one is slow, so they are kept."""
        while len(self._curves) <= i:
            curve = pyqtgraph.PlotCurveItem(antialias=True)
            self._curves.append(curve)
            self._plot.getPlotItem().addItem(curve)
        return self._curves[i]

    def _set_names(self, rows: list[_Row]) -> None:
        room = max(self._plot.height() - 30, 1) / (len(rows) + _OVERLAP)
        every = max(1, math.ceil(11.5 / room))
        axis = self._plot.getAxis("left")
        names = [
            (len(rows) - 1 - i, row.name if len(row.name) <= 15 else row.name[:14] + "…")
            for i, row in enumerate(rows)
            if i % every == 0
        ]
        axis.setTicks([names])

    # -- markers

    def markers(self) -> list[Marker]:
        """Return the markers of the present stage."""
        stage, channel = self._model.stage, self._channel
        if not channel:
            return []
        if stage == "look":
            low, high = self._bench.display_range(channel, "native", self._model.sample_id)
            return [
                Marker(f"display {end}", value, self._percentile(value))
                for end, value in (("low", low), ("high", high))
            ]
        if stage == "correct":
            return self._background_markers(channel)
        return self._outline_markers(channel)

    def _outline_markers(self, channel: str) -> list[Marker]:
        """The threshold, or both ends of a band."""
        if channel != self._bench.outline_channel:
            return []
        band = self._bench.band
        if band is not None:
            return [Marker(end, band[end], self._printed(band[end])) for end in ("lower", "upper")]
        level = self._bench.level(self._model.sample_id)
        if level is None or not math.isfinite(level) or channel != self._bench.outline_channel:
            return []
        return [Marker("threshold", level, self._printed(level))]

    def _background_markers(self, channel: str) -> list[Marker]:
        """Typed levels, which can be dragged; what is estimated stands on its card."""
        uses = [
            use
            for use in self._model.state.method.steps
            if use.applies_to(channel) and isinstance(use.parameters, LevelBackground)
        ]
        return [
            Marker(f"background {use.id}", level, self._printed(level), "water")
            for use in uses
            for level in (use.parameters.model_dump()["level"],)
        ]

    def _percentile(self, value: float) -> str:
        facts = self._bench.focused_facts
        histogram = facts.native.get(self._channel) if facts else None
        if histogram is None:
            return self._printed(value)
        share = 100 * histogram.share_at_or_below(value)
        return f"{self._printed(value)} · {share:.3g} %"

    def _printed(self, value: float) -> str:
        """A level on the number scale in force."""
        return on_scale(value, self._bench.number_scale(self._channel))

    def place_markers(self) -> None:
        """Move the lines to where the model has them."""
        wanted = {marker.key: marker for marker in self.markers()}
        item = self._plot.getPlotItem()
        for key in [key for key in self._lines if key not in wanted]:
            item.removeItem(self._lines.pop(key))
        for key, marker in wanted.items():
            line = self._lines.get(key)
            if line is None:
                line = MarkerLine(self._theme, marker)
                line.sigDragged.connect(partial(self._on_drag, key))
                line.sigPositionChangeFinished.connect(self._on_release)
                self._lines[key] = line
                item.addItem(line)
            elif self._dragged != key:
                line.setValue(marker.value)
        self._flags.show_markers(list(wanted.values()))

    def _on_drag(self, key: str, line: MarkerLine) -> None:
        if self._dragged != key:
            self._dragged = key
            self.marker_begun.emit(key)
        self.marker_moved.emit(key, float(line.value()))

    def _on_release(self, _line: object) -> None:
        self._dragged = None

    def drag_marker(self, key: str, to: float) -> None:
        """Drag a marker to a value, as the pointer does."""
        line = self._lines[key]
        line.setValue(to)
        self._on_drag(key, line)
        self._on_release(line)

    # -- reading

    def _row_at(self, y: float) -> _Row | None:
        i = len(self._rows) - 1 - math.floor(y + 1e-9)
        return self._rows[i] if 0 <= i < len(self._rows) else None

    def _read(self, at: tuple[float, float] | None) -> None:
        if not self._rows:
            return
        row = None if at is None else self._row_at(at[1])
        if at is None or row is None:
            self._reading.setText(" ")
            return
        histogram = row.histogram
        width = (self._range[1] - self._range[0]) / _BINS
        low = self._range[0] + math.floor((at[0] - self._range[0]) / width) * width
        upto = histogram.share_at_or_below(low + width)
        below = histogram.share_at_or_below(low)
        self._reading.setText(
            f" {row.name}: {self._printed(low)} – {self._printed(low + width)} · "
            f"{round((upto - below) * histogram.total)} px · {100 * upto:.4g} % at or below"
        )

    def _on_click(self, event: object) -> None:
        if event.double():  # type: ignore[attr-defined]
            self._show_extent()
            return
        at = self._plot.plotItem.vb.mapSceneToView(event.scenePos())  # type: ignore[attr-defined]
        row = self._row_at(at.y())
        if row is not None:
            self._model.focus(sample_id=row.sample_id)

    def _next_kind(self) -> None:
        self._kind = _KINDS[(_KINDS.index(self._kind) + 1) % len(_KINDS)]
        self.refresh()

    def _toggle_height(self) -> None:
        self._logarithmic = not self._logarithmic
        self.refresh()

    def resizeEvent(self, event: object) -> None:
        if self._rows:
            self._set_names(self._rows)

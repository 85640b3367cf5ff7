"""Ridges: the histograms of all samples one under the other, with markers through all rows.

A row shows the share of pixels per bin, so that different sizes compare. Dragging a marker
speaks to all samples at once.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import partial

import numpy as np
import pyqtgraph
from numpy.typing import NDArray
from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.image.histogram import Histogram, pooled
from rilievo.core.image.image import ValueSource
from rilievo.core.study.study import StudyState
from rilievo.core.wording.numbers import share_text
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.panels.ridge_markers import StageMarkers
from rilievo.ui.panels.ridge_plot import BINS, RidgePlot, hills
from rilievo.ui.panels.ridge_raster import Drawn, Raster, raster_of
from rilievo.ui.session.short_names import shortened
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.markers import Flags, Marker, MarkerLine

_CHOSEN_BINS = 40
_KINDS = ("share", "counts", "cumulative")
# How many rows high the tallest hill stands.
_OVERLAP = 2.4
# More rows than these are too low for hills; they are drawn as one picture.
_MOST_HILLS = 48
_ROOM = 0.04
_TOGETHER_MS = 200
# Of names at the left.
_MOST_LETTERS = 15


@dataclass(frozen=True, eq=False)
class _Row:
    sample_id: int
    name: str
    colour: str
    histogram: Histogram


class Ridges(QWidget):
    """The panel: title, plot, reading."""

    marker_moved = pyqtSignal(str, float)
    marker_begun = pyqtSignal(str)

    def __init__(self, session: StudySession, compute: Compute, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._jobs, self._theme = session, compute, jobs, theme
        self.rows: list[_Row] = []
        # Sample's id → its row.
        self._place: dict[int, int] = {}
        self.curves: list[pyqtgraph.PlotCurveItem] = []
        self._chosen: Histogram | None = None
        self.chosen_curve = pyqtgraph.PlotCurveItem(antialias=True)
        self.chosen_curve.setZValue(50)
        self.lines: dict[str, MarkerLine] = {}
        self._markers = StageMarkers(session, compute)
        self._logarithmic = True
        self._kind = "share"
        self._range: tuple[float, float] = (0.0, 1.0)
        self._source: ValueSource = "native"
        self.channel = ""
        self._dragged: str | None = None
        self.setAccessibleName("Ridges: histograms of all samples")
        self._title = QLabel("Ridges")
        self._title.setProperty("role", "title")
        self._about = QLabel("")
        self._about.setProperty("role", "faint")
        self.height_button = QPushButton("log")
        self.height_button.setProperty("role", "link")
        self.height_button.setToolTip("Height of the hills: logarithmic or linear")
        self.height_button.clicked.connect(self._toggle_height)
        self.kind_button = QPushButton("share")
        self.kind_button.setProperty("role", "link")
        self.kind_button.setToolTip("Kind: share of pixels, counts, or cumulative share")
        self.kind_button.clicked.connect(self._next_kind)
        self.plot = RidgePlot(theme)
        self.plot.hovered.connect(self._read)
        self.plot.scene().sigMouseClicked.connect(self._on_click)
        self.raster = Raster(self.plot.getPlotItem(), theme)
        self.flags = Flags(self.plot, theme)
        self.flags.begun.connect(self.marker_begun)
        self.flags.moved.connect(self.marker_moved)
        self.plot.plotItem.vb.sigXRangeChanged.connect(lambda *_: self.flags.update())
        self.empty = QLabel("Histograms of all samples appear here.")
        self.empty.setProperty("role", "faint")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty.setWordWrap(True)
        self.empty.setContentsMargins(24, 0, 24, 0)
        self.reading = QLabel("")
        self.reading.setProperty("role", "faint")
        head = QHBoxLayout()
        head.setContentsMargins(16, 8, 4, 0)
        head.addWidget(self._title)
        head.addStretch(1)
        head.addWidget(self._about)
        head.addWidget(self.kind_button)
        head.addWidget(self.height_button)
        foot = QHBoxLayout()
        foot.setContentsMargins(16, 0, 16, 6)
        foot.addWidget(self.reading)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 12, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self.flags)
        layout.addWidget(self.plot, 1)
        layout.addWidget(self.empty, 1)
        layout.addLayout(foot)
        self._hint()
        self._dress()
        theme.changed.connect(self._dress)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.refresh)
        for signal in (compute.queue.changed, session.focus.changed, session.stage_changed):
            signal.connect(lambda *_: self._refresh_soon())
        session.changed.connect(self._on_change)
        compute.drag.changed.connect(self.place_markers)
        session.view.changed.connect(self._refresh_soon)

    def _refresh_soon(self) -> None:
        """Draw once for all that changes together; of many samples, what comes within a moment."""
        if not self._timer.isActive():
            many = len(self._session.state.samples) > _MOST_HILLS
            self._timer.start(_TOGETHER_MS if many else 0)

    # -- what is shown

    def _dress(self) -> None:
        self.chosen_curve.setPen(pyqtgraph.mkPen(self._theme.colour("ink"), width=1.6))

    def _on_change(self, old: StudyState, new: StudyState) -> None:
        if old.samples != new.samples:
            self.refresh()
        else:
            self.place_markers()

    def _wanted_channel(self) -> str | None:
        if self._session.stage == "outline":
            return self._compute.store.outline_channel
        if self._session.stage == "compare" and self._compute.queue.compared_channel is not None:
            return self._compute.queue.compared_channel
        return self._session.focus.channel

    def refresh(self) -> None:
        """Draw the rows anew, in a thread as far as it is computing."""
        channel = self._wanted_channel()
        source: ValueSource = "native" if self._session.stage in ("look", "correct") else "signal"
        groups = self._session.state.groups
        rows = []
        for entry in self._session.state.samples:
            facts = self._compute.queue.summaries.get(entry.id)
            if facts is None or channel is None:
                continue
            histograms = facts.signal if source == "signal" else facts.native
            if channel in histograms and histograms[channel].total:
                colour = group_style(groups, entry.group).colour
                rows.append(_Row(entry.id, entry.name, colour, histograms[channel]))
        self.channel = channel or ""
        self._source = source
        if not rows:
            facts = self._compute.queue.focused
            error = facts.error if facts is not None else None
            self._clear(error or "Histograms of all samples appear here.")
            return
        low, high = self._extent(rows)
        logarithmic, kind = self._logarithmic, self._kind
        found, colours = [row.histogram for row in rows], [row.colour for row in rows]

        def work() -> Drawn:
            heights = hills(found, low, high, logarithmic=logarithmic, kind=kind)
            raster = raster_of(heights, colours) if len(rows) > _MOST_HILLS else None
            return Drawn(heights, raster)

        self._jobs.run(
            "ridges", work, partial(self._draw, rows, (low, high)), lambda _: None, every=True
        )

    def _extent(self, rows: list[_Row]) -> tuple[float, float]:
        ends = self._compute.ranges.automatic_range(self.channel, self._source)
        low = min(ends[0], *(row.histogram.lowest for row in rows[:1]))
        span = ends[1] - ends[0]
        return max(low, ends[0] - 0.15 * span), ends[1] + 0.35 * span

    def _clear(self, why: str) -> None:
        self.empty.setText(why)
        self.rows, self._place = [], {}
        self.plot.getPlotItem().clear()
        self.raster = Raster(self.plot.getPlotItem(), self._theme)
        self.curves.clear()
        self.lines.clear()
        self._chosen = None
        self._hint()

    def _hint(self) -> None:
        self._about.setText("")
        self.plot.getAxis("left").setTicks([[]])
        self.plot.getAxis("bottom").setTicks([[]])
        self.height_button.setVisible(False)
        self.kind_button.setVisible(False)
        self.flags.show_markers([])
        self._show_plot(False)

    def _show_plot(self, shown_now: bool) -> None:
        for widget in (self.flags, self.plot, self.reading):
            widget.setVisible(shown_now)
        self.empty.setVisible(not shown_now)

    def _draw(self, rows: list[_Row], extent: tuple[float, float], drawn: Drawn) -> None:
        item = self.plot.getPlotItem()
        changed = extent != self._range or len(rows) != len(self.rows)
        self.rows = rows
        self._place = {row.sample_id: i for i, row in enumerate(rows)}
        self._show_plot(True)
        self._range = extent
        low, high = extent
        self.raster.show_rows(drawn.raster, extent, self._place.get(self._focus))
        if drawn.raster is None:
            self._draw_hills(rows, extent, drawn.heights)
        else:
            self._keep_curves(0)
        self.plot.set_number_scale(self._compute.ranges.number_scale(self.channel))
        self.height_button.setVisible(self._kind != "cumulative")
        self.kind_button.setVisible(True)
        self.kind_button.setText(self._kind)
        self.height_button.setText("log" if self._logarithmic else "linear")
        about = "as in the file" if self._source == "native" else "corrected"
        self._about.setText(f"{self.channel} · {about} ·")
        self._set_names(rows)
        view = item.getViewBox()
        view.setLimits(xMin=low - (high - low), xMax=high + 20 * (high - low))
        if changed:
            self._show_extent()
        item.getAxis("bottom").setTicks(None)
        self._draw_chosen()
        self.place_markers()

    @property
    def _focus(self) -> int:
        return self._session.focus.sample_id or -1

    def _draw_hills(
        self, rows: list[_Row], extent: tuple[float, float], heights: NDArray[np.float64]
    ) -> None:
        low, high = extent
        centres = low + (np.arange(BINS) + 0.5) * (high - low) / BINS
        count = len(rows)
        for i, (row, height) in enumerate(zip(rows, heights, strict=True)):
            base = float(count - 1 - i)
            focused = row.sample_id == self._focus
            fill = QColor(row.colour)
            fill.setAlpha(110 if focused else 52)
            self._curve(i).setData(
                centres,
                base + _OVERLAP * height,
                pen=pyqtgraph.mkPen(QColor(row.colour), width=2.2 if focused else 1.1),
                fillLevel=base,
                brush=fill,
            )
        self._keep_curves(count)

    def _keep_curves(self, count: int) -> None:
        """Take the curves beyond the first so many out of the plot."""
        for curve in self.curves[count:]:
            self.plot.getPlotItem().removeItem(curve)
        del self.curves[count:]

    def show_chosen(self, histogram: Histogram | None, channel: str) -> None:
        """Draw the levels of the chosen regions over the row of the focused sample."""
        self._chosen = histogram if channel == self.channel else None
        self._draw_chosen()

    def _draw_chosen(self) -> None:
        place = self._place.get(self._focus)
        known = self._chosen is not None and self._chosen.total and self._source == "signal"
        if self._chosen is None or not known or place is None:
            self.chosen_curve.setData([], [])
            return
        low, high = self._range
        # A region has few pixels: finer bins would be a comb.
        centres = low + (np.arange(_CHOSEN_BINS) + 0.5) * (high - low) / _CHOSEN_BINS
        height = pooled(self._chosen, low, high, _CHOSEN_BINS)[0]
        if self._kind == "cumulative":
            height = self._chosen.share_at_or_below(low) + np.cumsum(height)
        base = float(len(self.rows) - 1 - place)
        self.chosen_curve.setData(centres, base + _OVERLAP * height / max(height.max(), 1e-12))
        if self.chosen_curve.scene() is None:
            self.plot.getPlotItem().addItem(self.chosen_curve)

    def _show_extent(self) -> None:
        """Show all levels again, after zooming with the wheel."""
        count = len(self.rows)
        # The names of the first and last row have room.
        beyond = _ROOM * count if count > _MOST_HILLS else _OVERLAP - 1 + 0.1
        bottom = -_ROOM * count if count > _MOST_HILLS else -0.15
        top = count + beyond
        view = self.plot.getPlotItem().getViewBox()
        view.setRange(xRange=self._range, yRange=(bottom, top), padding=0)

    def _curve(self, i: int) -> pyqtgraph.PlotCurveItem:
        """The curve of row i; making one is slow, so they are kept."""
        while len(self.curves) <= i:
            curve = pyqtgraph.PlotCurveItem(antialias=True)
            self.curves.append(curve)
            self.plot.getPlotItem().addItem(curve)
        return self.curves[i]

    def _set_names(self, rows: list[_Row]) -> None:
        room = max(self.plot.height() - 30, 1) / (len(rows) + _OVERLAP)
        every = max(1, math.ceil(11.5 / room))
        axis = self.plot.getAxis("left")
        short = shortened([row.name for row in rows], _MOST_LETTERS)
        names = [(len(rows) - 1 - i, name) for i, name in enumerate(short) if i % every == 0]
        axis.setTicks([names])

    # -- markers

    def _printed(self, value: float) -> str:
        return self._markers.printed(self.channel, value)

    @property
    def markers(self) -> list[Marker]:
        """The markers of the present stage."""
        return self._markers.on(self.channel)

    def place_markers(self) -> None:
        """Move the lines to where the session has them."""
        wanted = {marker.key: marker for marker in self.markers}
        item = self.plot.getPlotItem()
        for key in [key for key in self.lines if key not in wanted]:
            item.removeItem(self.lines.pop(key))
        for key, marker in wanted.items():
            line = self.lines.get(key)
            if line is None:
                line = MarkerLine(self._theme, marker)
                line.sigDragged.connect(partial(self._on_drag, key))
                line.sigPositionChangeFinished.connect(self._on_release)
                self.lines[key] = line
                item.addItem(line)
            elif self._dragged != key:
                line.setValue(marker.value)
        self.flags.show_markers(list(wanted.values()))

    def _on_drag(self, key: str, line: MarkerLine) -> None:
        if self._dragged != key:
            self._dragged = key
            self.marker_begun.emit(key)
        self.marker_moved.emit(key, float(line.value()))

    def _on_release(self, _line: object) -> None:
        self._dragged = None

    def drag_marker(self, key: str, to: float) -> None:
        """Drag a marker to a value, as the pointer does."""
        line = self.lines[key]
        line.setValue(to)
        self._on_drag(key, line)
        self._on_release(line)

    # -- reading

    def _row_at(self, y: float) -> _Row | None:
        i = len(self.rows) - 1 - math.floor(y + 1e-9)
        return self.rows[i] if 0 <= i < len(self.rows) else None

    def _read(self, at: tuple[float, float] | None) -> None:
        if not self.rows:
            return
        row = None if at is None else self._row_at(at[1])
        if at is None or row is None:
            self.reading.setText(" ")
            return
        histogram = row.histogram
        width = (self._range[1] - self._range[0]) / BINS
        low = self._range[0] + math.floor((at[0] - self._range[0]) / width) * width
        share = histogram.share_at_or_below(low + width)
        below = histogram.share_at_or_below(low)
        self.reading.setText(
            f" {row.name}: {self._printed(low)} – {self._printed(low + width)} · "
            f"{round((share - below) * histogram.total)} px · {share_text(100 * share)} at or below"
        )

    def _on_click(self, event: object) -> None:
        if event.double():  # type: ignore[attr-defined]
            self._show_extent()
            return
        at = self.plot.plotItem.vb.mapSceneToView(event.scenePos())  # type: ignore[attr-defined]
        row = self._row_at(at.y())
        if row is not None:
            self._session.focus.set(sample_id=row.sample_id)

    def _next_kind(self) -> None:
        self._kind = _KINDS[(_KINDS.index(self._kind) + 1) % len(_KINDS)]
        self.refresh()

    def _toggle_height(self) -> None:
        self._logarithmic = not self._logarithmic
        self.refresh()

    def resizeEvent(self, event: object) -> None:
        if self.rows:
            self._set_names(self.rows)

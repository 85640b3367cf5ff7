"""The histogram of a sample or of the selected regions: counts, share or cumulative share."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import partial

import numpy as np
import pyqtgraph
from numpy.typing import NDArray
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.compare.plots.group_style import COLOURS, group_style
from rilievo.core.image.histogram import (
    Histogram,
    HistogramKind,
    heights_between,
    histogram_of_values,
)
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import choice_box, side_by_side
from rilievo.ui.widgets.live_plot import OVERLAID, Curves, Plot, line_marker

KINDS = (("counts", "Counts"), ("share", "Share"), ("cumulative", "Cumulative"))
_BINS = 400
_PERCENTILES = (0.01, 0.25, 0.5, 0.75, 0.99)


@dataclass(frozen=True, eq=False)
class NamedHistogram:
    """A histogram with what it is called and drawn in."""

    name: str
    histogram: Histogram
    colour: str
    is_main: bool


# A histogram with the edges and heights of its bins in view.
_Drawn = tuple[NamedHistogram, NDArray[np.float64], NDArray[np.float64]]


class HistogramPanel(QWidget):
    """Controls left, plot right, a reading below."""

    copy_wanted = pyqtSignal()
    save_wanted = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self._shown: list[NamedHistogram] = []
        self._region: tuple[object, Histogram] | None = None
        self.kind = choice_box("Kind of histogram", KINDS, 110)
        heights = (("log", "Log height"), ("linear", "Linear"))
        self.height_kind = choice_box("Height of the histogram", heights, 120)
        self.others = choice_box("What is overlaid in the histogram", OVERLAID, 130)
        for control in (self.kind, self.height_kind, self.others):
            control.activated.connect(lambda _: self.refresh(whole=False))
        self.regions = QCheckBox("Selected regions")
        self.regions.setToolTip("Only the pixels of the selected regions, in the signal")
        self.percentiles = QCheckBox("Percentiles")
        self.percentiles.setToolTip("Lines at 1, 25, 50, 75 and 99 %")
        for box in (self.regions, self.percentiles):
            box.toggled.connect(lambda _: self.refresh(whole=False))
        self.copy_button, self.save_button = QPushButton("Copy"), QPushButton("Save CSV …")
        self.copy_button.setToolTip("Copy level, count, share and cumulative share of every bin")
        self.copy_button.clicked.connect(self.copy_wanted)
        self.save_button.clicked.connect(self.save_wanted)
        self.plot = Plot(theme, name="Histogram")
        self._curves = Curves(self.plot)
        self.percentile_lines = [line_marker(theme) for _ in _PERCENTILES]
        for line in self.percentile_lines:
            self.plot.getPlotItem().addItem(line)
            line.setVisible(False)
        self.reading = QLabel(" ")
        self.reading.setProperty("role", "faint")
        self.plot.hovered.connect(self._read)
        self.plot.zoomed.connect(self._draw)
        self.plot.whole_wanted.connect(self.show_whole)
        left = QVBoxLayout()
        left.setSpacing(4)
        left.addWidget(side_by_side(self.kind, self.height_kind))
        left.addWidget(side_by_side(self.others, self.percentiles, stretch=True))
        left.addWidget(side_by_side(self.regions, stretch=True))
        left.addWidget(side_by_side(self.copy_button, self.save_button, stretch=True))
        left.addStretch(1)
        right = QVBoxLayout()
        right.setSpacing(0)
        right.addWidget(self.plot, 1)
        right.addWidget(self.reading)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 4, 16, 4)
        layout.setSpacing(12)
        layout.addLayout(left)
        layout.addLayout(right, 1)
        for signal in (session.focus.changed, compute.queue.changed, session.focus.regions_changed):
            signal.connect(lambda *_: self.refresh(whole=False))
        session.stage_changed.connect(lambda _: self.refresh())
        session.view.changed.connect(lambda: self.refresh(whole=False))
        self._extent: tuple[float, float] | None = None

    # -- what is shown

    @property
    def histograms(self) -> list[NamedHistogram]:
        """What is shown, the focused one first."""
        return self._shown

    def _collected(self) -> list[NamedHistogram]:
        sample, facts, entry = (
            self._compute.store.focused,
            self._compute.queue.focused,
            self._session.focus.entry,
        )
        if sample is None or facts is None or entry is None:
            return []
        signal = self._compute.session.shows_signal
        channel = self._compute.store.channel_for(sample)
        known = facts.signal if signal else facts.native
        groups = self._session.state.groups
        own = group_style(groups, entry.group).colour
        if self.regions.isChecked():
            found = self._of_regions(channel)
            return [] if found is None else [NamedHistogram("selected regions", found, own, True)]
        others = self.others.currentData()
        result = []
        if channel in known:
            result.append(NamedHistogram(f"{entry.name} · {channel}", known[channel], own, True))
        if others == "channels":
            result += [
                NamedHistogram(name, facts.native[name], COLOURS[(i + 3) % len(COLOURS)], False)
                for i, name in enumerate(sample.channel_names)
                if name != channel and name in facts.native
            ]
        elif others == "samples":
            for other in self._session.state.samples:
                theirs = self._compute.queue.summaries.get(other.id)
                if theirs is None or other.id == entry.id:
                    continue
                histogram = (theirs.signal if signal else theirs.native).get(channel)
                if histogram is not None:
                    colour = group_style(groups, other.group).colour
                    result.append(NamedHistogram(other.name, histogram, colour, False))
        return result

    def _of_regions(self, channel: str) -> Histogram | None:
        """The pixels of the selected regions; kept while the selection stays."""
        facts, entry, sample = (
            self._compute.queue.focused,
            self._session.focus.entry,
            self._compute.store.focused,
        )
        sets = facts.regions if facts is not None else ()
        if not sets or entry is None or sample is None:
            return None
        key = (facts, channel, self._session.focus.regions)
        if self._region is not None and self._region[0] == key:
            return self._region[1]
        if not self._session.focus.regions:
            return None
        analysis = self._compute.store.analysis(entry.id)
        chosen = list(self._session.focus.regions)

        def work() -> Histogram:
            plane = analysis.signal(channel)
            inside = np.zeros(plane.shape, np.bool_)
            for regions in sets:
                own = np.intersect1d(regions.ids, chosen)
                if own.size:
                    inside |= np.isin(regions.labels, own)
            return histogram_of_values(plane.pixels[inside], plane.lattice)

        def done(histogram: Histogram) -> None:
            self._region = (key, histogram)
            self.refresh()

        self._compute.jobs.run("region histogram", work, done, lambda _: None)
        return None

    def refresh(self, *, whole: bool = True) -> None:
        """Show the focused sample anew; `whole` shows the full range again."""
        if not self.isVisible():
            return
        self._shown = self._collected()
        self.plot.set_number_scale(self._compute.ranges.number_scale())
        extent = self._whole_extent()
        if extent is not None and (whole or self._extent is None or extent != self._extent):
            self._extent = extent
            self.plot.getPlotItem().getViewBox().setXRange(*extent, padding=0.01)
        self._place_percentiles()
        self._draw()

    def _whole_extent(self) -> tuple[float, float] | None:
        found = [one.histogram for one in self._shown if one.histogram.total]
        if not found:
            return None
        low, high = min(h.lowest for h in found), max(h.highest for h in found)
        return (low, high) if high > low else (low - 1, low + 1)

    def show_whole(self) -> None:
        """Show all levels again, after zooming with the wheel."""
        self.refresh(whole=True)

    def _draw(self) -> None:
        """Form the bins of the range in view, in a thread, then draw them."""
        kind, log = self.kind.currentData(), self.height_kind.currentData() == "log"
        low, high = self.plot.getPlotItem().getViewBox().viewRange()[0]
        wanted = list(self._shown)

        def work() -> list[_Drawn]:
            return [
                (one, *heights_between(one.histogram, kind, low, high, _BINS)) for one in wanted
            ]

        self._compute.jobs.run(
            "histogram", work, partial(self._show_curves, kind, log), lambda _: None, every=True
        )

    def _show_curves(self, kind: HistogramKind, log: bool, drawn: list[_Drawn]) -> None:
        names = {one.name for one, _, _ in drawn}
        self._curves.keep(lambda key: key in names)
        log = log and kind != "cumulative"
        foot = 0.0
        if log:
            # Empty bins stand on the floor of half a pixel.
            totals = [one.histogram.total for one, _, _ in drawn if one.histogram.total]
            foot = math.log10(0.5 / (max(totals) if kind == "share" else 1)) if totals else 0.0
            drawn = [
                (one, edges, np.log10(np.maximum(heights, 10.0**foot)))
                for one, edges, heights in drawn
            ]
        for one, edges, heights in drawn:
            colour = QColor(one.colour)
            colour.setAlpha(255 if one.is_main else 150)
            pen = pyqtgraph.mkPen(colour, width=1.8 if one.is_main else 1.0)
            self._curves.show(one.name, edges, heights, pen=pen, steps=True)
        top = max((float(heights.max()) for _, _, heights in drawn), default=1.0)
        self._set_height(kind, log, foot, top)

    def _set_height(self, kind: str, log: bool, foot: float, top: float) -> None:
        view = self.plot.getPlotItem().getViewBox()
        view.setYRange(foot, 1.0 if kind == "cumulative" else max(top, foot + 1e-9), padding=0.04)
        axis = self.plot.getPlotItem().getAxis("left")
        if log:
            powers = range(math.ceil(foot), math.floor(max(top, foot)) + 1)
            axis.setTicks([[(p, f"{10.0**p:g}") for p in powers]])
        else:
            axis.setTicks(None)

    def _place_percentiles(self) -> None:
        main = self._shown[0].histogram if self._shown else None
        for share, line in zip(_PERCENTILES, self.percentile_lines, strict=True):
            wanted = self.percentiles.isChecked() and main is not None and main.total > 0
            line.setVisible(wanted)
            if wanted and main is not None:
                line.setValue(main.quantile(share))

    def _read(self, at: tuple[float, float] | None) -> None:
        if at is None or not self._shown:
            names = ", ".join(one.name for one in self._shown[:6])
            self.reading.setText(names or "No histogram yet.")
            return
        main = self._shown[0]
        low, high = self.plot.getPlotItem().getViewBox().viewRange()[0]
        width = max((high - low) / _BINS, main.histogram.width)
        histogram = main.histogram
        start = histogram.first + math.floor((at[0] - histogram.first) / width + 0.5) * width
        half = width / 2 if histogram.levels else 0.0
        below = histogram.share_at_or_below(start - half)
        share = histogram.share_at_or_below(start - half + width)
        scale = self._compute.ranges.number_scale()
        level = shown(scale.value(start), 5)
        last = shown(scale.value(start + width), 5)
        of_one = histogram.levels and width == histogram.width
        span = level if of_one else f"{level} – {last}"
        self.reading.setText(
            f"{main.name}: {span} · {round((share - below) * histogram.total)} px · "
            f"{100 * (share - below):.3g} % · {100 * share:.4g} % at or below"
        )

    def showEvent(self, event: object) -> None:
        self.refresh()

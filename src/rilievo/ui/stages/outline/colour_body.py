"""Ranges over several channels, or over hue, saturation and value, each with its histogram."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtWidgets import QComboBox, QPushButton, QWidget

from rilievo.core.image.histogram import Histogram
from rilievo.core.pipeline.colour_histograms import colour_histograms
from rilievo.core.regions.thresholds.colour import ChannelRange, ColourRanges
from rilievo.core.wording.numbers import rounded
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.outline.class_body import ClassBody
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import NumberField, named_row, side_by_side
from rilievo.ui.widgets.small_plot import Line, SmallPlot


@dataclass
class _Row:
    """The controls of one channel."""

    title: QWidget
    lower: NumberField
    upper: NumberField
    plot: SmallPlot


class ColourBody(ClassBody):
    """One histogram a channel, with the ends of its range to drag."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__(session, compute, theme)
        self.space = QComboBox()
        self.space.addItem("channels", "channels")
        self.space.addItem("hue, saturation, value", "hsv")
        self.space.activated.connect(
            lambda _: self.choose_way("colour", space=self.space.currentData())
        )
        self.rows.addWidget(named_row("Ranges of", self.space))
        self.clear = QPushButton("Clear ranges")
        self.clear.setToolTip("Begin anew without any range")
        self.clear.clicked.connect(lambda: self._put(()))
        self.channels: dict[str, _Row] = {}
        self.rows.addWidget(side_by_side(self.clear, stretch=True))
        self._counts: tuple[object, dict[str, Histogram]] | None = None

    @property
    def parameters(self) -> ColourRanges:
        """The parameters of the class in focus."""
        found = self.outline.threshold.parameters
        return found if isinstance(found, ColourRanges) else ColourRanges()

    def _range(self, channel: str) -> ChannelRange:
        known = {one.channel: one for one in self.parameters.ranges}
        return known.get(channel, ChannelRange(channel=channel))

    def _put(self, ranges: tuple[ChannelRange, ...]) -> None:
        kept = [one for one in ranges if (one.lower, one.upper) != (None, None)]
        parameters = {"space": self.parameters.space, "ranges": kept}
        self.choose_way("colour", **parameters)

    def set_end(self, channel: str, end: str, value: float | None) -> None:
        """Set an end of a channel's range; None opens it."""
        others = [one for one in self.parameters.ranges if one.channel != channel]
        changed = self._range(channel).model_copy(update={end: value})
        self._put((*others, changed))

    def refresh(self) -> None:
        if self.outline.threshold.way != "colour":
            return
        parameters = self.parameters
        self.space.setCurrentIndex(self.space.findData(parameters.space))
        sample, entry = self.compute.store.focused, self.session.focus.entry
        if sample is None or entry is None:
            return
        analysis = self.compute.store.analysis(entry.id)
        key = (sample.content, analysis.method.steps, parameters.space)
        if self._counts is not None and self._counts[0] == key:
            self._show(self._counts[1])
            return

        def done(found: dict[str, Histogram]) -> None:
            self._counts = (key, found)
            if self.isVisible():
                self._show(found)

        self.compute.jobs.run(
            "colour counts",
            lambda: colour_histograms(analysis, parameters.space),
            done,
            lambda error: self.refused.emit(str(error)),
        )

    def _show(self, counts: dict[str, Histogram]) -> None:
        for name in [name for name in self.channels if name not in counts]:
            row = self.channels.pop(name)
            for widget in (row.title, row.plot):
                widget.hide()
                widget.deleteLater()
        for name, one in counts.items():
            if name not in self.channels:
                self.channels[name] = self._made(name)
            row, limits = self.channels[name], self._range(name)
            ends = self._ends(name, one)
            row.plot.show_histogram(one, ends)
            low = ends[0] if limits.lower is None else limits.lower
            high = ends[1] if limits.upper is None else limits.upper
            row.plot.show_lines([Line("lower", low), Line("upper", high)])
            row.lower.set_value(limits.lower)
            row.upper.set_value(limits.upper)

    def _made(self, name: str) -> _Row:
        plot = SmallPlot(self.theme, f"Histogram of {name}", 58)
        lower, upper = NumberField(may_be_empty="any"), NumberField(may_be_empty="any")
        for field, end in ((lower, "lower"), (upper, "upper")):
            field.setFixedWidth(scaled(72))
            field.setAccessibleName(f"{name}: {end} end")
            field.entered.connect(lambda v, end=end: self.set_end(name, end, v))
        title = named_row(name.capitalize(), side_by_side(lower, upper), 0)
        plot.moved.connect(lambda end, v: self._drag(name, end, v))
        plot.released.connect(lambda end: self._release(name, end))
        self.rows.addWidget(title)
        self.rows.addWidget(plot)
        return _Row(title, lower, upper, plot)

    def _drag(self, channel: str, end: str, value: float) -> None:
        """Move the line at once; the regions follow when it is let go."""
        row = self.channels[channel]
        lines = [
            Line(line.key, value if line.key == end else line.value) for line in row.plot.lines
        ]
        row.plot.show_lines(lines)

    def _release(self, channel: str, end: str) -> None:
        row = self.channels[channel]
        value = next(line.value for line in row.plot.lines if line.key == end)
        known = self._counts[1][channel] if self._counts is not None else Histogram.nothing()
        low, high = self._ends(channel, known)
        self.set_end(channel, end, rounded(value, high - low))

    @staticmethod
    def _ends(channel: str, known: Histogram) -> tuple[float, float]:
        """What a channel's plot reaches over; hue and saturation are the same everywhere."""
        fixed = {"hue": (0.0, 360.0), "saturation": (0.0, 1.0)}.get(channel)
        return fixed or (known.lowest, max(known.highest, known.lowest + known.width))

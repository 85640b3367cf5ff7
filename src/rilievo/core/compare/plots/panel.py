"""Where one comparison is drawn: axes, styles, and dots put down in one go.

Small dots are regions, large ones samples, everywhere.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.comparison import Comparison
from rilievo.core.compare.groups import GroupStatistics
from rilievo.core.compare.observations import SamplePoint
from rilievo.core.compare.plots.figure_look import FigureLook
from rilievo.core.compare.plots.group_style import GroupStyle, group_style
from rilievo.core.compare.question import BY_GROUP
from rilievo.core.image.histogram import Histogram

if TYPE_CHECKING:
    from matplotlib.axes import Axes

HALF_WIDTH = 0.3
_INTERVAL_AT = 0.39
_MARKER_AREA = 62.0
# More dots than this are drawn as a picture within the figure, which stays small.
_MANY_DOTS = 2000
LINES = ("solid", "dashed", "dotted", "dashdot")


@dataclass(frozen=True, eq=False)
class PlotInputs:
    """What some plots show beside the numbers, by sample.

    histograms : of the compared channel. pictures : small ones, shape (height, width, 3), uint8.
    groups : of the samples in the study.
    """

    histograms: Mapping[str, Histogram] = field(default_factory=dict)
    pictures: Mapping[str, NDArray[np.uint8]] = field(default_factory=dict)
    groups: Mapping[str, str] = field(default_factory=dict)


NO_PLOT_INPUTS = PlotInputs()


@dataclass(frozen=True)
class DotPosition:
    """A dot in data units; region 0 is a sample."""

    x: float
    y: float
    sample: str
    region: int
    value: float


@dataclass(frozen=True, eq=False)
class Panel:
    """Where one comparison is drawn.

    below : axes of the residuals. inches : width and height inside.
    """

    axes: Axes
    below: Axes | None
    comparison: Comparison
    look: FigureLook
    inches: tuple[float, float]
    inputs: PlotInputs

    def style(self, category: str, series: str = "") -> GroupStyle:
        """Return the style of a category, or of a series where categories are an axis."""
        comparison = self.comparison
        if comparison.axis:
            names = comparison.colours if series in comparison.colours else comparison.series
            return group_style(names, series)
        if comparison.question.by == BY_GROUP and category in comparison.colours:
            return group_style(comparison.colours, category)
        return group_style(comparison.groups, category)

    def curve_style(self, group: str) -> GroupStyle:
        """Return the style of the curves of a group, or of a stack where there are no groups."""
        comparison = self.comparison
        if group in comparison.colours:
            return group_style(comparison.colours, group)
        return group_style(tuple(dict.fromkeys(c.group for c in comparison.curves)), group)

    def mark(self, x: float, point: SamplePoint) -> DotPosition:
        """Draw a sample; ring it where it stands apart."""
        value = point.value
        style = self.style(point.category, self.comparison.series_of(point))
        self._large.setdefault(style, []).append((x, value))
        if (point.sample, point.category, 0) in self._apart:
            self._rings[0].append((x, value))
        return DotPosition(x, value, point.sample, 0, value)

    def small(self, xs: NDArray[np.float64], point: SamplePoint) -> list[DotPosition]:
        """Draw the regions of a sample."""
        style = self.style(point.category, self.comparison.series_of(point))
        positions = list(zip(xs.tolist(), point.values.tolist(), strict=True))
        self._small.setdefault(style, []).extend(positions)
        if point.errors is not None:
            self._bars.setdefault(style, []).extend(
                ((x, v - error), (x, v + error))
                for (x, v), error in zip(positions, point.errors.tolist(), strict=True)
                if math.isfinite(error)
            )
        ids = point.regions.tolist()
        if self._apart:
            self._rings[1].extend(
                position
                for position, owner, region in zip(positions, point.samples, ids, strict=True)
                if (owner, point.category, region) in self._apart
            )
        return [
            DotPosition(x, v, owner, region, v)
            for (x, v), owner, region in zip(positions, point.samples, ids, strict=True)
        ]

    @cached_property
    def _apart(self) -> frozenset[tuple[str, str, int]]:
        return frozenset((o.sample, o.group, o.region) for o in self.comparison.outliers)

    @cached_property
    def _large(self) -> dict[GroupStyle, list[tuple[float, float]]]:
        return {}

    @cached_property
    def _small(self) -> dict[GroupStyle, list[tuple[float, float]]]:
        return {}

    @cached_property
    def _bars(self) -> dict[GroupStyle, list[tuple[tuple[float, float], tuple[float, float]]]]:
        """Standard errors of regions, as lines."""
        return {}

    @cached_property
    def _rings(self) -> tuple[list[tuple[float, float]], list[tuple[float, float]]]:
        """Where samples, and where regions, stand apart."""
        return [], []

    def flush(self) -> None:
        """Put the dots into the plot: those of a style in one go, which is far quicker.

        To be called before the ends of the axes are asked for.
        """
        from matplotlib.collections import LineCollection  # noqa: PLC0415 (slow to import)

        for style, lines in self._bars.items():
            bars = LineCollection(lines, colors=style.colour, linewidths=0.9, alpha=0.5, zorder=2)
            self.axes.add_collection(bars)
        self._bars.clear()
        count = sum(len(positions) for positions in self._small.values())
        for style, positions in self._small.items():
            xs, ys = zip(*positions, strict=True) if positions else ((), ())
            self.axes.scatter(
                xs, ys, s=14, color=style.colour, alpha=0.38, linewidths=0, zorder=2,
                rasterized=count > _MANY_DOTS,
            )  # fmt: skip
        for style, positions in self._large.items():
            xs, ys = zip(*positions, strict=True)
            area = _MARKER_AREA * (1.35 if style.marker in "^v" else 1.0)
            self.axes.scatter(
                xs, ys, s=area, color=style.colour, marker=style.marker,
                edgecolors=self.look.ground, linewidths=0.8, zorder=5,
            )  # fmt: skip
        for positions, area in zip(self._rings, (150, 34), strict=True):
            if positions:
                xs, ys = zip(*positions, strict=True)
                self.axes.scatter(
                    xs, ys, s=area, facecolors="none", edgecolors=self.look.check,
                    linewidths=1.2, zorder=6,
                )  # fmt: skip
            positions.clear()
        self._small.clear()
        self._large.clear()


def spread(count: int) -> NDArray[np.float64]:
    """Return even offsets in −1 … 1, the same every time (golden-ratio sequence)."""
    return np.asarray((np.arange(count) * 0.618033988749895 % 1.0) * 2 - 1, dtype=np.float64)


def sample_offsets(count: int) -> NDArray[np.float64]:
    """Return where the samples of a group stand beside its middle."""
    if count == 1:
        return np.zeros(1)
    return np.linspace(-HALF_WIDTH * 0.75, HALF_WIDTH * 0.75, count)


def groups_of(panel: Panel) -> Iterator[tuple[int, GroupStatistics, Sequence[SamplePoint]]]:
    """Yield the groups in their order with statistics and values."""
    for position, statistics in enumerate(panel.comparison.statistics):
        yield position, statistics, panel.comparison.points[statistics.group]


def draw_mean(panel: Panel, position: int, statistics: GroupStatistics) -> None:
    """Draw the mean of a group's samples, and its 95 % interval beside them."""
    if not math.isfinite(statistics.mean):
        return
    ink = panel.look.ink
    ends = (position - HALF_WIDTH, position + HALF_WIDTH)
    panel.axes.plot(ends, (statistics.mean,) * 2, color=ink, linewidth=1.6, zorder=4)
    low, high = statistics.interval
    if math.isfinite(low):
        panel.axes.errorbar(
            [position + _INTERVAL_AT],
            [(low + high) / 2],
            yerr=[[(high - low) / 2], [(high - low) / 2]],
            color=ink,
            capsize=3.5,
            capthick=1.4,
            linewidth=1.4,
            fmt="none",
            zorder=4,
        )


def draw_beside(panel: Panel, position: int, points: Sequence[SamplePoint]) -> list[DotPosition]:
    """Draw the values that were put into a box or violin, to be clicked; return them."""
    dots = []
    by_region = panel.comparison.question.unit == "region"
    for offset, point in zip(sample_offsets(len(points)) * 0.5, points, strict=True):
        if by_region:
            dots += panel.small(position + offset + spread(point.values.size) * 0.03, point)
        else:
            dots.append(panel.mark(position + float(offset), point))
    return dots

"""The ways a comparison is drawn, each a function of its axes, listed in `PLOTS`.

Small dots are regions, large ones samples, everywhere.
"""

from __future__ import annotations

import math
import textwrap
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.comparison import Comparison, point_key
from rilievo.core.compare.curve_fits import Fit
from rilievo.core.compare.groups import GroupStatistics, units_of
from rilievo.core.compare.observations import SamplePoint
from rilievo.core.compare.question import BY_GROUP, ShownAs
from rilievo.core.image.histogram import Histogram
from rilievo.core.report.group_style import GroupStyle, group_style
from rilievo.core.report.style import FigureLook

if TYPE_CHECKING:
    from matplotlib.axes import Axes

HALF_WIDTH = 0.3
_INTERVAL_AT = 0.39
_MARKER_AREA = 62.0
# Inches a group needs for its name, and for its numbers in one line below.
_ROOM_FOR_NAME, _ROOM_FOR_LINE = 0.8, 1.4
# More dots than this are drawn as a picture within the figure, which stays small.
_MANY_DOTS = 2000
# Letters of a label that an inch holds.
_LETTERS = 14
_LINES = ("solid", "dashed", "dotted", "dashdot")


@dataclass(frozen=True, eq=False)
class Material:
    """What some plots show beside the numbers, by sample.

    histograms : of the compared channel. pictures : small ones, shape (height, width, 3), uint8.
    groups : of the samples in the study.
    """

    histograms: Mapping[str, Histogram] = field(default_factory=dict)
    pictures: Mapping[str, NDArray[np.uint8]] = field(default_factory=dict)
    groups: Mapping[str, str] = field(default_factory=dict)


NO_MATERIAL = Material()


@dataclass(frozen=True)
class Place:
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
    material: Material

    def style(self, category: str, series: str = "") -> GroupStyle:
        """Return the style of a category, or of a series where categories are an axis."""
        comparison = self.comparison
        if comparison.axis:
            own = comparison.colours if series in comparison.colours else comparison.series
            return group_style(own, series)
        if comparison.question.by == BY_GROUP and category in comparison.colours:
            return group_style(comparison.colours, category)
        return group_style(comparison.groups, category)

    def mark(self, x: float, point: SamplePoint) -> Place:
        """Draw a sample; ring it where it stands apart."""
        value = point.value
        style = self.style(point.category, self.comparison.series_of(point))
        self._large.setdefault(style, []).append((x, value))
        if (point.sample, point.category, 0) in self._apart:
            self._rings[0].append((x, value))
        return Place(x, value, point.sample, 0, value)

    def small(self, xs: NDArray[np.float64], point: SamplePoint) -> list[Place]:
        """Draw the regions of a sample."""
        style = self.style(point.category, self.comparison.series_of(point))
        places = list(zip(xs.tolist(), point.values.tolist(), strict=True))
        self._small.setdefault(style, []).extend(places)
        ids = point.regions.tolist()
        if self._apart:
            self._rings[1].extend(
                place
                for place, region in zip(places, ids, strict=True)
                if (point.sample, point.category, region) in self._apart
            )
        return [
            Place(x, v, point.sample, region, v) for (x, v), region in zip(places, ids, strict=True)
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
    def _rings(self) -> tuple[list[tuple[float, float]], list[tuple[float, float]]]:
        """Where samples, and where regions, stand apart."""
        return [], []

    def flush(self) -> None:
        """Put the dots into the plot: those of a style in one go, which is far quicker.

        To be called before the ends of the axes are asked for.
        """
        count = sum(len(places) for places in self._small.values())
        for style, places in self._small.items():
            xs, ys = zip(*places, strict=True) if places else ((), ())
            self.axes.scatter(
                xs, ys, s=14, color=style.colour, alpha=0.38, linewidths=0, zorder=2,
                rasterized=count > _MANY_DOTS,
            )  # fmt: skip
        for style, places in self._large.items():
            xs, ys = zip(*places, strict=True)
            area = _MARKER_AREA * (1.35 if style.marker in "^v" else 1.0)
            self.axes.scatter(
                xs, ys, s=area, color=style.colour, marker=style.marker,
                edgecolors=self.look.ground, linewidths=0.8, zorder=5,
            )  # fmt: skip
        for places, area in zip(self._rings, (150, 34), strict=True):
            if places:
                xs, ys = zip(*places, strict=True)
                self.axes.scatter(
                    xs, ys, s=area, facecolors="none", edgecolors=self.look.check,
                    linewidths=1.2, zorder=6,
                )  # fmt: skip
            places.clear()
        self._small.clear()
        self._large.clear()


def spread(count: int) -> NDArray[np.float64]:
    """Return even offsets in −1 … 1, the same every time (golden-ratio sequence)."""
    return np.asarray((np.arange(count) * 0.618033988749895 % 1.0) * 2 - 1, dtype=np.float64)


def _sample_places(count: int) -> NDArray[np.float64]:
    if count == 1:
        return np.zeros(1)
    return np.linspace(-HALF_WIDTH * 0.75, HALF_WIDTH * 0.75, count)


def _groups(panel: Panel) -> Iterator[tuple[int, GroupStatistics, Sequence[SamplePoint]]]:
    for place, statistics in enumerate(panel.comparison.statistics):
        yield place, statistics, panel.comparison.points[statistics.group]


def draw_dots(panel: Panel) -> list[Place]:
    """Draw samples over regions, the mean of the samples and its 95 % interval."""
    dots: list[Place] = []
    for place, statistics, points in _groups(panel):
        width = HALF_WIDTH * 0.7 / max(len(points), 1)
        for offset, point in zip(_sample_places(len(points)), points, strict=True):
            dots += panel.small(place + offset + spread(point.values.size) * width, point)
            dots.append(panel.mark(place + float(offset), point))
        _draw_mean(panel, place, statistics)
    _label_groups(panel)
    return dots


def _draw_mean(panel: Panel, place: int, statistics: GroupStatistics) -> None:
    if not math.isfinite(statistics.mean):
        return
    ink = panel.look.ink
    ends = (place - HALF_WIDTH, place + HALF_WIDTH)
    panel.axes.plot(ends, (statistics.mean,) * 2, color=ink, linewidth=1.6, zorder=4)
    low, high = statistics.interval
    if math.isfinite(low):
        panel.axes.errorbar(
            [place + _INTERVAL_AT],
            [(low + high) / 2],
            yerr=[[(high - low) / 2], [(high - low) / 2]],
            color=ink,
            capsize=3.5,
            capthick=1.4,
            linewidth=1.4,
            fmt="none",
            zorder=4,
        )


def draw_box(panel: Panel) -> list[Place]:
    """Draw median, quartiles and the range within 1.5 × their distance, samples beside them."""
    dots = []
    for place, statistics, points in _groups(panel):
        values = units_of(points, panel.comparison.question.unit)
        if values.size:
            style = panel.style(statistics.group)
            panel.axes.boxplot(
                [values],
                positions=[place],
                widths=[HALF_WIDTH * 1.5],
                patch_artist=True,
                showfliers=False,
                boxprops={"facecolor": style.colour + "40", "edgecolor": style.colour},
                medianprops={"color": panel.look.ink, "linewidth": 1.6},
                whiskerprops={"color": style.colour},
                capprops={"color": style.colour},
                manage_ticks=False,
            )
        dots += _beside(panel, place, points)
    _label_groups(panel)
    return dots


def _beside(panel: Panel, place: int, points: Sequence[SamplePoint]) -> list[Place]:
    """The values that were put into a box or violin, to be clicked."""
    dots = []
    by_region = panel.comparison.question.unit == "region"
    for offset, point in zip(_sample_places(len(points)) * 0.5, points, strict=True):
        if by_region:
            dots += panel.small(place + offset + spread(point.values.size) * 0.03, point)
        else:
            dots.append(panel.mark(place + float(offset), point))
    return dots


def draw_violin(panel: Panel) -> list[Place]:
    """Draw the smoothed spread of the values with their median."""
    dots = []
    for place, statistics, points in _groups(panel):
        values = units_of(points, panel.comparison.question.unit)
        style = panel.style(statistics.group)
        if np.unique(values).size > 2:
            drawn = panel.axes.violinplot(
                [values], positions=[place], widths=[HALF_WIDTH * 2], showextrema=False
            )
            bodies: Any = drawn["bodies"]
            for body in bodies:
                body.set_facecolor(style.colour)
                body.set_alpha(0.25)
        if values.size:
            ends = (place - HALF_WIDTH * 0.6, place + HALF_WIDTH * 0.6)
            middle = float(np.median(values))
            panel.axes.plot(ends, (middle, middle), color=panel.look.ink, linewidth=1.6, zorder=4)
        dots += _beside(panel, place, points)
    _label_groups(panel)
    return dots


def draw_cumulative(panel: Panel) -> list[Place]:
    """Draw for each group the share of values at or below each value."""
    dots: list[Place] = []
    for place, statistics, points in _groups(panel):
        style = panel.style(statistics.group)
        if not points:
            continue
        one_a_region = panel.comparison.question.unit == "region"
        values = units_of(points, panel.comparison.question.unit)
        order = np.argsort(values, kind="stable")
        shares = np.arange(1, values.size + 1) / max(values.size, 1)
        panel.axes.step(
            np.concatenate([values[order][:1], values[order]]),
            np.concatenate([[0.0], shares]),
            where="post",
            color=style.colour,
            linestyle=_LINES[place % len(_LINES)],
            linewidth=1.8,
            label=statistics.group,
        )
        names = [(p.sample, 0) for p in points if math.isfinite(p.value)]
        if one_a_region:
            names = [
                (p.sample, int(r))
                for p in points
                for r, v in zip(p.regions, p.values, strict=True)
                if math.isfinite(v)
            ]
        ordered = order.tolist()
        dots += [
            Place(float(values[k]), float(share), names[k][0], names[k][1], float(values[k]))
            for k, share in zip(ordered, shares, strict=True)
        ]
    panel.axes.set_ylim(0, 1.02)
    panel.axes.set_xlabel(panel.comparison.label, color=panel.look.ink, fontsize=9.5)
    panel.axes.set_ylabel("Share of values at or below", color=panel.look.ink, fontsize=9.5)
    _legend(panel)
    return dots


def draw_pairs(panel: Panel) -> list[Place]:
    """Join the values that belong together by lines."""
    dots: list[Place] = []
    lines: dict[str, list[tuple[float, float]]] = {}
    for place, statistics, points in _groups(panel):
        for offset, point in zip(_sample_places(len(points)) * 0.3, points, strict=True):
            at = place + (0.0 if panel.comparison.question.pairs else float(offset))
            dots.append(panel.mark(at, point))
            if point.pair:
                lines.setdefault(point.pair, []).append((at, point.value))
        _draw_mean(panel, place, statistics)
    for line in lines.values():
        panel.axes.plot(*zip(*line, strict=True), color=panel.look.faint, linewidth=1, zorder=3)
    _label_groups(panel)
    return dots


def draw_series(panel: Panel) -> list[Place]:
    """Draw values against a number or a date, with the fitted curves and their residuals."""
    comparison = panel.comparison
    if not comparison.axis:
        # Categories have no places on an axis: they stand side by side.
        return draw_pairs(panel)
    dots: list[Place] = []
    xs = [point.x for point in comparison.all_points]
    reach = (max(xs) - min(xs)) or 1.0
    for point in comparison.all_points:
        dots += panel.small(point.x + spread(point.values.size) * reach * 0.006, point)
        dots.append(panel.mark(point.x, point))
    panel.flush()
    for place, (name, fit) in enumerate(comparison.fits.items()):
        _draw_fit(panel, name, fit, place)
    words = comparison.by_words
    lowest = panel.below if panel.below is not None else panel.axes
    lowest.set_xlabel(words[:1].upper() + words[1:], color=panel.look.ink, fontsize=9.5)
    _label_values(panel)
    _colour_key(panel)
    return dots


def _draw_fit(panel: Panel, name: str, fit: Fit, place: int) -> None:
    colour = panel.style("", name).colour if name else panel.look.ink
    line = _LINES[place % len(_LINES)]
    x = np.linspace(float(fit.x.min()), float(fit.x.max()), 300)
    panel.axes.plot(x, fit.at(x), color=colour, linewidth=1.6, linestyle=line, zorder=4)
    below = panel.below
    if below is None:
        return
    panel.axes.tick_params(labelbottom=False)
    below.axhline(0, color=panel.look.ink, linewidth=1)
    below.scatter(fit.x, fit.residuals, s=16, color=colour, zorder=3)
    below.set_xlim(panel.axes.get_xlim())
    below.set_ylabel("Residual", color=panel.look.faint, fontsize=8.5)
    below.locator_params(axis="y", nbins=3)


def draw_scatter(panel: Panel) -> list[Place]:
    """Draw two quantities against each other, a sample a mark."""
    dots = []
    comparison = panel.comparison
    for point in comparison.all_points:
        x = comparison.other.get(point_key(point), math.nan)
        if math.isfinite(x) and math.isfinite(point.value):
            dots.append(panel.mark(x, point))
    panel.axes.set_xlabel(comparison.other_label, color=panel.look.ink, fontsize=9.5)
    panel.axes.xaxis.set_major_formatter(_tick)
    _label_values(panel)
    _colour_key(panel)
    return dots


def draw_histograms(panel: Panel) -> list[Place]:
    """Draw the histograms of all samples over each other, coloured by group."""
    question, material = panel.comparison.question, panel.material
    known = [h for h in material.histograms.values() if h.total]
    if known:
        low = min(h.quantile(0.001) for h in known)
        high = max(h.quantile(0.999) for h in known)
        edges = np.linspace(low, high if high > low else low + 1, 257)
        for sample, histogram in material.histograms.items():
            if not histogram.total:
                continue
            style = group_style(panel.comparison.colours, material.groups.get(sample, ""))
            counts = np.histogram(histogram.values, edges, weights=histogram.counts)[0]
            share = counts / histogram.total
            below = float(histogram.counts[histogram.values < edges[0]].sum()) / histogram.total
            height = below + np.cumsum(share) if question.cumulative else share
            panel.axes.plot(
                (edges[:-1] + edges[1:]) / 2, height, color=style.colour, linewidth=1, alpha=0.8
            )
    what = "Share of pixels at or below" if question.cumulative else "Share of pixels"
    if question.cumulative:
        panel.axes.set_ylim(0, 1.02)
    else:
        # The background has nearly all pixels; what is measured would lie on the axis.
        panel.axes.set_yscale("log")
        panel.axes.yaxis.set_major_formatter(_tick)
    panel.axes.set_ylabel(what, color=panel.look.ink, fontsize=9.5)
    label = f"{panel.comparison.channel} ({panel.comparison.intensity})"
    panel.axes.set_xlabel(label, color=panel.look.ink, fontsize=9.5)
    panel.axes.xaxis.set_major_formatter(_tick)
    _colour_key(panel)
    return []


PLOTS: dict[ShownAs, Callable[[Panel], list[Place]]] = {
    "dots": draw_dots,
    "box": draw_box,
    "violin": draw_violin,
    "cumulative": draw_cumulative,
    "pairs": draw_pairs,
    "series": draw_series,
    "scatter": draw_scatter,
    "histograms": draw_histograms,
}


def _tick(value: float, _: float) -> str:
    return f"{value:,.6g}".replace(",", "\u2009").replace("-", "−")


def _legend(panel: Panel) -> None:
    panel.axes.legend(frameon=False, fontsize=9, labelcolor=panel.look.ink)


def _colour_key(panel: Panel) -> None:
    """The study's groups with their colours and marks."""
    shown = [name for name in panel.comparison.series if name]
    if len(shown) < 2:
        return
    styles = [panel.style(name, name) for name in shown]
    handles = [
        panel.axes.scatter([], [], s=50, color=style.colour, marker=style.marker, label=group)
        for group, style in zip(shown, styles, strict=True)
    ]
    panel.axes.legend(handles=handles, frameon=False, fontsize=9, labelcolor=panel.look.ink)


def _label_values(panel: Panel) -> None:
    """Numbers and title of the values on the left; 0 where nothing is below."""
    axes, comparison = panel.axes, panel.comparison
    panel.flush()
    axes.margins(y=0.08)
    values = [p.values[np.isfinite(p.values)] for p in comparison.all_points]
    known = np.concatenate(values) if values else np.zeros(0)
    if known.size and known.min() >= 0 and comparison.question.shown_as != "scatter":
        axes.set_ylim(0, axes.get_ylim()[1])
    elif known.size and np.ptp(known) == 0:
        axes.set_ylim(known[0] - 1, known[0] + 1)
    axes.set_ylabel(
        _wrapped(comparison.label, panel.inches[1]), color=panel.look.ink, fontsize=9.5, labelpad=10
    )
    axes.yaxis.set_major_formatter(_tick)


def _wrapped(label: str, inches: float) -> str:
    """A label in lines that fit beside an axis."""
    return "\n".join(textwrap.wrap(label, max(round(_LETTERS * inches), 18)))


def _group_label(statistics: GroupStatistics, region_class: str, *, narrow: bool) -> str:
    plural = "s" if statistics.regions != 1 else ""
    samples = f"{statistics.samples} sample{'s' if statistics.samples != 1 else ''}"
    between = "\n" if narrow else " · "
    return f"{samples}{between}{statistics.regions} {region_class}{plural}"


def _label_groups(panel: Panel) -> None:
    """Names of the groups below, with their numbers where there is room."""
    axes, comparison = panel.axes, panel.comparison
    axes.set_xlim(-0.6, max(len(comparison.groups), 1) - 0.4)
    _label_values(panel)
    axes.set_xticks(range(len(comparison.groups)), comparison.groups)
    room = panel.inches[0] / max(len(comparison.groups), 1)
    crowded = room < _ROOM_FOR_NAME
    for label in axes.get_xticklabels():
        label.set_fontsize(9 if crowded else 10)
        label.set_rotation(20 if crowded else 0)
        label.set_horizontalalignment("right" if crowded else "center")
        label.set_fontweight("bold")
        label.set_color(panel.look.ink)
    if crowded:
        return
    for place, statistics in enumerate(comparison.statistics):
        axes.annotate(
            _group_label(statistics, comparison.region_class, narrow=room < _ROOM_FOR_LINE),
            (place, 0),
            xycoords=("data", "axes fraction"),
            xytext=(0, -24),
            textcoords="offset points",
            ha="center",
            va="top",
            fontsize=8.5,
            color=panel.look.faint,
        )

"""Values against a number or a date, with fitted curves and residuals."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.curve_fits import Fit
from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import draw_colour_key, label_values, tick_text
from rilievo.core.compare.plots.pairs import draw_pairs
from rilievo.core.compare.plots.panel import LINES, DotPosition, Panel, spread
from rilievo.core.compare.question import OF_REGION, OF_SAMPLE, Question
from rilievo.core.compare.series_curves import MeanCurve

# More curves than this are drawn thin and as a picture; so many fits are drawn at most.
_MANY_CURVES, _MOST_FITS = 40, 12
# Up to so many doses each has its number on the axis.
_MOST_DOSES = 10


def _hint(question: Question) -> str:
    if question.by.startswith((OF_SAMPLE, OF_REGION)):
        return ""
    return "A series needs numbers or dates: choose such an attribute above, under By."


@plot(
    "series",
    title="Series",
    explanation="Values against a number or a date, with mean, interval and fitted curve",
    options=("curves", "fit"),
    residuals=True,
    hint=_hint,
    order=60,
)
def draw_series(panel: Panel) -> list[DotPosition]:
    """Draw values against a number or a date, with the fitted curves and their residuals."""
    comparison = panel.comparison
    if not comparison.axis:
        # Categories have no places on an axis: they stand side by side.
        return draw_pairs(panel)
    if comparison.question.curves != "group" and comparison.curves:
        dots = _draw_curves(panel)
    else:
        dots = _draw_points(panel)
    panel.flush()
    for mean in comparison.means:
        _draw_mean(panel, mean)
    styles = {curve.name: panel.curve_style(curve.group).colour for curve in comparison.curves}
    for position, (name, fit) in enumerate(list(comparison.fits.items())[:_MOST_FITS]):
        colour = styles.get(name) or (panel.style("", name).colour if name else panel.look.ink)
        _draw_fit(panel, colour, fit, position)
    if comparison.question.fit == "dose":
        _space_doses(panel)
    words = comparison.by_words
    lowest = panel.below if panel.below is not None else panel.axes
    lowest.set_xlabel(words[:1].upper() + words[1:], color=panel.look.ink, fontsize=9.5)
    label_values(panel)
    draw_colour_key(panel)
    return dots


def _space_doses(panel: Panel) -> None:
    """Space doses by their ratio, with 0 beside the lowest."""
    every = sorted({point.x for point in panel.comparison.all_points if point.x >= 0})
    doses = [dose for dose in every if dose > 0]
    if not doses:
        return
    for axes in (panel.axes, panel.below):
        if axes is not None:
            axes.set_xscale("symlog", linthresh=doses[0], linscale=0.4)
            axes.set_xlim(-doses[0] / 4, doses[-1] * 1.3)
            if len(every) <= _MOST_DOSES:
                axes.set_xticks(every)
            axes.minorticks_off()
            axes.xaxis.set_major_formatter(tick_text)


def _draw_points(panel: Panel) -> list[DotPosition]:
    """A sample a mark, its regions small dots."""
    comparison = panel.comparison
    dots: list[DotPosition] = []
    xs = [point.x for point in comparison.all_points]
    reach = (max(xs) - min(xs)) or 1.0
    for point in comparison.all_points:
        dots += panel.small(point.x + spread(point.values.size) * reach * 0.006, point)
        dots.append(panel.mark(point.x, point))
    return dots


def _draw_curves(panel: Panel) -> list[DotPosition]:
    """A thin line through each curve; regions that touched another, or came apart, are ringed."""
    from matplotlib.collections import LineCollection  # noqa: PLC0415 (slow to import)

    curves = panel.comparison.curves
    lines: dict[str, list[NDArray[np.float64]]] = {}
    dots: list[DotPosition] = []
    rings: list[tuple[float, float]] = []
    for curve in curves:
        colour = panel.curve_style(curve.group).colour
        lines.setdefault(colour, []).append(np.column_stack([curve.x, curve.y]))
        for point in curve.points:
            region = int(point.regions[0]) if point.regions.size == 1 else 0
            dots.append(DotPosition(point.x, point.value, point.sample, region, point.value))
            if point.remark:
                rings.append((point.x, point.value))
    many = len(curves) > _MANY_CURVES
    for colour, paths in lines.items():
        some = LineCollection(
            paths,
            colors=colour,
            linewidths=0.7 if many else 1.1,
            alpha=max(0.08, 8 / len(curves)) if many else 0.75,
            zorder=2,
            rasterized=many,
        )
        panel.axes.add_collection(some)
        if not many:
            xs, ys = np.concatenate(paths).T
            panel.axes.scatter(xs, ys, s=7, color=colour, linewidths=0, zorder=3)
    panel.axes.autoscale_view()
    if rings:
        xs, ys = np.array(rings).T
        panel.axes.scatter(
            xs, ys, s=46, facecolors="none", edgecolors=panel.look.check, linewidths=1.3, zorder=6
        )
    return dots


def _draw_mean(panel: Panel, mean: MeanCurve) -> None:
    """The mean of a group's units, with its 95 % interval as a band."""
    colour = panel.curve_style(mean.group).colour
    axes, several = panel.axes, np.isfinite(mean.low)
    axes.fill_between(
        mean.x, mean.low, mean.high, where=several.tolist(), color=colour, alpha=0.18, linewidth=0,
        zorder=1,
    )  # fmt: skip
    axes.plot(mean.x, mean.mean, color=colour, linewidth=2.2, zorder=4)


def _draw_fit(panel: Panel, colour: str, fit: Fit, position: int) -> None:
    line = LINES[position % len(LINES)]
    x = np.linspace(float(fit.x.min()), float(fit.x.max()), 300)
    if fit.kind == "dose":
        doses = fit.x[fit.x > 0]
        x = np.append(0.0, np.geomspace(float(doses.min()) / 10, float(doses.max()), 300))
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

"""Values against a number or a date, with fitted curves and residuals."""

from __future__ import annotations

import numpy as np

from rilievo.core.compare.curve_fits import Fit
from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import draw_colour_key, label_values
from rilievo.core.compare.plots.pairs import draw_pairs
from rilievo.core.compare.plots.panel import LINES, DotPosition, Panel, spread
from rilievo.core.compare.question import OF_REGION, OF_SAMPLE, Question


def _hint(question: Question) -> str:
    if question.by.startswith((OF_SAMPLE, OF_REGION)):
        return ""
    return "A series needs numbers or dates: choose such an attribute above, under By."


@plot(
    "series",
    title="Series",
    explanation="Values against a number or a date, with a fitted curve",
    options=("fit",),
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
    dots: list[DotPosition] = []
    xs = [point.x for point in comparison.all_points]
    reach = (max(xs) - min(xs)) or 1.0
    for point in comparison.all_points:
        dots += panel.small(point.x + spread(point.values.size) * reach * 0.006, point)
        dots.append(panel.mark(point.x, point))
    panel.flush()
    for position, (name, fit) in enumerate(comparison.fits.items()):
        _draw_fit(panel, name, fit, position)
    words = comparison.by_words
    lowest = panel.below if panel.below is not None else panel.axes
    lowest.set_xlabel(words[:1].upper() + words[1:], color=panel.look.ink, fontsize=9.5)
    label_values(panel)
    draw_colour_key(panel)
    return dots


def _draw_fit(panel: Panel, name: str, fit: Fit, position: int) -> None:
    colour = panel.style("", name).colour if name else panel.look.ink
    line = LINES[position % len(LINES)]
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

"""Two quantities against each other."""

from __future__ import annotations

import math

from rilievo.core.compare.comparison import point_key
from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import draw_colour_key, label_values, tick_text
from rilievo.core.compare.plots.panel import DotPosition, Panel


@plot(
    "scatter",
    title="Scatter",
    explanation="Two quantities against each other, with their correlation",
    options=("other_quantity", "other_channel"),
    order=70,
)
def draw_scatter(panel: Panel) -> list[DotPosition]:
    """Draw two quantities against each other, a sample a mark."""
    dots = []
    comparison = panel.comparison
    for point in comparison.all_points:
        x = comparison.other.get(point_key(point), math.nan)
        if math.isfinite(x) and math.isfinite(point.value):
            dots.append(panel.mark(x, point))
    panel.axes.set_xlabel(comparison.other_label, color=panel.look.ink, fontsize=9.5)
    panel.axes.xaxis.set_major_formatter(tick_text)
    label_values(panel, from_zero=False)
    draw_colour_key(panel)
    return dots

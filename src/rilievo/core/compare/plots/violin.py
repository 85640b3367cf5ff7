"""The smoothed spread of the values."""

from __future__ import annotations

from typing import Any

import numpy as np

from rilievo.core.compare.groups import units_of
from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import label_groups
from rilievo.core.compare.plots.panel import (
    HALF_WIDTH,
    DotPosition,
    Panel,
    draw_beside,
    groups_of,
)


@plot(
    "violin",
    title="Violin",
    explanation="How the values are spread, smoothed",
    order=30,
)
def draw_violin(panel: Panel) -> list[DotPosition]:
    """Draw the smoothed spread of the values with their median."""
    dots = []
    for position, statistics, points in groups_of(panel):
        values = units_of(points, panel.comparison.question.unit)
        style = panel.style(statistics.group)
        if np.unique(values).size > 2:
            drawn = panel.axes.violinplot(
                [values], positions=[position], widths=[HALF_WIDTH * 2], showextrema=False
            )
            bodies: Any = drawn["bodies"]
            for body in bodies:
                body.set_facecolor(style.colour)
                body.set_alpha(0.25)
        if values.size:
            ends = (position - HALF_WIDTH * 0.6, position + HALF_WIDTH * 0.6)
            middle = float(np.median(values))
            panel.axes.plot(ends, (middle, middle), color=panel.look.ink, linewidth=1.6, zorder=4)
        dots += draw_beside(panel, position, points)
    label_groups(panel)
    return dots

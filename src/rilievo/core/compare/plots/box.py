"""Boxes: median, quartiles, range."""

from __future__ import annotations

from rilievo.core.compare.groups import units_of
from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import label_groups
from rilievo.core.compare.plots.panel import HALF_WIDTH, DotPosition, Panel, draw_beside, groups_of


@plot(
    "box",
    title="Box",
    explanation="Median, quartiles and the range within 1.5 × their distance",
    order=20,
)
def draw_box(panel: Panel) -> list[DotPosition]:
    """Draw median, quartiles and the range within 1.5 × their distance, samples beside them."""
    dots = []
    for position, statistics, points in groups_of(panel):
        values = units_of(points, panel.comparison.question.unit)
        if values.size:
            style = panel.style(statistics.group)
            panel.axes.boxplot(
                [values],
                positions=[position],
                widths=[HALF_WIDTH * 1.5],
                patch_artist=True,
                showfliers=False,
                boxprops={"facecolor": style.colour + "40", "edgecolor": style.colour},
                medianprops={"color": panel.look.ink, "linewidth": 1.6},
                whiskerprops={"color": style.colour},
                capprops={"color": style.colour},
                manage_ticks=False,
            )
        dots += draw_beside(panel, position, points)
    label_groups(panel)
    return dots

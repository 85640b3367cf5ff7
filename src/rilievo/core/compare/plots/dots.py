"""Samples over their regions, with mean and interval."""

from __future__ import annotations

from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import label_groups
from rilievo.core.compare.plots.panel import (
    HALF_WIDTH,
    DotPosition,
    Panel,
    draw_mean,
    groups_of,
    sample_offsets,
    spread,
)


@plot(
    "dots",
    title="Dots",
    explanation="Samples as large dots over regions as small ones, mean and 95 % interval",
    order=10,
)
def draw_dots(panel: Panel) -> list[DotPosition]:
    """Draw samples over regions, the mean of the samples and its 95 % interval."""
    dots: list[DotPosition] = []
    for position, statistics, points in groups_of(panel):
        width = HALF_WIDTH * 0.7 / max(len(points), 1)
        for offset, point in zip(sample_offsets(len(points)), points, strict=True):
            dots += panel.small(position + offset + spread(point.values.size) * width, point)
            dots.append(panel.mark(position + float(offset), point))
        draw_mean(panel, position, statistics)
    label_groups(panel)
    return dots

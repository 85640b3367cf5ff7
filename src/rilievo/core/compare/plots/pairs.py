"""Values that belong together, joined by lines."""

from __future__ import annotations

from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import label_groups
from rilievo.core.compare.plots.panel import (
    DotPosition,
    Panel,
    draw_mean,
    groups_of,
    sample_offsets,
)
from rilievo.core.compare.question import Question


def _hint(question: Question) -> str:
    if question.pairs:
        return ""
    return "Choose above what is paired by: the sample, the replicate, an attribute."


@plot(
    "pairs",
    title="Pairs",
    explanation="A line joins the values that belong together",
    hint=_hint,
    order=50,
)
def draw_pairs(panel: Panel) -> list[DotPosition]:
    """Join the values that belong together by lines."""
    dots: list[DotPosition] = []
    lines: dict[str, list[tuple[float, float]]] = {}
    for position, statistics, points in groups_of(panel):
        for offset, point in zip(sample_offsets(len(points)) * 0.3, points, strict=True):
            at = position + (0.0 if panel.comparison.question.pairs else float(offset))
            dots.append(panel.mark(at, point))
            if point.pair:
                lines.setdefault(point.pair, []).append((at, point.value))
        draw_mean(panel, position, statistics)
    for line in lines.values():
        panel.axes.plot(*zip(*line, strict=True), color=panel.look.faint, linewidth=1, zorder=3)
    label_groups(panel)
    return dots

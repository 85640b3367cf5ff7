"""Where the variation sits, level by level, and how sure a mean of a group becomes."""

from __future__ import annotations

import math

from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.compare.plots.labels import tick_text
from rilievo.core.compare.plots.panel import DotPosition, Panel
from rilievo.core.compare.question import Question, several
from rilievo.core.compare.variance_components import error_of_mean


def _hint(question: Question) -> str:
    if question.design.levels:
        return ""
    return "Choose under Design what samples lie in, such as a dish and an animal."


@plot(
    "variation",
    title="Variation",
    explanation="How much animals, dishes, samples and regions differ, and what more would give",
    options=("costs",),
    hint=_hint,
    order=120,
)
def draw_variation(panel: Panel) -> list[DotPosition]:
    """Draw the standard deviation of each level, its share, and what twice as many would give."""
    comparison, axes, look = panel.comparison, panel.axes, panel.look
    parts = comparison.variation
    if not parts:
        axes.set_axis_off()
        axes.text(0.5, 0.5, comparison.no_variation, ha="center", va="center", wrap=True,
                  transform=axes.transAxes, color=look.faint, fontsize=10)  # fmt: skip
        return []
    total = sum(max(component.variance, 0.0) for component in parts)
    now = [component.each for component in parts]
    before = error_of_mean(parts, now)
    spreads = [math.sqrt(max(component.variance, 0.0)) for component in parts]
    most = max(spreads)
    for position, (component, spread) in enumerate(zip(parts, spreads, strict=True)):
        y = -position
        axes.barh(y, spread, height=0.5, color=group_style(("",), "").colour, alpha=0.85, zorder=2)
        twice = [*now[:position], now[position] * 2, *now[position + 1 :]]
        gain = 1 - math.sqrt(error_of_mean(parts, twice) / before) if before > 0 else 0.0
        share = 100 * max(component.variance, 0.0) / total
        axes.text(
            spread + most * 0.02, y,
            f"{share:.0f} %\ntwice as many: error of\na mean −{100 * gain:.0f} %",
            va="center", ha="left", color=look.ink, fontsize=8.5,
        )  # fmt: skip
    names = [f"{several(component.name)}\n{component.count} in all" for component in parts]
    axes.set_yticks([-k for k in range(len(parts))], names, fontsize=9.5)
    axes.set_xlim(0, most * 1.7)
    axes.set_ylim(-len(parts) + 0.4, 0.6)
    unit = comparison.column.unit_text(comparison.unit, comparison.intensity)
    words = f"Standard deviation{f' ({unit})' if unit and not comparison.is_ratio else ''}"
    axes.set_xlabel(words, color=look.ink, fontsize=9.5)
    axes.grid(visible=False, axis="y")
    axes.xaxis.set_major_formatter(tick_text)
    return []

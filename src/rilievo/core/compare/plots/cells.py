"""Means of the groups at each level of a second factor, from the model of the design."""

from __future__ import annotations

from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import draw_legend, label_values
from rilievo.core.compare.plots.panel import DotPosition, Panel, sample_offsets
from rilievo.core.compare.question import Question


def _hint(question: Question) -> str:
    if question.design.factor:
        return ""
    return "Choose a second factor under Design, such as the day."


@plot(
    "cells",
    title="Factors",
    explanation="Means of the groups at each level of the second factor, with 95 % intervals",
    hint=_hint,
    order=110,
)
def draw_cells(panel: Panel) -> list[DotPosition]:
    """Draw a line a group over the levels of the second factor, with the values behind it."""
    comparison, axes = panel.comparison, panel.axes
    design = comparison.design
    levels = design.factor_levels if design is not None else ()
    if design is None or not levels:
        axes.set_axis_off()
        axes.text(0.5, 0.5, _hint(comparison.question), ha="center", va="center",
                  transform=axes.transAxes, color=panel.look.faint, fontsize=10)  # fmt: skip
        return []
    dots: list[DotPosition] = []
    groups = comparison.groups
    for index, group in enumerate(groups):
        shift = (index - (len(groups) - 1) / 2) * 0.5 / len(groups)
        for at, level in enumerate(levels):
            cell_points = [p for p in comparison.points[group] if p.terms and p.terms[0] == level]
            for offset, point in zip(
                sample_offsets(len(cell_points)) * 0.25, cell_points, strict=True
            ):
                dots.append(panel.mark(at + shift + float(offset), point))
        means = [
            cell_mean for cell_mean in design.means if cell_mean.group == group and cell_mean.level
        ]
        if not means:
            continue
        style = panel.style(group)
        middle = [cell_mean.mean for cell_mean in means]
        ends = [[m.mean - m.interval[0] for m in means], [m.interval[1] - m.mean for m in means]]
        axes.errorbar(
            [levels.index(cell_mean.level) + shift for cell_mean in means], middle, yerr=ends,
            color=style.colour, marker=style.marker, markersize=0, capsize=4, linewidth=1.8,
            zorder=4, label=group,
        )  # fmt: skip
    label_values(panel)
    axes.set_xlim(-0.6, len(levels) - 0.4)
    axes.set_xticks(range(len(levels)), levels)
    axes.set_xlabel(
        design.factor[:1].upper() + design.factor[1:], color=panel.look.ink, fontsize=9.5
    )
    draw_legend(panel)
    return dots

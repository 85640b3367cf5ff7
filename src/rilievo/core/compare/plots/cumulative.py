"""The share of values at or below each value."""

from __future__ import annotations

import math

import numpy as np

from rilievo.core.compare.groups import units_of
from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.labels import draw_legend
from rilievo.core.compare.plots.panel import LINES, DotPosition, Panel, groups_of


@plot(
    "cumulative",
    title="Cumulative",
    explanation="The share of values at or below each value",
    order=40,
)
def draw_cumulative(panel: Panel) -> list[DotPosition]:
    """Draw for each group the share of values at or below each value."""
    dots: list[DotPosition] = []
    for position, statistics, points in groups_of(panel):
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
            linestyle=LINES[position % len(LINES)],
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
            DotPosition(float(values[k]), float(share), names[k][0], names[k][1], float(values[k]))
            for k, share in zip(ordered, shares, strict=True)
        ]
    panel.axes.set_ylim(0, 1.02)
    panel.axes.set_xlabel(panel.comparison.label, color=panel.look.ink, fontsize=9.5)
    panel.axes.set_ylabel("Share of values at or below", color=panel.look.ink, fontsize=9.5)
    draw_legend(panel)
    return dots

"""The histograms of all samples over each other."""

from __future__ import annotations

import numpy as np

from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.compare.plots.labels import draw_colour_key, tick_text
from rilievo.core.compare.plots.panel import DotPosition, Panel


@plot(
    "histograms",
    title="Histograms",
    explanation="The histograms of all samples in one plot",
    inputs=("histograms",),
    options=("cumulative",),
    order=80,
)
def draw_histograms(panel: Panel) -> list[DotPosition]:
    """Draw the histograms of all samples over each other, coloured by group."""
    question, inputs = panel.comparison.question, panel.inputs
    filled = [h for h in inputs.histograms.values() if h.total]
    if filled:
        low = min(h.quantile(0.001) for h in filled)
        high = max(h.quantile(0.999) for h in filled)
        edges = np.linspace(low, high if high > low else low + 1, 257)
        for sample, histogram in inputs.histograms.items():
            if not histogram.total:
                continue
            style = group_style(panel.comparison.colours, inputs.groups.get(sample, ""))
            counts = np.histogram(histogram.values, edges, weights=histogram.counts)[0]
            share = counts / histogram.total
            below = float(histogram.counts[histogram.values < edges[0]].sum()) / histogram.total
            height = below + np.cumsum(share) if question.cumulative else share
            panel.axes.plot(
                (edges[:-1] + edges[1:]) / 2, height, color=style.colour, linewidth=1, alpha=0.8
            )
    what = "Share of pixels at or below" if question.cumulative else "Share of pixels"
    if question.cumulative:
        panel.axes.set_ylim(0, 1.02)
    else:
        # The background has nearly all pixels; what is measured would lie on the axis.
        panel.axes.set_yscale("log")
        panel.axes.yaxis.set_major_formatter(tick_text)
    panel.axes.set_ylabel(what, color=panel.look.ink, fontsize=9.5)
    label = f"{panel.comparison.channel} ({panel.comparison.intensity})"
    panel.axes.set_xlabel(label, color=panel.look.ink, fontsize=9.5)
    panel.axes.xaxis.set_major_formatter(tick_text)
    draw_colour_key(panel)
    return []

"""Small pictures of all samples by group, as a figure."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rilievo.core.compare.comparison import Comparison
from rilievo.core.compare.plot_kind import plot
from rilievo.core.compare.plots.figure_look import FigureLook
from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.compare.plots.panel import DotPosition, PlotInputs

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


@plot(
    "pictures",
    title="Pictures",
    explanation="Small pictures by group, all shown in the same way",
    inputs=("pictures",),
    whole_figure=True,
    order=90,
)
def draw_pictures(
    figure: Figure, comparison: Comparison, look: FigureLook, inputs: PlotInputs
) -> tuple[Axes, list[DotPosition]]:
    """Draw small pictures by group, a row or more a group; return axes over all, and positions."""
    width, height = figure.get_size_inches()
    whole = figure.add_axes((0, 0, 1, 1))
    whole.set_axis_off()
    whole.set_xlim(0, width)
    whole.set_ylim(0, height)
    rows: list[tuple[str, list[str]]] = []
    for group in dict.fromkeys(inputs.groups.get(name, "") for name in inputs.pictures):
        group_names = [n for n in inputs.pictures if inputs.groups.get(n, "") == group]
        rows.append((group, group_names))
    if not rows:
        return whole, []
    left = 1.15
    most = max(len(group_names) for _, group_names in rows)
    # As many in a line as make the pictures largest.
    across = max(range(1, most + 1), key=lambda n: _side(rows, n, width - left, height))
    side = _side(rows, across, width - left, height)
    positions, top = [], height - 0.1
    for group, group_names in rows:
        style = group_style(comparison.colours, group)
        whole.text(0.1, top - 0.2, group or "no group", fontsize=9.5, weight="bold", va="top",
                   color=look.ink)  # fmt: skip
        whole.scatter([0.17], [top - 0.55], s=50, color=style.colour, marker=style.marker)
        for k, name in enumerate(group_names):
            x = left + (k % across) * (side + 0.08)
            y = top - (k // across + 1) * (side + 0.24)
            picture = inputs.pictures[name]
            tall = picture.shape[0] / picture.shape[1]
            wide = side if tall <= 1 else side / tall
            axes = figure.add_axes(
                (x / width, (y + 0.2 + side - wide * tall) / height, wide / width,
                 wide * tall / height)
            )  # fmt: skip
            axes.imshow(picture, interpolation="nearest", aspect="auto")
            axes.set_axis_off()
            whole.text(x, y + 0.16, name, fontsize=7.5, color=look.faint, va="top")
            positions.append(DotPosition(x + side / 2, y + 0.2 + side / 2, name, 0, math.nan))
        top -= -(-len(group_names) // across) * (side + 0.24) + 0.1
    return whole, positions


def _side(rows: Sequence[tuple[str, list[str]]], across: int, width: float, height: float) -> float:
    lines = sum(-(-len(group_names) // across) for _, group_names in rows)
    tall = (height - 0.2 - 0.1 * len(rows)) / lines - 0.24
    return max(min(width / across - 0.08, tall), 0.05)

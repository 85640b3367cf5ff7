"""Names and numbers along the axes, and the key of the groups."""

from __future__ import annotations

import textwrap

import numpy as np

from rilievo.core.compare.comparison import Comparison
from rilievo.core.compare.groups import GroupStatistics
from rilievo.core.compare.plots.panel import Panel
from rilievo.core.compare.question import several

# Inches a group needs for its name, and for its numbers in one line below.
_ROOM_FOR_NAME, _ROOM_FOR_LINE = 0.8, 1.4
# Stacks without groups that the key names.
_MOST_NAMES = 8
# Letters of a label that an inch holds.
_LETTERS = 14


def tick_text(value: float, _: float) -> str:
    """Return a number as it stands beside an axis."""
    return f"{value:,.6g}".replace(",", "\u2009").replace("-", "−")


def draw_legend(panel: Panel) -> None:
    """Draw the key of the lines that have a label."""
    panel.axes.legend(frameon=False, fontsize=9, labelcolor=panel.look.ink)


def draw_colour_key(panel: Panel) -> None:
    """Draw the key of the study's groups with their colours and marks."""
    comparison = panel.comparison
    shown = [name for name in comparison.series if name]
    styles = [panel.style(name, name) for name in shown]
    if len(shown) < 2 and comparison.question.curves != "group":
        shown = list(dict.fromkeys(curve.group for curve in comparison.curves))[:_MOST_NAMES]
        styles = [panel.curve_style(name) for name in shown]
    if len(shown) < 2:
        return
    handles = [
        panel.axes.scatter([], [], s=50, color=style.colour, marker=style.marker, label=group)
        for group, style in zip(shown, styles, strict=True)
    ]
    panel.axes.legend(handles=handles, frameon=False, fontsize=9, labelcolor=panel.look.ink)


def label_values(panel: Panel, *, from_zero: bool = True) -> None:
    """Put numbers and title of the values on the left.

    from_zero : begin at 0 where no value is below.
    """
    axes, comparison = panel.axes, panel.comparison
    panel.flush()
    axes.margins(y=0.08)
    values = [p.values[np.isfinite(p.values)] for p in comparison.all_points]
    finite = np.concatenate(values) if values else np.zeros(0)
    if from_zero and finite.size and finite.min() >= 0:
        axes.set_ylim(0, axes.get_ylim()[1])
    elif finite.size and np.ptp(finite) == 0:
        axes.set_ylim(finite[0] - 1, finite[0] + 1)
    axes.set_ylabel(
        _wrapped(comparison.label, panel.inches[1]), color=panel.look.ink, fontsize=9.5, labelpad=10
    )
    axes.yaxis.set_major_formatter(tick_text)


def _wrapped(label: str, inches: float) -> str:
    """A label in lines that fit beside an axis."""
    return "\n".join(textwrap.wrap(label, max(round(_LETTERS * inches), 18)))


def _group_label(statistics: GroupStatistics, comparison: Comparison, *, narrow: bool) -> str:
    plural = "s" if statistics.regions != 1 else ""
    count, holder = statistics.samples, comparison.holder
    samples = f"{count} {holder if count == 1 else several(holder)}"
    between = "\n" if narrow else " · "
    return f"{samples}{between}{statistics.regions} {comparison.region_class}{plural}"


def label_groups(panel: Panel) -> None:
    """Put the names of the groups below, with their numbers where there is room."""
    axes, comparison = panel.axes, panel.comparison
    axes.set_xlim(-0.6, max(len(comparison.groups), 1) - 0.4)
    label_values(panel)
    axes.set_xticks(range(len(comparison.groups)), comparison.groups)
    room = panel.inches[0] / max(len(comparison.groups), 1)
    crowded = room < _ROOM_FOR_NAME
    for label in axes.get_xticklabels():
        label.set_fontsize(9 if crowded else 10)
        label.set_rotation(20 if crowded else 0)
        label.set_horizontalalignment("right" if crowded else "center")
        label.set_fontweight("bold")
        label.set_color(panel.look.ink)
    if crowded:
        return
    for position, statistics in enumerate(comparison.statistics):
        axes.annotate(
            _group_label(statistics, comparison, narrow=room < _ROOM_FOR_LINE),
            (position, 0),
            xycoords=("data", "axes fraction"),
            xytext=(0, -24),
            textcoords="offset points",
            ha="center",
            va="top",
            fontsize=8.5,
            color=panel.look.faint,
        )

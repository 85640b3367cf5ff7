"""Colours and font of a figure."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@dataclass(frozen=True)
class FigureLook:
    """Colours and font of a figure."""

    ground: str = "#FFFFFF"
    ink: str = "#26302E"
    faint: str = "#5F645F"
    hairline: str = "#DAD5C8"
    check: str = "#8A5A00"
    font: str = "Inter"

    def dress(self, axes: Axes, grid: Literal["both", "x", "y"] = "both") -> None:
        """Give axes ground, lines and labels: no frame, faint figures, lines behind the data."""
        axes.set_facecolor(self.ground)
        for side in axes.spines.values():
            side.set_visible(False)
        axes.grid(axis=grid, color=self.hairline, linewidth=0.8)
        axes.set_axisbelow(True)
        axes.tick_params(axis="both", length=0, labelcolor=self.faint, labelsize=9)


PLAIN = FigureLook()

"""Where the cells of the Sheet stand: as large as all fit, or in rows that are scrolled."""

from __future__ import annotations

import math
from dataclasses import dataclass

from PyQt6.QtCore import QRectF

GAP, CAPTION = 6, 22
# Room for the chips above and the key at the right.
HEAD, SIDE = 42, 112
# Cells are not made smaller than this; then they are scrolled.
LEAST_CELL = 132.0
_NARROWEST = 20


@dataclass(frozen=True)
class SheetLayout:
    """Places of `count` cells in a widget of `width` × `height` pixels.

    rows_shown : rows that are seen at once, fewer than `rows` where the Sheet scrolls.
    """

    width: float
    height: float
    count: int
    columns: int
    rows: int
    rows_shown: int

    @classmethod
    def of(cls, count: int, width: int, height: int, aspect: float = 1.0) -> SheetLayout:
        """Return the layout with the largest cells in which all are seen, or that scrolls.

        aspect : height of a picture over its width.
        """
        room = max(width - SIDE, 80), max(height - HEAD, 80)
        columns = best_columns(count, *room, aspect)
        rows = shown = max(math.ceil(count / columns), 1)
        if _side(columns, rows, *room, aspect) < LEAST_CELL:
            columns = max(int(room[0] // (LEAST_CELL * max(1, 1 / aspect) + GAP)), 1)
            rows = max(math.ceil(count / columns), 1)
            high = (room[0] / columns - GAP) * aspect
            shown = min(max(round(room[1] / (high + CAPTION + GAP)), 1), rows)
        return cls(*room, count, columns, rows, shown)

    @property
    def scrolls(self) -> int:
        """How many rows lie beyond those that are seen at once."""
        return self.rows - self.rows_shown

    def row_of(self, position: int) -> int:
        """Return the row of a cell."""
        return position // self.columns

    def seen(self, first_row: int) -> range:
        """Return the positions of the cells that are seen when a row is the topmost."""
        first = first_row * self.columns
        return range(first, min(first + self.rows_shown * self.columns, self.count))

    def box(self, position: int, first_row: int) -> QRectF:
        """Return the picture of a cell, without its caption, when a row is the topmost."""
        width = (self.width - GAP * (self.columns + 1)) / self.columns
        height = (self.height - GAP * (self.rows_shown + 1)) / self.rows_shown
        left = GAP + (position % self.columns) * (width + GAP)
        top = HEAD + (self.row_of(position) - first_row) * (height + GAP)
        return QRectF(left, top + CAPTION, width, height - CAPTION)


def _side(columns: int, rows: int, width: float, height: float, aspect: float) -> float:
    """The longer side of the pictures in so many columns and rows."""
    return min(width / columns, (height / rows - CAPTION) / aspect) * max(aspect, 1)


def best_columns(count: int, width: int, height: int, aspect: float = 1.0) -> int:
    """Return how many columns make the pictures largest. aspect : height over width."""
    if count <= 1:
        return 1
    best = 1
    most = 0.0
    for columns in range(1, min(count, width // _NARROWEST) + 1):
        rows = math.ceil(count / columns)
        side = _side(columns, rows, width, height, aspect)
        if side > most * 1.001:
            best, most = columns, side
    return best

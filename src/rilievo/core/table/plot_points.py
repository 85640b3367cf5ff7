"""Columns of the table as points of a plot."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.table.rows import BINS, Rows

# More dots than this hide each other; an even choice is drawn.
MOST_POINTS = 6_000


@dataclass(frozen=True, eq=False)
class ColumnPoints:
    """Rows as dots.

    rows : of the dots that are drawn; x, y : where; group : index in `groups` that colours it.
    all_rows, all_x, all_y : of every row that has both values, for choosing.
    """

    rows: NDArray[np.int64]
    x: NDArray[np.float64]
    y: NDArray[np.float64]
    group: NDArray[np.int64]
    groups: tuple[str, ...]
    samples: tuple[str, ...]
    all_rows: NDArray[np.int64]
    all_x: NDArray[np.float64]
    all_y: NDArray[np.float64]

    @property
    def total(self) -> int:
        """How many rows have values."""
        return int(self.all_rows.size)

    def of_group(self, index: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return where the dots of a group that are drawn stand."""
        in_group = self.group == index
        return self.x[in_group], self.y[in_group]

    def within(self, left: float, right: float, low: float, high: float) -> NDArray[np.int64]:
        """Return all rows within a rectangle, drawn or not."""
        inside = (self.all_x >= left) & (self.all_x <= right)
        inside &= (self.all_y >= low) & (self.all_y <= high)
        return self.all_rows[inside]


def column_points(rows: Rows, shown: NDArray[np.int64], kind: str, x: str, y: str) -> ColumnPoints:
    """Return the dots of a scatter (x against y), strip (y by sample) or histogram (of y)."""
    up = rows.columns[y][shown]
    if kind == "scatter":
        across = rows.columns[x][shown]
    elif kind == "histogram":
        across = up
    else:
        # Dots of a sample stand beside each other, always in the same positions.
        shake = (rows.region[shown] * 0.6180339887) % 1.0
        across = rows.table_at[shown] + 0.7 * (shake - 0.5)
    good = np.isfinite(across) & np.isfinite(up)
    drawable, across, up = shown[good], across[good].astype(np.float64), up[good]
    drawn = np.arange(drawable.size)
    if drawable.size > MOST_POINTS:
        drawn = np.linspace(0, drawable.size - 1, MOST_POINTS).astype(np.int64)
    groups = rows.texts("group")
    return ColumnPoints(
        rows=drawable[drawn],
        x=across[drawn],
        y=up[drawn],
        group=groups.positions[drawable[drawn]].astype(np.int64),
        groups=groups.texts,
        samples=tuple(table.sample for table in rows.tables),
        all_rows=drawable,
        all_x=across,
        all_y=up,
    )


def bar_points(
    rows: Rows, shown: NDArray[np.int64], key: str
) -> tuple[NDArray[np.float64], NDArray[np.int64], float]:
    """Return middles, counts and width of the bars of a column's histogram."""
    counts, low, high = rows.histogram(key, shown)
    if not np.isfinite(low):
        return np.zeros(1), np.zeros(1, np.int64), 1.0
    if high <= low:
        return np.array([low]), np.array([int(counts.sum())]), 1.0
    width = (high - low) / BINS
    middles = np.asarray(low + (np.arange(BINS) + 0.5) * width, np.float64)
    return middles, counts, width

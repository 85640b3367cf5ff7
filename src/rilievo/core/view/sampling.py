"""Which pixels of an image the screen shows, and what values they have there.

From zoom 1 up single pixels show; below, a coarser level of the pyramid is blended.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import working_dtype
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.view.palettes import LEVELS

# From here up the edges of single pixels show; below, pixels are blended.
BLEND_BELOW = 1.0


@dataclass(frozen=True)
class Viewport:
    """Which part of an image the screen shows, in device pixels.

    left, top : image position of the screen's top-left corner; pixel k covers k … k + 1 here.
    zoom : screen pixels per image pixel. width, height : of the screen area.
    bottom_up : image rows grow upwards on the screen; `top` then counts from the last row.
    skipped_rows, skipped_columns : of the screen, above and left of the area; those of a part are
    at the same positions, to the last bit, as in the whole.
    """

    left: float
    top: float
    zoom: float
    width: int
    height: int
    bottom_up: bool = False
    skipped_rows: int = 0
    skipped_columns: int = 0

    def strip(self, rows: slice) -> Viewport:
        """Return what some rows of the screen show."""
        first = self.skipped_rows + rows.start
        return replace(self, skipped_rows=first, height=rows.stop - rows.start)

    def widened(self, by: int) -> Viewport:
        """Return the area with so many more pixels of the screen on all sides."""
        return replace(
            self,
            width=self.width + 2 * by,
            height=self.height + 2 * by,
            skipped_rows=self.skipped_rows - by,
            skipped_columns=self.skipped_columns - by,
        )

    def columns(self) -> NDArray[np.float64]:
        """Image position of the centre of each screen column."""
        columns = self.left + _centres(self.skipped_columns, self.width) / self.zoom
        return np.asarray(columns, dtype=np.float64)

    def rows(self, image_height: int) -> NDArray[np.float64]:
        """Image position of the centre of each screen row."""
        rows = self.top + _centres(self.skipped_rows, self.height) / self.zoom
        return np.asarray(image_height - rows if self.bottom_up else rows, dtype=np.float64)


def _centres(first: int, count: int) -> NDArray[np.float64]:
    return np.arange(first, first + count, dtype=np.float64) + 0.5


def _inside(positions: NDArray[np.float64], length: int) -> tuple[slice, NDArray[np.float64]]:
    """Part of the screen that the image covers, and the image positions there."""
    good = np.flatnonzero((positions >= 0) & (positions < length))
    if good.size == 0:
        return slice(0, 0), positions[:0]
    part = slice(int(good[0]), int(good[-1]) + 1)
    return part, positions[part]


def covered_part(viewport: Viewport, shape: tuple[int, int]) -> tuple[slice, slice]:
    """Return the rows and columns of the screen that an image of (height, width) covers."""
    return (
        _inside(viewport.rows(shape[0]), shape[0])[0],
        _inside(viewport.columns(), shape[1])[0],
    )


def _blend_axis(
    values: NDArray[np.floating[Any]], positions: NDArray[np.float64], axis: int
) -> NDArray[np.floating[Any]]:
    length = values.shape[axis]
    centre = np.clip(positions - 0.5, 0, length - 1)
    below = centre.astype(np.intp)
    above = np.minimum(below + 1, length - 1)
    part = (centre - below).astype(values.dtype)
    shape = (-1, 1) if axis == 0 else (1, -1)
    part = part.reshape(shape)
    low = values.take(below, axis=axis)
    high = values.take(above, axis=axis)
    high -= low
    high *= part
    high += low
    return np.asarray(high)


def sampled(
    pyramid: Pyramid, viewport: Viewport, *, smooth: int = 0
) -> tuple[NDArray[np.floating[Any]], slice, slice]:
    """Return the values the screen shows, and the rows and columns of the screen they cover.

    From zoom 1 up each screen pixel takes the value of the image pixel under it; below, the
    nearest coarser level is blended linearly. smooth : blend over at least 2ⁿ image pixels.
    """
    height, width = pyramid.levels[0].shape
    screen_rows, rows = _inside(viewport.rows(height), height)
    screen_columns, columns = _inside(viewport.columns(), width)
    if rows.size == 0 or columns.size == 0:
        return np.zeros((0, 0), np.float32), slice(0, 0), slice(0, 0)
    k = max(pyramid.level_for(viewport.zoom), min(smooth, len(pyramid.levels) - 1))
    if viewport.zoom >= BLEND_BELOW and k == 0:
        values = _taken(pyramid.levels[0], rows.astype(np.intp), columns.astype(np.intp))
        return as_floats(values), screen_rows, screen_columns
    level = pyramid.levels[k]
    scale = 2.0**k
    first, last = sorted((rows[0] / scale, rows[-1] / scale))
    start = max(int(first) - 1, 0)
    strip = as_floats(level[start : int(last) + 2])
    values = _blend_axis(strip, rows / scale - start, 0)
    return _blend_axis(values, columns / scale, 1), screen_rows, screen_columns


def _taken(values: NDArray[Any], rows: NDArray[np.intp], columns: NDArray[np.intp]) -> NDArray[Any]:
    """Rows and columns of an array; the columns first cut down, so that rows copy fast."""
    left, right = int(columns.min()), int(columns.max()) + 1
    return np.asarray(values[rows, left:right].take(columns - left, axis=1))


def as_floats(values: NDArray[Any]) -> NDArray[np.floating[Any]]:
    """Return values as float32 where that is exact, else float64."""
    return np.asarray(values.astype(working_dtype(values.dtype), copy=False))


def sampled_labels(labels: NDArray[Any], viewport: Viewport) -> NDArray[Any]:
    """Return the label under each screen pixel that the image covers."""
    height, width = labels.shape
    _, rows = _inside(viewport.rows(height), height)
    _, columns = _inside(viewport.columns(), width)
    if rows.size == 0 or columns.size == 0:
        return np.zeros((0, 0), labels.dtype)
    return _taken(labels, rows.astype(np.intp), columns.astype(np.intp))


def levels_of(values: NDArray[np.floating[Any]], low: float, high: float) -> NDArray[np.uint16]:
    """Return 0 for values ≤ low up to LEVELS − 1 for values ≥ high, linear between; NaN is 0."""
    span = high - low
    if not np.isfinite(span) or span <= 0:
        return np.where(values > low, LEVELS - 1, 0).astype(np.uint16)
    scaled = (values - values.dtype.type(low)) * values.dtype.type((LEVELS - 1) / span)
    np.clip(scaled, 0, LEVELS - 1, out=scaled)
    return np.asarray(np.nan_to_num(scaled, copy=False, nan=0.0), dtype=np.uint16)

"""Moments of blocks about each block, and the planes that follow from them; compiled."""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

# Moments that a plane needs: weight, x, y, value, x², y², xy, x·value, y·value.
MOMENTS = 9
# A little of a ridge, so that no plane tilts where all its pixels lie on one side.
_RIDGE = 0.02


@numba.njit(nogil=True, cache=True)
def sums_of_kept(
    values: NDArray[Any],
    kept: NDArray[np.bool_],
    anchor: float,
    side: int,
    count: NDArray[Any],
    sums: NDArray[Any],
) -> None:
    """Write how many pixels of each block are kept, and the sum of value − anchor over them.

    The pixels of a row come first.
    """
    height, width = values.shape
    for j in range(count.shape[0]):
        for i in range(count.shape[1]):
            many, total = 0, 0.0
            for y in range(j * side, min((j + 1) * side, height)):
                along = 0.0
                for x in range(i * side, min((i + 1) * side, width)):
                    if kept[y, x]:
                        many += 1
                        along += values[y, x] - anchor
                total += along
            count[j, i], sums[j, i] = many, total


@numba.njit(nogil=True, cache=True)
def moments_of_blocks(
    sums: NDArray[Any], weights: NDArray[Any], scale: float, planes: NDArray[Any]
) -> None:
    """Write the moments of each block; positions are from the middle, in units of `scale`.

    sums : of the values in each block. weights : how many there are. planes : shape (MOMENTS,
    height, width).
    """
    height, width = sums.shape
    for j in range(height):
        y = (j - height / 2) / scale
        for i in range(width):
            x = (i - width / 2) / scale
            w, s = weights[j, i], sums[j, i]
            wx, wy = w * x, w * y
            planes[0, j, i] = w
            planes[1, j, i] = wx
            planes[2, j, i] = wy
            planes[3, j, i] = s
            planes[4, j, i] = wx * x
            planes[5, j, i] = wy * y
            planes[6, j, i] = wx * y
            planes[7, j, i] = s * x
            planes[8, j, i] = s * y


@numba.njit(nogil=True, cache=True)
def planes_at_blocks(
    planes: NDArray[Any], scale: float, most: float, field: NDArray[Any], held: NDArray[Any]
) -> None:
    """Write the value of the local plane at each block, and the weight that it rests on.

    planes : the smoothed moments. most : the largest weight, of which `held` is a share.
    """
    height, width = field.shape
    least, whole = max(1e-6 * most, 1e-12), max(most, 1e-12)
    for j in range(height):
        y = (j - height / 2) / scale
        for i in range(width):
            x = (i - width / 2) / scale
            total = planes[0, j, i] + least
            mx, my, mean = planes[1, j, i] / total, planes[2, j, i] / total, planes[3, j, i] / total
            xx = planes[4, j, i] / total - mx * mx + _RIDGE
            yy = planes[5, j, i] / total - my * my + _RIDGE
            xy = planes[6, j, i] / total - mx * my
            sx = planes[7, j, i] / total - mean * mx
            sy = planes[8, j, i] / total - mean * my
            det = xx * yy - xy * xy
            field[j, i] = (
                mean + (sx * yy - sy * xy) / det * (x - mx) + (sy * xx - sx * xy) / det * (y - my)
            )
            held[j, i] = planes[0, j, i] / whole

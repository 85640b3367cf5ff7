"""Compiled loops that bring a coarse field to the size of the image."""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

# NumPy adds up longer rows in other parts.
LONGEST_ROW = 128


@numba.njit(nogil=True, cache=True)
def blend_rows(
    cells: NDArray[Any], around: NDArray[np.intp], weights: NDArray[Any], result: NDArray[Any]
) -> None:
    """Write result[y] = Σ over k of weights[k, y] · cells[around[k, y]], k from 0 to 3 in order.

    cells : shape (rows, width). around, weights : shape (4, height), weights of the same type.
    """
    for y in range(result.shape[0]):
        a, b = cells[around[0, y]], cells[around[1, y]]
        c, d = cells[around[2, y]], cells[around[3, y]]
        wa, wb, wc, wd = weights[0, y], weights[1, y], weights[2, y], weights[3, y]
        into = result[y]
        for x in range(into.shape[0]):
            into[x] = a[x] * wa + b[x] * wb + c[x] * wc + d[x] * wd


@numba.njit(nogil=True, cache=True)
def blend_columns(
    cells: NDArray[Any], around: NDArray[np.intp], weights: NDArray[Any], result: NDArray[Any]
) -> None:
    """As `blend_rows`, along each row: result[y, x] from cells[y, around[k, x]]."""
    a, b, c, d = around[0], around[1], around[2], around[3]
    wa, wb, wc, wd = weights[0], weights[1], weights[2], weights[3]
    for y in range(result.shape[0]):
        line, into = cells[y], result[y]
        for x in range(into.shape[0]):
            into[x] = (
                line[a[x]] * wa[x] + line[b[x]] * wb[x] + line[c[x]] * wc[x] + line[d[x]] * wd[x]
            )


@numba.njit(nogil=True, cache=True)
def sum_blocks(values: NDArray[Any], side: int, result: NDArray[Any]) -> None:
    """Write the sum of side × side pixels, those of a row first, for side up to LONGEST_ROW.

    values : at least as large as `result` times side. Rows of 8 and more are added up in eight
    parts, which keeps the digits; the order is that of NumPy's own sums over blocks.
    """
    rows, columns = result.shape
    part = np.zeros(8, values.dtype)
    for y in range(rows):
        for x in range(columns):
            total = values.dtype.type(0)
            for k in range(side):
                line = values[y * side + k, x * side : (x + 1) * side]
                if side < 8:
                    along = line[0]
                    for i in range(1, side):
                        along += line[i]
                else:
                    for i in range(8):
                        part[i] = line[i]
                    whole = side - side % 8
                    for i in range(8, whole, 8):
                        for n in range(8):
                            part[n] += line[i + n]
                    along = ((part[0] + part[1]) + (part[2] + part[3])) + (
                        (part[4] + part[5]) + (part[6] + part[7])
                    )
                    for i in range(whole, side):
                        along += line[i]
                total += along
            result[y, x] = total

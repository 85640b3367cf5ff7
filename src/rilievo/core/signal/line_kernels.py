"""Compiled filters along the lines of a plane: weighted means, running means, lowest and highest.

Whole rows are worked on at once, several pixels in one instruction, whichever way the lines run.
Each loop releases the interpreter lock and does rows (or columns) `first` up to `end`. Sums are
taken in double precision and in a fixed order, so that parts give the same bits as the whole.
"""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from rilievo.core.signal.line_ends import GOES_ON, MIRRORED

# So many columns are worked on together, so that their sums stay at hand.
_ACROSS = 512


@numba.njit(nogil=True, cache=True, inline="always")
def _source(position: int, length: int, border: int) -> int:
    """Return which pixel of a line stands at a position beyond its ends; −1 for none."""
    if 0 <= position < length:
        return position
    if border == MIRRORED:
        position = position % (2 * length)
        return position if position < length else 2 * length - 1 - position
    if border == GOES_ON:
        return 0 if position < 0 else length - 1
    return -1


@numba.njit(nogil=True, cache=True)
def _padded(line: NDArray[Any], before: int, border: int, into: Any) -> None:
    """Copy a line so that it begins at `before`, and what stands beyond its ends."""
    length = line.shape[0]
    for i in range(length):
        into[before + i] = line[i]
    for i in range(before):
        source = _source(i - before, length, border)
        into[i] = line[source] if source >= 0 else 0.0
    for i in range(before + length, into.shape[0]):
        source = _source(i - before, length, border)
        into[i] = line[source] if source >= 0 else 0.0


@numba.njit(nogil=True, cache=True)
def weighted_rows(
    values: NDArray[Any],
    weights: NDArray[np.float64],
    first: int,
    end: int,
    border: int,
    result: NDArray[Any],
) -> None:
    """Write Σ weights[|j|] · v[i + j] along rows; weights[j] is that at distance j.

    The middle comes first, then pairs from the outermost inwards.
    """
    length, reach = values.shape[1], weights.shape[0] - 1
    line = np.zeros(length + 2 * reach)
    sums = np.empty(_ACROSS)
    for y in range(first, end):
        _padded(values[y], reach, border, line)
        for left in range(0, length, _ACROSS):
            width = min(_ACROSS, length - left)
            middle = line[left + reach : left + reach + width]
            for k in range(width):
                sums[k] = middle[k] * weights[0]
            for j in range(reach, 0, -1):
                weight = weights[j]
                low = line[left + reach - j : left + reach - j + width]
                high = line[left + reach + j : left + reach + j + width]
                for k in range(width):
                    sums[k] += (low[k] + high[k]) * weight
            into = result[y, left : left + width]
            for k in range(width):
                into[k] = sums[k]


@numba.njit(nogil=True, cache=True)
def weighted_columns(
    values: NDArray[Any],
    weights: NDArray[np.float64],
    first: int,
    end: int,
    border: int,
    result: NDArray[Any],
) -> None:
    """As `weighted_rows`, along columns `first` up to `end`."""
    length, reach = values.shape[0], weights.shape[0] - 1
    sums = np.empty(_ACROSS)
    nothing = np.zeros(_ACROSS, values.dtype)
    for left in range(first, end, _ACROSS):
        width = min(_ACROSS, end - left)
        for y in range(length):
            middle = values[y, left : left + width]
            for k in range(width):
                sums[k] = np.float64(middle[k]) * weights[0]
            for j in range(reach, 0, -1):
                weight = weights[j]
                above = _source(y - j, length, border)
                below = _source(y + j, length, border)
                low = values[above, left : left + width] if above >= 0 else nothing[:width]
                high = values[below, left : left + width] if below >= 0 else nothing[:width]
                for k in range(width):
                    sums[k] += (np.float64(low[k]) + np.float64(high[k])) * weight
            into = result[y, left : left + width]
            for k in range(width):
                into[k] = sums[k]


@numba.njit(nogil=True, cache=True)
def weighted_planes(
    planes: NDArray[Any],
    weights: NDArray[np.float64],
    border: int,
    middle: NDArray[Any],
    result: NDArray[Any],
) -> None:
    """Do `weighted_columns` and `weighted_rows` for each of several planes."""
    for k in range(planes.shape[0]):
        weighted_columns(planes[k], weights, 0, planes.shape[2], border, middle[k])
        weighted_rows(middle[k], weights, 0, planes.shape[1], border, result[k])


@numba.njit(nogil=True, cache=True)
def mean_columns(
    values: NDArray[Any], size: int, first: int, end: int, border: int, result: NDArray[Any]
) -> None:
    """Write the mean of `size` values along columns, size // 2 of them before each position."""
    length, before = values.shape[0], size // 2
    total = np.empty(_ACROSS)
    nothing = np.zeros(_ACROSS, values.dtype)
    for left in range(first, end, _ACROSS):
        width = min(_ACROSS, end - left)
        total[:] = 0.0
        for y in range(-before, size - before):
            source = _source(y, length, border)
            if source >= 0:
                line = values[source, left : left + width]
                for k in range(width):
                    total[k] += np.float64(line[k])
        for y in range(length):
            if y > 0:
                gone = _source(y - 1 - before, length, border)
                come = _source(y - 1 - before + size, length, border)
                goes = values[gone, left : left + width] if gone >= 0 else nothing[:width]
                comes = values[come, left : left + width] if come >= 0 else nothing[:width]
                for k in range(width):
                    total[k] += np.float64(comes[k]) - np.float64(goes[k])
            into = result[y, left : left + width]
            for k in range(width):
                into[k] = total[k] / size


@numba.njit(nogil=True, cache=True)
def mean_rows(
    values: NDArray[Any], size: int, first: int, end: int, border: int, result: NDArray[Any]
) -> None:
    """As `mean_columns`, along rows `first` up to `end`."""
    length = values.shape[1]
    line = np.zeros(length + size - 1)
    for y in range(first, end):
        _padded(values[y], size // 2, border, line)
        total = 0.0
        for i in range(size):
            total += line[i]
        into = result[y]
        into[0] = total / size
        for x in range(1, length):
            total += line[x + size - 1] - line[x - 1]
            into[x] = total / size


@numba.njit(nogil=True, cache=True)
def sum_rows(values: NDArray[Any], size: int, first: int, end: int, result: NDArray[Any]) -> None:
    """Write the sum of `size` values (odd) around each along rows, mirrored, as the difference
    of sums from the start; so sums of whole numbers are exact.
    """
    length = values.shape[1]
    line = np.zeros(length + size)
    for y in range(first, end):
        _padded(values[y], size // 2 + 1, MIRRORED, line)
        line[0] = 0.0
        for i in range(1, length + size):
            line[i] += line[i - 1]
        into = result[y]
        for x in range(length):
            into[x] = line[x + size] - line[x]


@numba.njit(nogil=True, cache=True)
def sum_columns(
    values: NDArray[Any], size: int, first: int, end: int, result: NDArray[Any]
) -> None:
    """As `sum_rows`, along columns `first` up to `end`."""
    length = values.shape[0]
    sums = np.zeros((length + size, min(_ACROSS, end - first)))
    for left in range(first, end, _ACROSS):
        width = min(_ACROSS, end - left)
        for i in range(1, length + size):
            line = values[_source(i - size // 2 - 1, length, MIRRORED), left : left + width]
            before, here = sums[i - 1], sums[i]
            for k in range(width):
                here[k] = before[k] + line[k]
        for y in range(length):
            into, low, high = result[y, left : left + width], sums[y], sums[y + size]
            for k in range(width):
                into[k] = high[k] - low[k]


@numba.njit(nogil=True, cache=True, fastmath={"nnan", "nsz"})
def _lower(some: NDArray[Any], others: NDArray[Any], into: NDArray[Any]) -> None:
    """Write the lower of two lines; a function of its own, where several at once are compared."""
    for i in range(into.shape[0]):
        into[i] = some[i] if some[i] < others[i] else others[i]


@numba.njit(nogil=True, cache=True)
def lowest_rows(
    values: NDArray[Any], size: int, first: int, end: int, sign: int, result: NDArray[Any]
) -> None:
    """Write the lowest (sign 1) or highest (−1) of `size` values (odd) around each along rows.

    Beyond its ends a row goes on with its end. The lowest of 2, 4, 8 … values are made of two of
    the last, in one line and the other by turns.
    """
    length = values.shape[1]
    lines = np.zeros((2, length + size - 1))
    for y in range(first, end):
        at, count = 0, lines.shape[1]
        _padded(values[y], size // 2, GOES_ON, lines[at])
        for i in range(count):
            lines[at, i] *= sign
        covered = 1
        while covered < size:
            step = min(covered, size - covered)
            count -= step
            line = lines[at]
            _lower(line[:count], line[step : step + count], lines[1 - at, :count])
            covered, at = covered + step, 1 - at
        into, line = result[y], lines[at]
        for x in range(length):
            into[x] = sign * line[x]


@numba.njit(nogil=True, cache=True, fastmath={"nnan", "nsz"})
def lowest_columns(
    values: NDArray[Any], size: int, first: int, end: int, sign: int, result: NDArray[Any]
) -> None:
    """As `lowest_rows`, along columns `first` up to `end`; three comparisons at any size.

    Source: van Herk 1992, Pattern Recognition Letters 13, 517–521.
    """
    length = values.shape[0]
    count = length + size - 1
    across = min(_ACROSS, end - first)
    onwards, backwards = np.empty((count, across)), np.empty((count, across))
    for left in range(first, end, _ACROSS):
        width = min(_ACROSS, end - left)
        for i in range(count):
            line = values[_source(i - size // 2, length, GOES_ON), left : left + width]
            into, known = onwards[i], onwards[max(i - 1, 0)]
            if i % size == 0:
                for k in range(width):
                    into[k] = sign * line[k]
            else:
                for k in range(width):
                    here = np.float64(sign * line[k])
                    into[k] = here if here < known[k] else known[k]
        for i in range(count - 1, -1, -1):
            line = values[_source(i - size // 2, length, GOES_ON), left : left + width]
            into, known = backwards[i], backwards[min(i + 1, count - 1)]
            if i == count - 1 or (i + 1) % size == 0:
                for k in range(width):
                    into[k] = sign * line[k]
            else:
                for k in range(width):
                    here = np.float64(sign * line[k])
                    into[k] = here if here < known[k] else known[k]
        for y in range(length):
            low, high = backwards[y], onwards[y + size - 1]
            into = result[y, left : left + width]
            for k in range(width):
                into[k] = sign * (low[k] if low[k] < high[k] else high[k])

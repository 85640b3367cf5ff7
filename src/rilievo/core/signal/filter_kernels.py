"""Loops that NumPy and SciPy have no fast form for, compiled once and kept on disk.

Each releases the interpreter lock; callers split the rows among threads with `in_pieces`.
bench/bench_correct.py has what they gain.
"""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

# Columns are worked on in strips, so that whole cache lines are read.
STRIP = 16


@numba.njit(nogil=True, cache=True)
def _envelope(
    line: NDArray[Any],
    rise: float,
    shares: Any,
    heights: Any,
    tops: Any,
    borders: Any,
    positions: Any,
) -> None:
    """Replace a line f by min over p of f[p] + rise · (q − p)², the lower envelope of parabolas.

    Infinite values have no parabola. shares : 1 / (2 · rise · d) for each distance d. heights,
    tops, borders, positions : scratch of the line's length.
    Source: Felzenszwalb & Huttenlocher 2012, Theory of Computing 8, 415–428.
    """
    count = line.shape[0]
    last = -1
    for q in range(count):
        value = line[q]
        if value == np.inf:
            continue
        height = value + rise * q * q
        border = -np.inf
        while last >= 0:
            border = (height - heights[last]) * shares[q - positions[last]]
            if border > borders[last]:
                break
            last -= 1
        last += 1
        positions[last] = q
        heights[last] = height
        tops[last] = value
        borders[last] = border if last else -np.inf
    if last < 0:
        return
    q = 0
    for k in range(last + 1):
        end = count
        if k < last:
            # The first position beyond the border belongs to the next parabola.
            end = min(count, max(q, int(np.floor(borders[k + 1])) + 1))
        index, top = positions[k], tops[k]
        for here in range(q, end):
            away = float(here - index)
            line[here] = top + rise * away * away
        q = max(q, end)


@numba.njit(nogil=True, cache=True)
def _shares(count: int, rise: float) -> Any:
    shares = np.zeros(count)
    for d in range(1, count):
        shares[d] = 1.0 / (2.0 * rise * d)
    return shares


@numba.njit(nogil=True, cache=True)
def envelope_rows(values: NDArray[Any], rise: float, sign: float) -> None:
    """Erode each row by a parabola in place (sign 1), or dilate it (sign −1)."""
    count = values.shape[1]
    shares = _shares(count, rise)
    line, heights, tops, borders = (
        np.empty(count),
        np.empty(count),
        np.empty(count),
        np.empty(count),
    )
    positions = np.empty(count, np.int64)
    for y in range(values.shape[0]):
        for x in range(count):
            line[x] = sign * values[y, x]
        _envelope(line, rise, shares, heights, tops, borders, positions)
        for x in range(count):
            values[y, x] = sign * line[x]


@numba.njit(nogil=True, cache=True)
def envelope_columns(values: NDArray[Any], rise: float, sign: float) -> None:
    """As `envelope_rows`, for the columns."""
    count, width = values.shape
    shares = _shares(count, rise)
    lines = np.empty((STRIP, count))
    heights, tops, borders = np.empty(count), np.empty(count), np.empty(count)
    positions = np.empty(count, np.int64)
    for left in range(0, width, STRIP):
        here = min(STRIP, width - left)
        for y in range(count):
            for k in range(here):
                lines[k, y] = sign * values[y, left + k]
        for k in range(here):
            _envelope(lines[k], rise, shares, heights, tops, borders, positions)
        for y in range(count):
            for k in range(here):
                values[y, left + k] = sign * lines[k, y]


@numba.njit(nogil=True, cache=True, fastmath={"nnan", "nsz"})
def lowest_under(
    padded: NDArray[Any], heights: NDArray[Any], widths: NDArray[Any], result: NDArray[Any]
) -> None:
    """Write min over the shape of padded − height, for each position.

    padded : rows and columns of `result` and the radius more on all sides. heights : shape
    (2r + 1, 2r + 1). widths : for each of its rows, how far it reaches to both sides.
    """
    radius = heights.shape[0] // 2
    rows, columns = result.shape
    for y in range(rows):
        # Whole lines, compared by several pixels in one instruction.
        lowest = result[y]
        lowest[:] = np.inf
        for dy in range(2 * radius + 1):
            line = padded[y + dy]
            for dx in range(radius - widths[dy], radius + widths[dy] + 1):
                height = heights[dy, dx]
                part = line[dx : dx + columns]
                for x in range(columns):
                    value = part[x] - height
                    lowest[x] = value if value < lowest[x] else lowest[x]


@numba.njit(nogil=True, cache=True)
def clip_sorted(
    ordered: NDArray[Any],
    clip: float,
    most_rounds: int,
    medians: Any,
    means: Any,
    sigmas: Any,
    counts: Any,
) -> None:
    """Clip each row of sorted values, NaN last, until nothing is beyond `clip` sigma of its median.

    sigma is that of the side without objects: the smaller distance of a quartile from the median,
    by 0.6745; the standard deviation where that is 0. Writes median, mean and sigma of what is
    left, and how many values were defined. Sums are taken about the first value, so that they
    keep their digits.
    """
    for k in range(ordered.shape[0]):
        line = ordered[k]
        high = line.shape[0]
        while high > 0 and np.isnan(line[high - 1]):
            high -= 1
        counts[k] = high
        medians[k] = means[k] = sigmas[k] = np.nan
        if high == 0:
            continue
        low, anchor = 0, float(line[0])
        total = squares = 0.0
        for x in range(high):
            away = line[x] - anchor
            total += away
            squares += away * away
        for _ in range(most_rounds):
            n = high - low
            middle = (float(line[(low + high - 1) // 2]) + float(line[(low + high) // 2])) / 2
            mean = total / n
            below = middle - float(line[low + (n - 1) // 4])
            above = float(line[high - 1 - (n - 1) // 4]) - middle
            sigma = min(below, above) / 0.6745
            if sigma == 0.0:
                sigma = np.sqrt(max(squares / n - mean * mean, 0.0))
            limit = clip * sigma
            medians[k], means[k], sigmas[k] = middle, mean + anchor, sigma
            before = n
            while high - low > 1 and line[low] < middle - limit:
                away = line[low] - anchor
                total -= away
                squares -= away * away
                low += 1
            while high - low > 1 and line[high - 1] > middle + limit:
                away = line[high - 1] - anchor
                total -= away
                squares -= away * away
                high -= 1
            if high - low == before:
                break

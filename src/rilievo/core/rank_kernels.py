"""Compiled loops about the order of values: shares below each, counts in bins, quantiles."""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

# The range of the values is cut into so many equal steps, which say where to look for a value.
_STEPS = 1 << 16


@numba.njit(nogil=True, cache=True, inline="always")
def _step_of(value: float, lowest: float, scale: float) -> int:
    step = (value - lowest) * scale
    # Also where the range is beyond what numbers can be.
    return int(step) if step < _STEPS else _STEPS - 1


@numba.njit(nogil=True, cache=True)
def _scale_of(ordered: NDArray[Any]) -> tuple[float, float]:
    """The lowest of ordered values, and how many steps go into 1."""
    lowest = np.float64(ordered[0])
    reach = np.float64(ordered[-1]) - lowest
    return lowest, _STEPS / reach if reach > 0 else 0.0


@numba.njit(nogil=True, cache=True)
def starts_of_steps(ordered: NDArray[Any]) -> NDArray[np.int64]:
    """Return where in the ordered finite values each of equal steps of their range begins."""
    lowest, scale = _scale_of(ordered)
    starts = np.zeros(_STEPS + 1, np.int64)
    for k in range(ordered.shape[0]):
        starts[_step_of(np.float64(ordered[k]), lowest, scale) + 1] += 1
    for step in range(_STEPS):
        starts[step + 1] += starts[step]
    return starts


@numba.njit(nogil=True, cache=True)
def shares_below(
    values: NDArray[Any], ordered: NDArray[Any], starts: NDArray[np.int64], result: NDArray[Any]
) -> None:
    """Write which share of the ordered values is at or below each finite value; others stay.

    starts : of `starts_of_steps`.
    """
    lowest, scale = _scale_of(ordered)
    for y in range(values.shape[0]):
        for x in range(values.shape[1]):
            value = values[y, x]
            if not np.isfinite(value):
                continue
            step = _step_of(np.float64(value), lowest, scale)
            first, end = starts[step], starts[step + 1]
            # The first that is larger.
            while first < end:
                middle = (first + end) // 2
                if ordered[middle] <= value:
                    first = middle + 1
                else:
                    end = middle
            result[y, x] = first / ordered.shape[0]


@numba.njit(nogil=True, cache=True)
def count_in_bins(
    values: NDArray[Any], edges: NDArray[np.float64], counts: NDArray[np.int64]
) -> None:
    """Count finite values between edges that are evenly spaced, the last one included."""
    last = counts.shape[0] - 1
    low = edges[0]
    reach = edges[last + 1] - low
    for value in values.flat:
        share = (value - low) / reach * (last + 1)
        k = int(share) if share < last else last
        if value < edges[k]:
            k -= 1
        elif k != last and value >= edges[k + 1]:
            k += 1
        counts[k] += 1


@numba.njit(nogil=True, cache=True)
def quantiles_of_blocks(
    values: NDArray[Any],
    rows: NDArray[np.intp],
    columns: NDArray[np.intp],
    share: float,
    result: NDArray[np.float64],
) -> None:
    """Write a quantile of the finite values of each block; NaN for none."""
    room = 0
    for i in range(result.shape[0]):
        for k in range(result.shape[1]):
            room = max(room, (rows[i + 1] - rows[i]) * (columns[k + 1] - columns[k]))
    window = np.empty(room, values.dtype)
    for i in range(result.shape[0]):
        for k in range(result.shape[1]):
            count = 0
            for y in range(rows[i], rows[i + 1]):
                for x in range(columns[k], columns[k + 1]):
                    if np.isfinite(values[y, x]):
                        window[count] = values[y, x]
                        count += 1
            result[i, k] = np.nan if count == 0 else _quantile(window, count, share)


@numba.njit(nogil=True, cache=True)
def _quantile(window: NDArray[Any], count: int, share: float) -> float:
    position = share * (count - 1)
    below = min(int(position), count - 1)
    low = selected(window, count, below)
    part = position - below
    if part == 0:
        return np.float64(low)
    # In the precision of the values.
    from_low, from_high = window.dtype.type(part), window.dtype.type(1 - part)
    high = window[below + 1]
    for k in range(below + 2, count):
        high = min(high, window[k])
    step = high - low
    return np.float64(low + step * from_low if part < 0.5 else high - step * from_high)


@numba.njit(nogil=True, cache=True)
def selected(window: NDArray[Any], count: int, wanted: int) -> Any:
    """Return the value with `wanted` smaller or equal ones before it; sorts them to the front."""
    left, right = 0, count - 1
    while left < right:
        pivot = window[(left + right) // 2]
        i, j = left, right
        while i <= j:
            while window[i] < pivot:
                i += 1
            while window[j] > pivot:
                j -= 1
            if i <= j:
                window[i], window[j] = window[j], window[i]
                i += 1
                j -= 1
        if wanted <= j:
            right = j
        elif wanted >= i:
            left = i
        else:
            break
    return window[wanted]

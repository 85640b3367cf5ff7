"""Compiled loops that tell how many values of a plane lie at or below each."""
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
    return min(int((value - lowest) * scale), _STEPS - 1)


@numba.njit(nogil=True, cache=True)
def starts_of_steps(ordered: NDArray[Any]) -> NDArray[np.int64]:
    """Return where in the ordered finite values each of equal steps of their range begins."""
    lowest = np.float64(ordered[0])
    reach = np.float64(ordered[-1]) - lowest
    scale = _STEPS / reach if reach > 0 else 0.0
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
    lowest = np.float64(ordered[0])
    reach = np.float64(ordered[-1]) - lowest
    scale = _STEPS / reach if reach > 0 else 0.0
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

"""Loops that find the mode of sorted values, compiled once and kept on disk."""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray


@numba.njit(nogil=True, cache=True)
def most_frequent(ordered: NDArray[Any]) -> float:
    """Return the most frequent of sorted values, the lowest on a tie."""
    best, longest, run = ordered[0], 0, 0
    for i in range(ordered.shape[0]):
        run = run + 1 if i and ordered[i] == ordered[i - 1] else 1
        if run > longest:
            best, longest = ordered[i], run
    return float(best)


@numba.njit(nogil=True, cache=True)
def half_sample_mode(ordered: NDArray[Any]) -> float:
    """Return the half-sample mode of sorted values.

    The half of the sample with the smallest range is taken, the lowest on a tie, and halved
    again until three or fewer values remain; of three, the closer pair is averaged.
    Source: Bickel & Frühwirth 2006, Computational Statistics & Data Analysis 50, 3500–3530.
    """
    first, size = 0, ordered.shape[0]
    while size > 3:
        half = (size + 1) // 2
        best, start = np.inf, first
        for i in range(first, first + size - half + 1):
            extent = ordered[i + half - 1] - ordered[i]
            if extent < best:
                best, start = extent, i
        first, size = start, half
    if size == 3:
        below = ordered[first + 1] - ordered[first]
        above = ordered[first + 2] - ordered[first + 1]
        if below == above:
            return float(ordered[first + 1])
        if above < below:
            first += 1
        size = 2
    if size == 2:
        return float((ordered[first] + ordered[first + 1]) / 2)
    return float(ordered[first])

"""Outlier-robust level and spread."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
from numpy.typing import NDArray

# So many pixels tell the spread of a plane well enough; they are taken evenly.
_ENOUGH = 1_000_000
# Blocks of more values than these are ordered faster by NumPy than by a loop.
_LARGE_BLOCK = 400
NORMAL = 1.4826


def some_of(values: NDArray[Any]) -> NDArray[np.float64]:
    """Return the finite values of a plane, or an even choice of about a million of them."""
    step = max(1, int(np.sqrt(values.size / _ENOUGH)))
    few = values[::step, ::step].ravel().astype(np.float64)
    return np.asarray(few[np.isfinite(few)])


def median_of(values: NDArray[Any]) -> float:
    """Return the median of finite values in one pass over them; NaN for none."""
    if values.size == 0:
        return float("nan")
    half = values.size // 2
    parted = np.partition(values, half, axis=None)
    high = parted[half]
    if values.size % 2 == 1:
        return float(high)
    return float((parted[:half].max() + high) / 2)


def quantile_of(values: NDArray[Any], share: float) -> float:
    """Return a quantile of finite values, interpolated between the two nearest; NaN for none.

    As numpy.quantile gives it by default (Hyndman & Fan 1996, definition 7).
    """
    if values.size == 0:
        return float("nan")
    position = share * (values.size - 1)
    below = min(int(position), values.size - 1)
    parted = np.partition(values, below, axis=None)
    low, part = parted[below], position - below
    if part == 0:
        return float(low)
    high = parted[below + 1 :].min()
    step = high - low
    return float(low + step * part if part < 0.5 else high - step * (1 - part))


def equal_bins(values: NDArray[Any], count: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Return how many finite values lie in each of equal bins over their range, and the edges.

    As numpy.histogram counts them.
    """
    from rilievo.core.rank_kernels import count_in_bins  # noqa: PLC0415 (compiled on first use)

    low, high = float(values.min()), float(values.max())
    if low == high:
        low, high = low - 0.5, high + 0.5
    edges = np.linspace(low, high, count + 1)
    counts = np.zeros(count, np.int64)
    count_in_bins(values, edges, counts)
    return counts, edges


def block_quantiles(
    values: NDArray[Any], rows: NDArray[np.intp], columns: NDArray[np.intp], share: float
) -> NDArray[np.float64]:
    """Return a quantile of the finite values of each block; NaN for none.

    rows, columns : where blocks begin, and the end of the last. Shape (blocks down, across).
    """
    from rilievo.core.rank_kernels import quantiles_of_blocks  # noqa: PLC0415 (compiled)

    result = np.empty((rows.size - 1, columns.size - 1))
    if values.size < _LARGE_BLOCK * result.size:
        quantiles_of_blocks(values, rows, columns, share, result)
        return result
    for i, (top, below) in enumerate(itertools.pairwise(rows.tolist())):
        for k, (left, right) in enumerate(itertools.pairwise(columns.tolist())):
            block = values[top:below, left:right]
            finite = np.isfinite(block)
            result[i, k] = quantile_of(block if finite.all() else block[finite], share)
    return result


def median_and_mad_sigma(values: NDArray[Any]) -> tuple[float, float]:
    """Return median and 1.4826 · median absolute deviation of finite values; NaN for none."""
    middle = median_of(values)
    return middle, NORMAL * median_of(np.abs(values - middle))

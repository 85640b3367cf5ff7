"""Loops over histograms: Ward's tree and least-squares classes.

Compiled once and kept on disk; each releases the interpreter lock. bench/bench_outline.py has
what they gain.
"""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray


@numba.njit(nogil=True, cache=True)
def ward_heights(values: NDArray[Any], counts: NDArray[Any]) -> Any:
    """Return the cost at which each border between neighbouring levels goes away, shape (n − 1,).

    values : ascending. counts : how often each occurs. A heap holds the cost of each border; costs
    that have become out of date are recognised by their stamp.
    """
    n = values.shape[0]
    weight, mean = counts.copy(), values.copy()
    before, after = np.arange(n) - 1, np.arange(n) + 1
    stamp = np.zeros(n, np.int64)
    gone = np.zeros(n, np.bool_)
    heights = np.zeros(n - 1, np.float64)
    # The border right of a cluster has the number of the cluster's last level.
    last = np.arange(n)
    size = 0
    room = 4 * n
    costs = np.empty(room, np.float64)
    lefts = np.empty(room, np.int64)
    stamps = np.empty(room, np.int64)
    for i in range(n - 1):
        size = _push(costs, lefts, stamps, size, _cost(weight, mean, i, i + 1), i, 0)
    while size > 0:
        cost, left, mark = costs[0], lefts[0], stamps[0]
        size = _pop(costs, lefts, stamps, size)
        if gone[left] or stamp[left] != mark:
            continue
        right = after[left]
        heights[last[left]] = cost
        both = weight[left] + weight[right]
        mean[left] = (weight[left] * mean[left] + weight[right] * mean[right]) / both
        weight[left] = both
        last[left] = last[right]
        gone[right] = True
        after[left] = after[right]
        if after[left] < n:
            before[after[left]] = left
            stamp[left] += 1
            new = _cost(weight, mean, left, after[left])
            size = _push(costs, lefts, stamps, size, new, left, stamp[left])
        else:
            stamp[left] += 1
        if before[left] >= 0:
            other = before[left]
            stamp[other] += 1
            size = _push(
                costs, lefts, stamps, size, _cost(weight, mean, other, left), other, stamp[other]
            )
    return heights


@numba.njit(nogil=True, cache=True)
def _cost(weight: Any, mean: Any, left: int, right: int) -> Any:
    away = mean[right] - mean[left]
    return weight[left] * weight[right] / (weight[left] + weight[right]) * away * away


@numba.njit(nogil=True, cache=True)
def _less(costs: Any, lefts: Any, a: int, b: int) -> Any:
    return costs[a] < costs[b] or (costs[a] == costs[b] and lefts[a] < lefts[b])


@numba.njit(nogil=True, cache=True)
def _swap(costs: Any, lefts: Any, stamps: Any, a: int, b: int) -> None:
    costs[a], costs[b] = costs[b], costs[a]
    lefts[a], lefts[b] = lefts[b], lefts[a]
    stamps[a], stamps[b] = stamps[b], stamps[a]


@numba.njit(nogil=True, cache=True)
def _push(
    costs: Any, lefts: Any, stamps: Any, size: int, cost: float, left: int, stamp: int
) -> Any:
    costs[size], lefts[size], stamps[size] = cost, left, stamp
    k = size
    while k > 0 and _less(costs, lefts, k, (k - 1) // 2):
        _swap(costs, lefts, stamps, k, (k - 1) // 2)
        k = (k - 1) // 2
    return size + 1


@numba.njit(nogil=True, cache=True)
def _pop(costs: Any, lefts: Any, stamps: Any, size: int) -> Any:
    size -= 1
    costs[0], lefts[0], stamps[0] = costs[size], lefts[size], stamps[size]
    k = 0
    while True:
        small = k
        for child in (2 * k + 1, 2 * k + 2):
            if child < size and _less(costs, lefts, child, small):
                small = child
        if small == k:
            return size
        _swap(costs, lefts, stamps, k, small)
        k = small


@numba.njit(nogil=True, cache=True)
def least_squares_borders(values: NDArray[Any], counts: NDArray[Any], k: int) -> Any:
    """Return the last level of each class but the highest, of the k classes of least squares.

    By dynamic programming; the best last border moves to the right with the end, so that each
    class more costs n · log n.
    """
    n = values.shape[0]
    weight, first, second = np.zeros(n + 1), np.zeros(n + 1), np.zeros(n + 1)
    for i in range(n):
        weight[i + 1] = weight[i] + counts[i]
        first[i + 1] = first[i] + counts[i] * values[i]
        second[i + 1] = second[i] + counts[i] * values[i] * values[i]
    best = np.empty(n + 1)
    best[0] = 0.0
    for end in range(1, n + 1):
        best[end] = _within(weight, first, second, 0, end)
    chosen = np.zeros((k, n + 1), np.int64)
    lows, highs = np.empty(n + 2, np.int64), np.empty(n + 2, np.int64)
    froms, tos = np.empty(n + 2, np.int64), np.empty(n + 2, np.int64)
    for classes in range(1, k):
        after = np.full(n + 1, np.inf)
        top = 0
        lows[0], highs[0], froms[0], tos[0] = classes + 1, n, classes, n - 1
        while top >= 0:
            low, high, begin, end = lows[top], highs[top], froms[top], tos[top]
            top -= 1
            if low > high:
                continue
            middle = (low + high) // 2
            where = begin
            for start in range(begin, min(end, middle - 1) + 1):
                cost = best[start] + _within(weight, first, second, start, middle)
                if cost < after[middle]:
                    after[middle] = cost
                    where = start
            chosen[classes, middle] = where
            top += 1
            lows[top], highs[top], froms[top], tos[top] = low, middle - 1, begin, where
            top += 1
            lows[top], highs[top], froms[top], tos[top] = middle + 1, high, where, end
        best = after
    borders = np.empty(k - 1, np.int64)
    end = n
    for classes in range(k - 1, 0, -1):
        end = chosen[classes, end]
        borders[classes - 1] = end - 1
    return borders


@numba.njit(nogil=True, cache=True)
def _within(weight: Any, first: Any, second: Any, start: int, end: int) -> Any:
    """Squared deviation from their mean of the levels start … end − 1."""
    w, f = weight[end] - weight[start], first[end] - first[start]
    return second[end] - second[start] - f * f / w

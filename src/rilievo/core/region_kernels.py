"""Loops over label images and histograms that NumPy and SciPy have no fast form for.

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
def _root(parents: Any, node: int) -> Any:
    """The root of a node, with the way to it halved."""
    while parents[node] != node:
        parents[node] = parents[parents[node]]
        node = parents[node]
    return node


@numba.njit(nogil=True, cache=True)
def _kind(value: Any, distinct: bool) -> Any:
    """What a pixel must share with its neighbour to be connected; 0 or less is outside."""
    if value <= 0:
        return np.int32(value)
    return np.int32(value) if distinct else np.int32(1)


@numba.njit(nogil=True, cache=True)
def connect(classes: NDArray[Any], eight: bool, distinct: bool, labels: NDArray[Any]) -> Any:
    """Number the connected parts above 0 from 1, in row order of their first pixels.

    classes : shape (h, w), integers. distinct : whether only equal numbers connect. labels :
    filled, int32; numbers below 0 are taken over. Returns the count.
    """
    height, width = classes.shape
    parents = np.empty(1024, np.int32)
    parents[0] = 0
    used = 1
    for y in range(height):
        x = 0
        while x < width:
            kind = _kind(classes[y, x], distinct)
            if kind <= 0:
                labels[y, x] = kind
                x += 1
                continue
            start = x
            while x < width and _kind(classes[y, x], distinct) == kind:
                x += 1
            mine = 0
            if y > 0:
                above = start - 1 if eight and start > 0 else start
                last = x if eight and x < width else x - 1
                while above <= last:
                    if _kind(classes[y - 1, above], distinct) == kind:
                        other = _root(parents, labels[y - 1, above])
                        if mine == 0:
                            mine = other
                        elif other != mine:
                            low, high = min(mine, other), max(mine, other)
                            parents[high] = low
                            mine = low
                        while above <= last and _kind(classes[y - 1, above], distinct) == kind:
                            above += 1
                    else:
                        above += 1
            if mine == 0:
                if used == parents.shape[0]:
                    larger = np.empty(2 * used, np.int32)
                    larger[:used] = parents
                    parents = larger
                parents[used] = used
                mine = used
                used += 1
            for k in range(start, x):
                labels[y, k] = mine
    # A root is the lowest of its part, which was numbered at its first pixel.
    numbers = np.zeros(used, np.int32)
    count = 0
    for node in range(1, used):
        root = _root(parents, node)
        if root == node:
            count += 1
            numbers[node] = count
        else:
            numbers[node] = numbers[root]
    for y in range(height):
        for x in range(width):
            if labels[y, x] > 0:
                labels[y, x] = numbers[labels[y, x]]
    return count


@numba.njit(nogil=True, cache=True)
def fill_enclosed(labels: NDArray[Any], parts: NDArray[Any], count: int, most: float) -> Any:
    """Give each part of the background that no border reaches to the region on its left.

    parts : the background's parts, numbered from 1. most : pixels of the largest hole filled.
    Returns how many pixels were filled.
    """
    height, width = labels.shape
    areas = np.zeros(count + 1, np.int64)
    owners = np.zeros(count + 1, np.int32)
    for y in range(height):
        for x in range(width):
            part = parts[y, x]
            if part == 0:
                continue
            if y in (0, height - 1) or x in (0, width - 1):
                owners[part] = -1
            elif areas[part] == 0 and owners[part] == 0:
                # The pixel left of the first pixel in row order is never of the background.
                owners[part] = labels[y, x - 1]
            areas[part] += 1
    filled = 0
    for y in range(height):
        for x in range(width):
            part = parts[y, x]
            if part and owners[part] > 0 and areas[part] <= most:
                labels[y, x] = owners[part]
                filled += 1
    return filled


@numba.njit(nogil=True, cache=True)
def depth_squared(labels: NDArray[Any], result: NDArray[Any]) -> None:
    """Fill in the squared distance from each pixel of a region to the nearest of another label.

    Beyond the image's border everything counts as the same region. result : float32.
    Source: Felzenszwalb & Huttenlocher 2012, Theory of Computing 8, 415–428.
    """
    height, width = labels.shape
    far = np.float32(height + width) ** 2
    for x in range(width):
        result[0, x] = far if labels[0, x] > 0 else 0
    for y in range(1, height):
        for x in range(width):
            here = labels[y, x]
            if here <= 0:
                result[y, x] = 0
            elif labels[y - 1, x] != here:
                result[y, x] = 1
            else:
                above = result[y - 1, x]
                result[y, x] = far if above >= far else (np.sqrt(above) + 1) ** 2
    for y in range(height - 2, -1, -1):
        for x in range(width):
            here = labels[y, x]
            if here <= 0:
                continue
            if labels[y + 1, x] != here:
                result[y, x] = 1
            else:
                below = result[y + 1, x]
                if below < far:
                    result[y, x] = min(result[y, x], np.round((np.sqrt(below) + 1) ** 2))
    heights = np.empty(width + 2, np.float64)
    places = np.empty(width + 2, np.int64)
    borders = np.empty(width + 2, np.float64)
    for y in range(height):
        x = 0
        while x < width:
            here = labels[y, x]
            if here <= 0:
                x += 1
                continue
            start = x
            while x < width and labels[y, x] == here:
                x += 1
            # Parabolas of the run, and of the pixels beside it, which are of another label.
            first = start - 1 if start > 0 else start
            last = x if x < width else x - 1
            top = -1
            for q in range(first, last + 1):
                value = np.float64(result[y, q]) if start <= q < x else 0.0
                border = -np.inf
                while top >= 0:
                    p = places[top]
                    border = ((value + q * q) - (heights[top] + p * p)) / (2.0 * (q - p))
                    if border > borders[top]:
                        break
                    top -= 1
                top += 1
                heights[top], places[top] = value, q
                borders[top] = border if top else -np.inf
            k = 0
            for q in range(start, x):
                while k < top and borders[k + 1] < q:
                    k += 1
                result[y, q] = heights[k] + (q - places[k]) ** 2


@numba.njit(nogil=True, cache=True)
def grow_labels(labels: NDArray[Any], radius: float, result: NDArray[Any]) -> None:
    """Fill in the labels grown by `radius`: each pixel goes to the nearest region, lowest on a tie.

    result : int32, shape of `labels`.
    """
    height, width = labels.shape
    reach = int(np.floor(radius))
    best = np.full((height, width), np.float32(np.inf), np.float32)
    for y in range(height):
        for x in range(width):
            result[y, x] = labels[y, x]
    for y in range(height):
        for x in range(width):
            here = labels[y, x]
            if here <= 0:
                continue
            inner = (
                0 < y < height - 1
                and 0 < x < width - 1
                and labels[y - 1, x] > 0
                and labels[y + 1, x] > 0
                and labels[y, x - 1] > 0
                and labels[y, x + 1] > 0
            )
            if inner:
                continue
            for dy in range(-reach, reach + 1):
                v = y + dy
                if v < 0 or v >= height:
                    continue
                wide = int(np.floor(np.sqrt(radius * radius - dy * dy)))
                for u in range(max(0, x - wide), min(width, x + wide + 1)):
                    if labels[v, u] > 0:
                        continue
                    away = np.float32(dy * dy + (u - x) * (u - x))
                    if away < best[v, u] or (away == best[v, u] and here < result[v, u]):
                        best[v, u] = away
                        result[v, u] = here


@numba.njit(nogil=True, cache=True)
def part_by_peaks(
    labels: NDArray[Any],
    order: NDArray[Any],
    heights: NDArray[Any],
    eight: bool,
    ratio: float,
    floor: float,
    least: float,
    result: NDArray[Any],
) -> Any:
    """Split regions where heights meet in a saddle, by flooding from the peaks downwards.

    order : flat pixels of all regions, highest first. heights : shape of `labels`. Two parts that
    meet at height s become one when s − floor ≥ ratio · (lower peak − floor), or when the lower
    peak rises less than `least` above s. result : int32, filled with numbers from 1. Returns how
    many parts there are.
    Source: persistence of peaks as in Beucher & Meyer 1993, Mathematical Morphology in Image
    Processing, 433–481.
    """
    height, width = labels.shape
    result[:] = 0
    parents = np.empty(1024, np.int32)
    peaks = np.empty(1024, np.float64)
    parents[0] = 0
    used = 1
    around = 8 if eight else 4
    down = np.array([-1, 1, 0, 0, -1, -1, 1, 1])
    right = np.array([0, 0, -1, 1, -1, 1, -1, 1])
    for k in range(order.shape[0]):
        y, x = order[k] // width, order[k] % width
        value = heights[y, x]
        mine, nearest = 0, -np.inf
        for side in range(around):
            v, u = y + down[side], x + right[side]
            if v < 0 or u < 0 or v >= height or u >= width:
                continue
            if result[v, u] == 0 or labels[v, u] != labels[y, x]:
                continue
            other = _root(parents, result[v, u])
            if mine == 0:
                mine = other
                nearest = heights[v, u]
            elif other != mine:
                low = other if peaks[other] < peaks[mine] else mine
                high = mine if low == other else other
                if value - floor >= ratio * (peaks[low] - floor) or peaks[low] - value < least:
                    parents[low] = high
                    mine = high
                elif heights[v, u] > nearest:
                    # Of two parts that stay apart the pixel goes to the one that rises steeper.
                    mine = other
                nearest = max(nearest, heights[v, u])
        if mine == 0:
            if used == parents.shape[0]:
                more = np.empty(2 * used, np.int32)
                more[:used] = parents
                parents = more
                tops = np.empty(2 * used, np.float64)
                tops[:used] = peaks
                peaks = tops
            parents[used] = used
            peaks[used] = value
            mine = used
            used += 1
        result[y, x] = mine
    numbers = np.zeros(used, np.int32)
    count = 0
    for y in range(height):
        for x in range(width):
            if result[y, x]:
                root = _root(parents, result[y, x])
                if numbers[root] == 0:
                    count += 1
                    numbers[root] = count
                result[y, x] = numbers[root]
    return count


@numba.njit(nogil=True, cache=True)
def count_by_level(
    places: NDArray[Any],
    order: NDArray[Any],
    values: NDArray[Any],
    steps: int,
    eight: bool,
    smallest: float,
    largest: float,
) -> Any:
    """Return count, area and summed value of the regions kept at each of `steps` thresholds.

    places : flat, how many thresholds each pixel is kept by. order : flat pixels sorted by
    falling place. Pixels join region by region as the threshold falls, so that all thresholds
    cost one pass. smallest, largest : pixels of the regions that count. Shape (steps, 3).
    """
    height, width = values.shape
    result = np.zeros((steps, 3), np.float64)
    parents = np.full(height * width, -1, np.int32)
    areas = np.zeros(height * width, np.float64)
    sums = np.zeros(height * width, np.float64)
    count, area, total = 0.0, 0.0, 0.0
    around = 8 if eight else 4
    down = np.array([-1, 1, 0, 0, -1, -1, 1, 1])
    right = np.array([0, 0, -1, 1, -1, 1, -1, 1])
    k = 0
    for step in range(steps - 1, -1, -1):
        while k < order.shape[0] and places[order[k]] > step:
            pixel = order[k]
            k += 1
            y, x = pixel // width, pixel % width
            parents[pixel] = pixel
            areas[pixel] = 1.0
            sums[pixel] = values[y, x]
            root = pixel
            joined, joined_area, joined_sum = 0.0, 0.0, 0.0
            for side in range(around):
                v, u = y + down[side], x + right[side]
                if v < 0 or u < 0 or v >= height or u >= width:
                    continue
                if parents[v * width + u] < 0:
                    continue
                other = _root(parents, v * width + u)
                if other == root:
                    continue
                if smallest <= areas[other] <= largest:
                    joined += 1
                    joined_area += areas[other]
                    joined_sum += sums[other]
                if areas[other] > areas[root]:
                    root, other = other, root
                parents[other] = root
                areas[root] += areas[other]
                sums[root] += sums[other]
            count -= joined
            area -= joined_area
            total -= joined_sum
            if smallest <= areas[root] <= largest:
                count += 1
                area += areas[root]
                total += sums[root]
        result[step, 0] = count
        result[step, 1] = area
        result[step, 2] = total
    return result


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

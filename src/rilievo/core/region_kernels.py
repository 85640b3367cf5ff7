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
def _count_runs(classes: NDArray[Any], distinct: bool) -> Any:
    """How many stretches above 0 the rows have. Arrays that grow within a loop cost far more."""
    count = 0
    for y in range(classes.shape[0]):
        row = classes[y]
        before = row[0] * 0
        for x in range(row.shape[0]):
            here = row[x]
            if here > 0 and (before <= 0 or (distinct and here != before)):
                count += 1
            before = here
    return count


@numba.njit(nogil=True, cache=True)
def connect(classes: NDArray[Any], eight: bool, distinct: bool, labels: NDArray[Any]) -> Any:
    """Number the connected parts above 0 from 1, in row order of their first pixels.

    classes : shape (h, w), integers. distinct : whether only equal numbers connect. labels :
    zeros, int32, filled; numbers below 0 are taken over. Returns the count. Works on the runs of
    each row and those of the row above (a disjoint-set forest), so that pixels are read once.
    """
    height, width = classes.shape
    room = max(_count_runs(classes, distinct), 1)
    starts, ends = np.empty(room, np.int32), np.empty(room, np.int32)
    kinds, parents = np.empty(room, np.int32), np.empty(room, np.int32)
    rows = np.empty(height + 1, np.int64)
    reach = 1 if eight else 0
    used = 0
    above, last_above = 0, 0
    for y in range(height):
        rows[y] = used
        first = used
        candidate = above
        x = 0
        while x < width:
            kind = np.int32(classes[y, x])
            if kind <= 0:
                if kind < 0:
                    labels[y, x] = kind
                x += 1
                continue
            start = x
            if distinct:
                while x < width and classes[y, x] == kind:
                    x += 1
            else:
                kind = np.int32(1)
                while x < width and classes[y, x] > 0:
                    x += 1
            starts[used], ends[used], kinds[used], parents[used] = start, x, kind, used
            # Runs above that end before this one begins are behind those of later ones too.
            while candidate < last_above and ends[candidate] + reach <= start:
                candidate += 1
            other = candidate
            mine = used
            while other < last_above and starts[other] < x + reach:
                if kinds[other] == kind:
                    root, own = _root(parents, other), _root(parents, mine)
                    if root < own:
                        parents[own] = root
                    elif own < root:
                        parents[root] = own
                other += 1
            used += 1
        above, last_above = first, used
    rows[height] = used
    # A root is the first run of its part.
    numbers = np.empty(max(used, 1), np.int32)
    count = 0
    for run in range(used):
        root = _root(parents, run)
        if root == run:
            count += 1
            numbers[run] = count
        else:
            numbers[run] = numbers[root]
    for y in range(height):
        for run in range(rows[y], rows[y + 1]):
            number = numbers[run]
            for x in range(starts[run], ends[run]):
                labels[y, x] = number
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
    far = np.float32(1e12)
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
    parents = np.empty(order.shape[0] + 1, np.int32)
    peaks = np.empty(order.shape[0] + 1, np.float32)
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


@numba.njit(nogil=True, cache=True)
def paint_edges(
    picture: NDArray[Any], labels: NDArray[Any], colours: NDArray[Any], chosen: NDArray[Any]
) -> None:
    """Outline regions in a picture: their own edge pixels, and a halo in the pixels beside.

    picture : uint32, shape of `labels`. colours : line, halo, left out, selected; 0 paints none.
    chosen : sorted numbers of selected regions; their outline is two pixels wide.
    """
    height, width = labels.shape
    line, halo, left_out, selected = colours
    for y in range(height):
        for x in range(width):
            here = labels[y, x]
            if here == 0 or not _is_edge(labels, y, x, here):
                continue
            if here < 0:
                if left_out:
                    picture[y, x] = left_out
                continue
            picture[y, x] = line
            if halo:
                for v in range(max(y - 1, 0), min(y + 2, height)):
                    for u in range(max(x - 1, 0), min(x + 2, width)):
                        if labels[v, u] == 0:
                            picture[v, u] = halo
    if chosen.shape[0] == 0:
        return
    for y in range(height):
        for x in range(width):
            here = labels[y, x]
            if here <= 0 or not _is_edge(labels, y, x, here) or not _is_in(chosen, here):
                continue
            picture[y, x] = selected
            for v in range(max(y - 1, 0), min(y + 2, height)):
                for u in range(max(x - 1, 0), min(x + 2, width)):
                    if labels[v, u] != here and not _is_in(chosen, labels[v, u]):
                        picture[v, u] = selected


@numba.njit(nogil=True, cache=True)
def _is_edge(labels: NDArray[Any], y: int, x: int, here: int) -> Any:
    """Whether a pixel has another label beside, above or below it."""
    return (
        (y > 0 and labels[y - 1, x] != here)
        or (y < labels.shape[0] - 1 and labels[y + 1, x] != here)
        or (x > 0 and labels[y, x - 1] != here)
        or (x < labels.shape[1] - 1 and labels[y, x + 1] != here)
    )


@numba.njit(nogil=True, cache=True)
def _is_in(ordered: NDArray[Any], value: int) -> Any:
    k = np.searchsorted(ordered, value)
    return k < ordered.shape[0] and ordered[k] == value


@numba.njit(nogil=True, cache=True)
def form_of(
    xs: NDArray[Any], ys: NDArray[Any], starts: NDArray[Any], height: int, width: int
) -> Any:
    """Return form of regions: filled area, holes, perimeter, convex area, widths, touches edge.

    xs, ys : pixels grouped by region, row order within each. starts : first pixel of each region,
    and the end. Shape (n, 7): filled, holes, perimeter, convex, longest, narrowest, edge.
    """
    count = starts.shape[0] - 1
    result = np.zeros((count, 7))
    for k in range(count):
        first, end = starts[k], starts[k + 1]
        if first == end:
            continue
        x, y = xs[first:end], ys[first:end]
        left, right, top, bottom = x.min(), x.max(), y[0], y[-1]
        high, wide = bottom - top + 3, right - left + 3
        mask = np.zeros((high, wide), np.uint8)
        for i in range(x.shape[0]):
            mask[y[i] - top + 1, x[i] - left + 1] = 1
        holes, filled = _holes(mask)
        result[k, 0], result[k, 1] = x.shape[0] + filled, holes
        result[k, 2] = _traced(mask, x[0] - left + 1)
        result[k, 3], result[k, 4], result[k, 5] = _hull(mask)
        reaches = left == 0 or top == 0 or right == width - 1 or bottom == height - 1
        result[k, 6] = 1.0 if reaches else 0.0
    return result


@numba.njit(nogil=True, cache=True)
def _holes(mask: NDArray[Any]) -> Any:
    """Number of background parts (4 neighbours) that the rim does not reach, and their pixels."""
    height, width = mask.shape
    seen = mask.copy()
    stack = np.empty((height * width, 2), np.int32)
    holes, pixels = 0, 0
    for y in range(height):
        for x in range(width):
            if seen[y, x]:
                continue
            size, area = 1, 0
            stack[0, 0], stack[0, 1] = y, x
            seen[y, x] = 1
            while size > 0:
                size -= 1
                v, u = stack[size, 0], stack[size, 1]
                area += 1
                for dv, du in ((-1, 0), (1, 0), (0, -1), (0, 1)):
                    a, b = v + dv, u + du
                    if 0 <= a < height and 0 <= b < width and not seen[a, b]:
                        seen[a, b] = 1
                        stack[size, 0], stack[size, 1] = a, b
                        size += 1
            # The first part found is the outside: the rim of the mask is empty.
            if y or x:
                holes += 1
                pixels += area
    return holes, pixels


@numba.njit(nogil=True, cache=True)
def _traced(mask: NDArray[Any], start: int) -> Any:
    """Length of the outer boundary of the part with the mask's first pixel, in row 1."""
    down = np.array([0, 1, 1, 1, 0, -1, -1, -1])
    right = np.array([1, 1, 0, -1, -1, -1, 0, 1])
    y, x, heading = 1, start, 7
    straight, diagonal, turns = 0, 0, 0
    first, before = -1, -1
    begin_y, begin_x = y, x
    while True:
        found = -1
        # The next boundary pixel, looked for from behind the way one came.
        for k in range(8):
            way = (heading + 5 + k) % 8 if heading >= 0 else k
            if mask[y + down[way], x + right[way]]:
                found = way
                break
        if found < 0:
            return np.pi
        if y == begin_y and x == begin_x and first == found:
            if before != found:
                turns += 1
            break
        if first < 0:
            first = found
        elif before != found:
            turns += 1
        if found % 2:
            diagonal += 1
        else:
            straight += 1
        y, x = y + down[found], x + right[found]
        before = heading = found
    return 0.980 * straight + 1.406 * diagonal - 0.091 * turns + np.pi


@numba.njit(nogil=True, cache=True)
def _hull(mask: NDArray[Any]) -> Any:
    """Area, largest and smallest width of the convex hull of the pixel squares."""
    height, width = mask.shape
    points = np.empty((4 * height, 2))
    size = 0
    # Corners of the outermost squares of each row, by rising y and then x.
    for edge in range(1, height):
        low, high = width, -1
        for y in (edge - 1, edge):
            for x in range(width):
                if mask[y, x]:
                    low = min(low, x)
                    high = max(high, x)
        if high >= 0:
            points[size, 0], points[size, 1] = low - 0.5, edge - 0.5
            points[size + 1, 0], points[size + 1, 1] = high + 0.5, edge - 0.5
            size += 2
    hull = np.empty((2 * size + 2, 2))
    used = 0
    for half in range(2):
        floor = used + 1 if half else 1
        for k in range(size):
            p = points[k] if half == 0 else points[size - 1 - k]
            while used > floor and _turn(hull[used - 2], hull[used - 1], p) <= 0:
                used -= 1
            if half == 1 and k == 0:
                continue
            hull[used] = p
            used += 1
    used -= 1
    area, longest, narrowest = 0.0, 0.0, np.inf
    for i in range(used):
        p, q = hull[i], hull[(i + 1) % used]
        area += p[0] * q[1] - q[0] * p[1]
        length = np.hypot(q[0] - p[0], q[1] - p[1])
        far = 0.0
        for j in range(used):
            r = hull[j]
            longest = max(longest, np.hypot(r[0] - p[0], r[1] - p[1]))
            if length > 0:
                away = abs((q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0]))
                far = max(far, away / length)
        if length > 0:
            narrowest = min(narrowest, far)
    return abs(area) / 2, longest, narrowest


@numba.njit(nogil=True, cache=True)
def _turn(a: Any, b: Any, c: Any) -> Any:
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])

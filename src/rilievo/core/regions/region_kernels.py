"""Loops over label images: connect, fill, measure depth, grow, split, count by level.

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
    positions = np.empty(width + 2, np.int64)
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
                    p = positions[top]
                    border = ((value + q * q) - (heights[top] + p * p)) / (2.0 * (q - p))
                    if border > borders[top]:
                        break
                    top -= 1
                top += 1
                heights[top], positions[top] = value, q
                borders[top] = border if top else -np.inf
            k = 0
            for q in range(start, x):
                while k < top and borders[k + 1] < q:
                    k += 1
                result[y, q] = heights[k] + (q - positions[k]) ** 2


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
        mine, nearest, joins = 0, -np.inf, False
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
                    mine, joins = high, True
                elif heights[v, u] > nearest and not joins:
                    # Of two parts that stay apart the pixel goes to the one that rises steeper,
                    # unless it is what joins others.
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
    positions: NDArray[Any],
    order: NDArray[Any],
    values: NDArray[Any],
    steps: int,
    eight: bool,
    smallest: float,
    largest: float,
) -> Any:
    """Return count, area and summed value of the regions kept at each of `steps` thresholds.

    positions : flat, how many thresholds each pixel is kept by. order : flat pixels sorted by
    falling position. Pixels join region by region as the threshold falls, so that all thresholds
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
        while k < order.shape[0] and positions[order[k]] > step:
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

"""Loops along the outline of regions: holes, perimeter, convex hull.

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

FORM = (
    "filled", "holes", "perimeter", "convex", "longest", "narrowest", "edge",
    "x", "y", "xx", "yy", "xy", "left", "top", "right", "bottom",
)  # fmt: skip


@numba.njit(nogil=True, cache=True)
def form_of(pixels: NDArray[Any], starts: NDArray[Any], height: int, width: int) -> Any:
    """Return per region what FORM names, shape (n, 16).

    pixels : flat positions grouped by region, row order within each. starts : first pixel of each
    region, and the end. xx, yy and xy are central second moments, each pixel a unit square, which
    adds 1/12 along each axis.
    """
    count = starts.shape[0] - 1
    result = np.full((count, 16), np.nan)
    for k in range(count):
        first, end = starts[k], starts[k + 1]
        n = end - first
        if n == 0:
            continue
        top, bottom = pixels[first] // width, pixels[end - 1] // width
        left, right = width, 0
        total_x = total_y = 0
        for i in range(first, end):
            y, x = divmod(pixels[i], width)
            left, right = min(left, x), max(right, x)
            total_x += x
            total_y += y
        cx, cy = total_x / n, total_y / n
        high, wide = bottom - top + 3, right - left + 3
        mask = np.zeros((high, wide), np.uint8)
        xx = yy = xy = 0.0
        for i in range(first, end):
            y, x = divmod(pixels[i], width)
            mask[y - top + 1, x - left + 1] = 1
            xx += (x - cx) ** 2
            yy += (y - cy) ** 2
            xy += (x - cx) * (y - cy)
        holes, filled = _holes(mask)
        result[k, 0], result[k, 1] = n + filled, holes
        result[k, 2] = _traced(mask, pixels[first] % width - left + 1)
        result[k, 3], result[k, 4], result[k, 5] = _hull(mask)
        reaches = left == 0 or top == 0 or right == width - 1 or bottom == height - 1
        result[k, 6] = 1.0 if reaches else 0.0
        result[k, 7], result[k, 8] = cx, cy
        result[k, 9], result[k, 10], result[k, 11] = xx / n + 1 / 12, yy / n + 1 / 12, xy / n
        result[k, 12], result[k, 13], result[k, 14], result[k, 15] = left, top, right, bottom
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
    # First and last pixel of each row; the rim has none.
    ends = np.empty((height, 2), np.int64)
    for y in range(height):
        low, high = 0, width - 1
        while low < width and not mask[y, low]:
            low += 1
        while high >= low and not mask[y, high]:
            high -= 1
        ends[y, 0], ends[y, 1] = low, high if low < width else -1
    # Corners of the outermost squares at each edge between rows, by rising y and then x.
    for edge in range(1, height):
        low = min(ends[edge - 1, 0], ends[edge, 0])
        high = max(ends[edge - 1, 1], ends[edge, 1]) if low < width else -1
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

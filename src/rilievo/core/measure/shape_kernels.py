"""Loops over the pixels of regions: moments, holes, parts, and what their outline gives.

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

from rilievo.core.measure.outline_kernels import (
    hull_of,
    length_and_area,
    outline_polygon,
    pairs_around,
    taut_string,
    widths_without_noise,
)

PLACES = ("edge", "x", "y", "xx", "yy", "xy", "left", "top", "right", "bottom")
FILLED = ("filled", "holes")
OUTLINES = ("perimeter", "convex", "longest", "narrowest")


@numba.njit(nogil=True, cache=True)
def places_of(pixels: NDArray[Any], starts: NDArray[Any], height: int, width: int) -> Any:
    """Return per region what PLACES names, shape (n, 10), in pixels.

    pixels : flat positions grouped by region, row order within each. starts : first pixel of each
    region, and the end. xx, yy and xy are central second moments, each pixel a unit square, which
    adds 1/12 along each axis.
    """
    count = starts.shape[0] - 1
    result = np.full((count, 10), np.nan)
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
        xx = yy = xy = 0.0
        for i in range(first, end):
            y, x = divmod(pixels[i], width)
            xx += (x - cx) ** 2
            yy += (y - cy) ** 2
            xy += (x - cx) * (y - cy)
        reaches = left == 0 or top == 0 or right == width - 1 or bottom == height - 1
        result[k, 0] = 1.0 if reaches else 0.0
        result[k, 1], result[k, 2] = cx, cy
        result[k, 3], result[k, 4], result[k, 5] = xx / n + 1 / 12, yy / n + 1 / 12, xy / n
        result[k, 6], result[k, 7], result[k, 8], result[k, 9] = left, top, right, bottom
    return result


@numba.njit(nogil=True, cache=True)
def filled_of(pixels: NDArray[Any], starts: NDArray[Any], width: int) -> Any:
    """Return per region what FILLED names: pixels with those of its holes, and number of holes.

    pixels, starts : as for `places_of`.
    """
    count = starts.shape[0] - 1
    result = np.full((count, 2), np.nan)
    for k in range(count):
        own = pixels[starts[k] : starts[k + 1]]
        if own.shape[0]:
            holes, filled = _holes(_mask_of(own, width))
            result[k, 0], result[k, 1] = own.shape[0] + filled, holes
    return result


@numba.njit(nogil=True, cache=True)
def outlines_of(
    pixels: NDArray[Any],
    starts: NDArray[Any],
    filled: NDArray[Any],
    parts: NDArray[Any],
    width: int,
    side_y: float,
    side_x: float,
) -> Any:
    """Return per region what OUTLINES names, shape (n, 4), in the unit of the pixel's sides.

    pixels, starts : as for `places_of`. filled : number of pixels of each region with its holes.
    parts : how many each region has, as `parts_of` counts them.
    """
    count = starts.shape[0] - 1
    result = np.full((count, 4), np.nan)
    for k in range(count):
        own = pixels[starts[k] : starts[k + 1]]
        if own.shape[0]:
            measured = _outlines(_mask_of(own, width), filled[k], parts[k], side_y, side_x)
            result[k, 0], result[k, 1], result[k, 2], result[k, 3] = measured
    return result


@numba.njit(nogil=True, cache=True)
def _mask_of(pixels: NDArray[Any], width: int) -> Any:
    """The pixels of one region as a mask with an empty rim."""
    n = pixels.shape[0]
    top, bottom = pixels[0] // width, pixels[n - 1] // width
    left, right = width, 0
    for i in range(n):
        x = pixels[i] % width
        left, right = min(left, x), max(right, x)
    mask = np.zeros((bottom - top + 3, right - left + 3), np.uint8)
    for i in range(n):
        y, x = divmod(pixels[i], width)
        mask[y - top + 1, x - left + 1] = 1
    return mask


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
def _outlines(mask: NDArray[Any], filled: float, parts: int, side_y: float, side_x: float) -> Any:
    """Perimeter, convex area, largest and smallest width of all parts together.

    The convex area is that of the outline's hull, times the share by which the outlines enclose
    too little or too much of the filled pixels.
    """
    height, width = mask.shape
    # Which pixels belong to parts that were found, where there are several.
    seen = np.zeros((height, width) if parts > 1 else (1, 1), np.uint8)
    stack = np.empty((height * width if parts > 1 else 1, 2), np.int32)
    found = 0
    room, used = 64, 0
    points = np.empty((room, 2))
    perimeter = enclosed = bent = 0.0
    for y in range(height):
        for x in range(width):
            if found == parts or not mask[y, x] or (parts > 1 and seen[y, x]):
                continue
            found += 1
            if parts > 1:
                _mark_part(mask, seen, stack, y, x)
            corners = taut_string(pairs_around(mask, y, x))
            outline = outline_polygon(corners, side_y, side_x)
            length, area, own_bent = length_and_area(outline)
            perimeter += length
            enclosed += area
            bent = max(bent, own_bent)
            while used + outline.shape[0] > room:
                more = np.empty((2 * room, 2))
                more[:used] = points[:used]
                points, room = more, 2 * room
            points[used : used + outline.shape[0]] = outline
            used += outline.shape[0]
    convex, longest, narrowest = hull_of(points[:used])
    pixel = np.sqrt(side_y * side_x)
    longest, narrowest = widths_without_noise(longest / pixel, narrowest / pixel, bent / pixel)
    convex *= filled * side_y * side_x / enclosed
    return perimeter, convex, longest * pixel, narrowest * pixel


@numba.njit(nogil=True, cache=True)
def _mark_part(mask: NDArray[Any], seen: NDArray[Any], stack: NDArray[Any], y: int, x: int) -> None:
    """Mark the part with a pixel, connected by 8 neighbours, as seen; the rim has none."""
    size = 1
    stack[0, 0], stack[0, 1] = y, x
    seen[y, x] = 1
    while size > 0:
        size -= 1
        v, u = stack[size, 0], stack[size, 1]
        for dv in range(-1, 2):
            for du in range(-1, 2):
                a, b = v + dv, u + du
                if mask[a, b] and not seen[a, b]:
                    seen[a, b] = 1
                    stack[size, 0], stack[size, 1] = a, b
                    size += 1


@numba.njit(nogil=True, cache=True)
def parts_of(pixels: NDArray[Any], starts: NDArray[Any], width: int) -> Any:
    """Return how many parts, connected by 8 neighbours, each region has, shape (n,).

    pixels, starts : as for `places_of`. Runs of pixels in a row are joined with those they touch in
    the row above.
    """
    result = np.zeros(starts.shape[0] - 1, np.int64)
    for k in range(result.size):
        first, end = starts[k], starts[k + 1]
        if first == end:
            continue
        runs = 1
        for i in range(first + 1, end):
            if pixels[i] != pixels[i - 1] + 1 or pixels[i] % width == 0:
                runs += 1
        ends = np.empty((runs, 2), np.int64)
        root = np.arange(runs)
        run = -1
        for i in range(first, end):
            if i == first or pixels[i] != pixels[i - 1] + 1 or pixels[i] % width == 0:
                run += 1
                ends[run, 0] = pixels[i]
            ends[run, 1] = pixels[i]
        above, parts = 0, runs
        for run in range(runs):
            # Where the run lies in the row above, one pixel wider to each side.
            left, right = ends[run, 0] - width, ends[run, 1] - width
            row = left // width
            left -= 1 if left % width else 0
            right += 1 if right % width < width - 1 else 0
            while above < run and ends[above, 1] < left:
                above += 1
            other = above
            while other < run and ends[other, 0] <= right:
                if ends[other, 0] // width == row and _join(root, run, other):
                    parts -= 1
                other += 1
        result[k] = parts
    return result


@numba.njit(nogil=True, cache=True)
def _join(root: NDArray[Any], a: int, b: int) -> bool:
    """Make two runs one part; return whether they were not yet."""
    while root[a] != a:
        root[a] = root[root[a]]
        a = root[a]
    while root[b] != b:
        root[b] = root[root[b]]
        b = root[b]
    root[a] = b
    return bool(a != b)

"""The smooth outline of a digitised shape: a polygon from which perimeter, hull and widths come.

Around a shape runs a chain of pairs of neighbours, one inside and one outside. The tightest loop
between them (a taut string) has its corners at pixel centres; a straight edge of it lies on a line
of the lattice, and the true edge anywhere between that line and the next one outside. The outline
is half-way between the two, which favours neither side in any direction. Polygons are in the
units of the pixel's sides, which need not be alike.

Compiled once and kept on disk; each releases the interpreter lock.
Source of the taut string as a digital length: Sloboda, Zaťko & Stoer 1998, On approximation of
planar one-dimensional continua, in Advances in Digital and Computational Geometry, 113–160.
"""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

# Weights of what a corner that is cut short lacks, by regression over synthetic discs and turned
# rectangles (docs/accuracy.md).
_LACK_SMALL, _LACK_ALL, _SMALL = -0.53, 0.41, 0.4
# How much too far apart noise puts the widest directions of a round outline, and the narrowest.
_WIDER, _NARROWER, _ROUND, _SLIGHT, _ROUNDEST = 0.13, 0.05, 2.0, 0.1, 5.0


@numba.njit(nogil=True, cache=True)
def pairs_around(mask: NDArray[Any], y: int, x: int) -> Any:
    """Return the pairs (y, x inside; y, x outside) clockwise around a part, shape (n, 4).

    mask : with an empty rim. y, x : the part's first pixel in row order. Parts are connected by 8
    neighbours.
    """
    down, right = np.array([-1, 0, 1, 0]), np.array([0, 1, 0, -1])
    start_y, start_x, way = y, x, 0
    count, room = 0, 64
    found = np.empty((room, 4), np.int64)
    while True:
        if count == room:
            more = np.empty((2 * room, 4), np.int64)
            more[:room] = found
            found, room = more, 2 * room
        found[count, 0], found[count, 1] = y, x
        found[count, 2], found[count, 3] = y + down[way], x + right[way]
        count += 1
        ahead = (way + 1) % 4
        if mask[y + down[way] + down[ahead], x + right[way] + right[ahead]]:
            y, x = y + down[way] + down[ahead], x + right[way] + right[ahead]
            way = (way + 3) % 4
        elif mask[y + down[ahead], x + right[ahead]]:
            y, x = y + down[ahead], x + right[ahead]
        else:
            way = ahead
        if y == start_y and x == start_x and way == 0:
            return found[:count]


@numba.njit(nogil=True, cache=True)
def _side(ay: Any, ax: Any, by: Any, bx: Any, cy: Any, cx: Any) -> Any:
    """Above 0 where c lies to the right of the way from a to b, seen on screen."""
    return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)


@numba.njit(nogil=True, cache=True)
def taut_string(pairs: NDArray[Any]) -> Any:
    """Return the corners (y, x, 0 inside or 1 outside) of the shortest loop through all pairs.

    From corner to corner, as far as one sees between the inner points (to the right) and the
    outer ones (to the left).
    """
    n = pairs.shape[0]
    corners = np.empty((4 * n + 4, 3), np.int64)
    ay, ax = pairs[0, 0], pairs[0, 1]
    corners[0, 0], corners[0, 1], corners[0, 2] = ay, ax, 0
    count = 1
    ry, rx, right_at = ay, ax, 0
    ly, lx, left_at = ay, ax, 0
    i = 1
    while i <= n:
        if i < n:
            iy, ix, oy, ox = pairs[i, 0], pairs[i, 1], pairs[i, 2], pairs[i, 3]
        else:
            iy, ix, oy, ox = pairs[0, 0], pairs[0, 1], pairs[0, 0], pairs[0, 1]
        right_free, left_free = ry == ay and rx == ax, ly == ay and lx == ax
        if right_free or _side(ay, ax, ry, rx, iy, ix) <= 0:
            if right_free or left_free or _side(ay, ax, ly, lx, iy, ix) > 0:
                ry, rx, right_at = iy, ix, i
            else:
                # The inner side has crossed the outer one: the string bends around that.
                ay, ax, i = ly, lx, left_at
                corners[count, 0], corners[count, 1], corners[count, 2] = ay, ax, 1
                count += 1
                ry, rx, right_at, ly, lx = ay, ax, i, ay, ax
                i += 1
                continue
        right_free = ry == ay and rx == ax
        if left_free or _side(ay, ax, ly, lx, oy, ox) >= 0:
            if left_free or right_free or _side(ay, ax, ry, rx, oy, ox) < 0:
                ly, lx, left_at = oy, ox, i
            else:
                ay, ax, i = ry, rx, right_at
                corners[count, 0], corners[count, 1], corners[count, 2] = ay, ax, 0
                count += 1
                ry, rx, ly, lx, left_at = ay, ax, ay, ax, i
                i += 1
                continue
        i += 1
    kept = 0
    for j in range(count):
        if kept and corners[j, 0] == corners[kept - 1, 0] and corners[j, 1] == corners[kept - 1, 1]:
            continue
        corners[kept] = corners[j]
        kept += 1
    while (
        kept > 1 and corners[kept - 1, 0] == corners[0, 0] and corners[kept - 1, 1] == corners[0, 1]
    ):
        kept -= 1
    return corners[:kept]


@numba.njit(nogil=True, cache=True)
def _divisor(a: int, b: int) -> int:
    while b:
        a, b = b, a % b
    return a


@numba.njit(nogil=True, cache=True)
def outline_polygon(corners: NDArray[Any], side_y: float, side_x: float) -> Any:
    """Return the outline, shape (n, 2) as (y, x) times the sides, from the corners of the string.

    Each edge is moved half-way to the next line of the lattice on the other side; where the
    string turns sharply, the edges of the corner's pixel bound it.
    """
    n = corners.shape[0]
    outline = np.empty((6 * n + 8, 2))
    count = 0
    if n == 1:
        for part in range(4):
            outline[part, 0] = (corners[0, 0] + (-0.5 if part < 2 else 0.5)) * side_y
            outline[part, 1] = (corners[0, 1] + (0.5 if part in (1, 2) else -0.5)) * side_x
        return outline[:4]
    lines = np.empty((6, 3))
    for j in range(n):
        p, c, q = corners[(j + n - 1) % n], corners[j], corners[(j + 1) % n]
        by, bx, ay, ax = c[0] - p[0], c[1] - p[1], q[0] - c[0], q[1] - c[1]
        before, after = _divisor(abs(by), abs(bx)), _divisor(abs(ay), abs(ax))
        sign = 1.0 if c[2] == 0 else -1.0
        # A line is ny · y + nx · x = s about the corner; neighbours of the lattice differ by 1.
        lines[0, 0], lines[0, 1] = -bx / before, by / before
        lines[0, 2] = 0.5 * (1 - p[2] - c[2])
        s_after = 0.5 * (1 - c[2] - q[2])
        used = _with_square_sides(lines, -ax / after, ay / after, s_after, sign)
        long_before, long_after = np.hypot(by, bx), np.hypot(ay, ax)
        for u in range(used - 1):
            det = lines[u, 0] * lines[u + 1, 1] - lines[u, 1] * lines[u + 1, 0]
            if abs(det) < 1e-12:
                # One line goes on in the next.
                size = lines[u, 0] ** 2 + lines[u, 1] ** 2
                s = (lines[u, 2] + lines[u + 1, 2]) / 2 / size
                y, x = lines[u, 0] * s, lines[u, 1] * s
            else:
                y = (lines[u, 2] * lines[u + 1, 1] - lines[u, 1] * lines[u + 1, 2]) / det
                x = (lines[u, 0] * lines[u + 1, 2] - lines[u, 2] * lines[u + 1, 0]) / det
            far = max(abs(y), abs(x))
            beyond = (y * by + x * bx) / long_before
            ahead = -(y * ay + x * ax) / long_after
            if far > 1 and (
                beyond > max(1.0, long_before / 2)
                or ahead > max(1.0, long_after / 2)
                or beyond < -long_before / 2
                or ahead < -long_after / 2
            ):
                # Two lines that hardly differ meet too far away to be a corner here.
                y, x = y / far, x / far
            outline[count, 0], outline[count, 1] = (c[0] + y) * side_y, (c[1] + x) * side_x
            count += 1
    return outline[:count]


@numba.njit(nogil=True, cache=True)
def _with_square_sides(lines: NDArray[Any], ny: float, nx: float, s: float, sign: float) -> int:
    """Fill in the lines about a corner from the first to (ny, nx, s); return their number.

    Between them stand the sides of the corner's pixel that cut off where the two would meet, or
    all of them where the string turns back.
    """
    begin, end = np.arctan2(lines[0, 0], lines[0, 1]), np.arctan2(ny, nx)
    span = (sign * (end - begin)) % (2 * np.pi)
    used = 1
    if 1e-9 < span < 2 * np.pi - 1e-9:
        y = x = np.inf
        det = lines[0, 0] * nx - lines[0, 1] * ny
        meet = span < np.pi - 1e-9
        if meet:
            y = (lines[0, 2] * nx - lines[0, 1] * s) / det
            x = (lines[0, 0] * s - lines[0, 2] * ny) / det
        quarter = np.pi / 2
        turns = np.floor(sign * begin / quarter + 1e-9) + 1
        while turns * quarter < sign * begin + span - 1e-9 and used < 5:
            down, right = np.sin(sign * turns * quarter), np.cos(turns * quarter)
            if not meet or sign * (down * y + right * x) > 0.5 + 1e-9:
                lines[used, 0], lines[used, 1], lines[used, 2] = down, right, 0.5 * sign
                used += 1
            turns += 1
    lines[used, 0], lines[used, 1], lines[used, 2] = ny, nx, s
    # A line that leaves the square through another side does not reach this one.
    while used > 2 and _meet_outside(lines[0], lines[1]):
        lines[1:used] = lines[2 : used + 1].copy()
        used -= 1
    while used > 2 and _meet_outside(lines[used - 1], lines[used]):
        lines[used - 1] = lines[used]
        used -= 1
    return used + 1


@numba.njit(nogil=True, cache=True)
def _meet_outside(first: NDArray[Any], second: NDArray[Any]) -> bool:
    """Whether two lines about a corner, one a side of its pixel, meet outside the pixel."""
    det = first[0] * second[1] - first[1] * second[0]
    if abs(det) < 1e-12:
        return True
    y = (first[2] * second[1] - first[1] * second[2]) / det
    x = (first[0] * second[2] - first[2] * second[0]) / det
    return bool(max(abs(y), abs(x)) > 0.5 + 1e-9)


@numba.njit(nogil=True, cache=True)
def length_and_area(outline: NDArray[Any]) -> Any:
    """Return the length of an outline, the area in it, and how much of it is slightly bent.

    A corner that is cut short is an edge between two turns t, u of one sign. The two edges beside
    would meet m times its length later, m = (sin t + sin u) / sin(t + u) − 1; how much of that
    the shape has on average is in the weights.
    """
    n = outline.shape[0]
    length = area = bent = 0.0
    for j in range(n):
        p, q = outline[j], outline[(j + 1) % n]
        area += p[1] * q[0] - q[1] * p[0]
        dy, dx = q[0] - p[0], q[1] - p[1]
        size = np.hypot(dy, dx)
        if size < 1e-9:
            continue
        length += size
        t, u = _turn_at(outline, j, -1, dy, dx), _turn_at(outline, (j + 1) % n, 1, dy, dx)
        if t * u > 0 and abs(t + u) < 0.95 * np.pi:
            more = (np.sin(abs(t)) + np.sin(abs(u))) / np.sin(abs(t + u)) - 1
            length += size * (_LACK_SMALL * min(more, _SMALL) + _LACK_ALL * min(more, 1.0))
            bent += size * min(more, _SLIGHT)
    return length, abs(area) / 2, bent


@numba.njit(nogil=True, cache=True)
def _turn_at(outline: NDArray[Any], j: int, way: int, dy: float, dx: float) -> float:
    """The angle between the edge (dy, dx) at point j and the next one that way with a length."""
    n = outline.shape[0]
    for k in range(1, n):
        a, b = outline[(j + way * (k - 1)) % n], outline[(j + way * k) % n]
        ey, ex = way * (b[0] - a[0]), way * (b[1] - a[1])
        if np.hypot(ey, ex) >= 1e-9:
            cross, dot = dx * ey - dy * ex, dx * ex + dy * ey
            return float(way * np.arctan2(cross, dot))
    return 0.0


@numba.njit(nogil=True, cache=True)
def hull_of(points: NDArray[Any]) -> Any:
    """Return area, largest and smallest width of the convex hull of points, shape (n, 2)."""
    n = points.shape[0]
    order = np.argsort(points[:, 1], kind="mergesort")
    order = order[np.argsort(points[order, 0], kind="mergesort")]
    hull = np.empty((2 * n + 2, 2))
    used = 0
    for half in range(2):
        floor = used if half else 1
        for k in range(n):
            p = points[order[k]] if half == 0 else points[order[n - 1 - k]]
            while used > floor and _turn(hull[used - 2], hull[used - 1], p) <= 0:
                used -= 1
            if half == 1 and k == 0:
                continue
            hull[used] = p
            used += 1
    used -= 1
    area, most, narrowest = 0.0, 0.0, np.inf
    for i in range(used):
        py, px = hull[i, 0], hull[i, 1]
        after = i + 1 if i + 1 < used else 0
        dy, dx = hull[after, 0] - py, hull[after, 1] - px
        area += py * hull[after, 1] - hull[after, 0] * px
        far = 0.0
        for j in range(used):
            ry, rx = hull[j, 0] - py, hull[j, 1] - px
            most = max(most, ry * ry + rx * rx)
            far = max(far, abs(dy * rx - dx * ry))
        length = np.hypot(dy, dx)
        if length > 0:
            narrowest = min(narrowest, far / length)
    # Squares tell which points may be farthest apart; only between these is the distance taken.
    longest, least = 0.0, most * (1 - 1e-12)
    for i in range(used):
        for j in range(i):
            ry, rx = hull[i, 0] - hull[j, 0], hull[i, 1] - hull[j, 1]
            if ry * ry + rx * rx >= least:
                longest = max(longest, np.hypot(ry, rx))
    return abs(area) / 2, longest, narrowest


@numba.njit(nogil=True, cache=True)
def _turn(a: Any, b: Any, c: Any) -> Any:
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])


@numba.njit(nogil=True, cache=True)
def widths_without_noise(longest: float, narrowest: float, bent: float) -> Any:
    """Return both widths freed of what noise adds to the largest and takes off the smallest.

    bent : length of the outline that is slightly bent, in pixels: round shapes have many
    directions, of which the largest is the one that errs most.
    """
    roundness = min(max(bent - _ROUND, 0.0), _ROUNDEST - _ROUND)
    return longest - _WIDER * roundness, narrowest + _NARROWER * roundness

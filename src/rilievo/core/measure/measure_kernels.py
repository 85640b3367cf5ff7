"""Loops over the pixels of regions: positions, moments, order statistics.

Compiled once and kept on disk; each releases the interpreter lock. bench/bench_measure.py has
what they gain. Regions are given by `starts`: region k has the entries starts[k] … starts[k+1].
"""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.mode_kernels import half_sample_mode, most_frequent

MOMENTS = (
    "n", "mean", "m2", "m3", "m4", "native_mean", "removed", "first_min", "first_max",
    "away_x", "away_y", "negative",
)  # fmt: skip


@numba.njit(nogil=True, cache=True)
def positions_of(labels: NDArray[Any], indices: NDArray[Any], first: int, count: int) -> Any:
    """Return flat positions of labelled pixels grouped by region, row order, and `starts`.

    labels : int32, shape (pixels,). indices : for label first + k the region's index, or −1.
    """
    starts = np.zeros(count + 1, np.int64)
    for i in range(labels.shape[0]):
        k = labels[i] - first
        if 0 <= k < indices.shape[0] and indices[k] >= 0:
            starts[indices[k] + 1] += 1
    for k in range(count):
        starts[k + 1] += starts[k]
    filled = starts[:-1].copy()
    positions = np.empty(starts[count], np.int32)
    for i in range(labels.shape[0]):
        k = labels[i] - first
        if 0 <= k < indices.shape[0] and indices[k] >= 0:
            index = indices[k]
            positions[filled[index]] = i
            filled[index] += 1
    return positions, starts


@numba.njit(nogil=True, cache=True)
def moments_of(
    signal: NDArray[Any],
    native: NDArray[Any],
    used: NDArray[Any],
    pixels: NDArray[Any],
    starts: NDArray[Any],
    width: int,
) -> Any:
    """Return per region what MOMENTS names, shape (n, 12); NaN where no pixel is used.

    signal, native : float64, one a pixel; used : whether it counts. The means are sums about the
    first value with Kahan's compensation (Kahan 1965, Communications of the ACM 8, 40); m2 to m4
    are central population moments; away_x and away_y are Σ v·(x − x₀) and Σ v·(y − y₀) with
    (x₀, y₀) the first pixel.
    """
    count = starts.shape[0] - 1
    result = np.full((count, 12), np.nan)
    for k in range(count):
        anchor = anchor_native = 0.0
        n, negative = 0, 0
        low = high = -1
        total = lost = total_native = lost_native = total_removed = 0.0
        away_x = away_y = 0.0
        y0, x0 = 0, 0
        if starts[k + 1] > starts[k]:
            y0, x0 = divmod(pixels[starts[k]], width)
        for i in range(starts[k], starts[k + 1]):
            if not used[i]:
                continue
            v, raw = signal[i], native[i]
            if n == 0:
                anchor, anchor_native = v, raw
                low = high = i
            n += 1
            part = (v - anchor) - lost
            new = total + part
            lost = (new - total) - part
            total = new
            part = (raw - anchor_native) - lost_native
            new = total_native + part
            lost_native = (new - total_native) - part
            total_native = new
            total_removed += (raw - v) - (anchor_native - anchor)
            if v < signal[low]:
                low = i
            if v > signal[high]:
                high = i
            if v < 0:
                negative += 1
            y, x = divmod(pixels[i], width)
            away_x += v * (x - x0)
            away_y += v * (y - y0)
        result[k, 0], result[k, 11] = n, negative
        if n == 0:
            continue
        away = total / n
        m2 = m3 = m4 = rest = 0.0
        for i in range(starts[k], starts[k + 1]):
            if used[i]:
                d = (signal[i] - anchor) - away
                rest += d
                m2 += d * d
                m3 += d * d * d
                m4 += d * d * d * d
        result[k, 1] = anchor + away
        # What rounding left of the mean is taken off the squares.
        result[k, 2] = max((m2 - rest * rest / n) / n, 0.0)
        result[k, 3], result[k, 4] = m3 / n, m4 / n
        result[k, 5] = anchor_native + total_native / n
        result[k, 6] = (anchor_native - anchor) + total_removed / n
        result[k, 7], result[k, 8] = pixels[low], pixels[high]
        result[k, 9], result[k, 10] = away_x, away_y
    return result


@numba.njit(nogil=True, cache=True)
def order_of(
    signal: NDArray[Any],
    used: NDArray[Any],
    starts: NDArray[Any],
    shares: NDArray[Any],
    levels: bool,
    low: float,
    high: float,
) -> Any:
    """Return per region mad, mean deviation, mode, entropy, and a percentile for each of shares.

    levels : whether values are levels, so that the mode is the most frequent one. low, high :
    the range of the 256 bins of the entropy. Shape (n, 4 + shares), NaN where no pixel is used.
    """
    count = starts.shape[0] - 1
    result = np.full((count, 4 + shares.shape[0]), np.nan)
    most = 0
    for k in range(count):
        most = max(most, starts[k + 1] - starts[k])
    room = np.empty(most)
    bins = np.zeros(256, np.int64)
    for k in range(count):
        n = 0
        for i in range(starts[k], starts[k + 1]):
            if used[i]:
                room[n] = signal[i]
                n += 1
        if n == 0:
            continue
        ordered = room[:n]
        if not _is_sorted(ordered):
            ordered.sort()
        middle = percentile_of(ordered, 0.5)
        result[k, 0], result[k, 1] = _deviations(ordered, middle)
        result[k, 2] = most_frequent(ordered) if levels else half_sample_mode(ordered)
        result[k, 3] = _entropy(ordered, low, high, bins)
        for j in range(shares.shape[0]):
            result[k, 4 + j] = percentile_of(ordered, shares[j])
    return result


@numba.njit(nogil=True, cache=True)
def _is_sorted(values: NDArray[Any]) -> bool:
    falls = 0
    for i in range(1, values.shape[0]):
        falls += values[i] < values[i - 1]
    return falls == 0


@numba.njit(nogil=True, cache=True)
def percentile_of(ordered: NDArray[Any], share: float) -> float:
    """Return a percentile of sorted values by linear interpolation.

    Source: Hyndman & Fan 1996, The American Statistician 50, 361–365, type 7.
    """
    position = share * (ordered.shape[0] - 1)
    below = int(np.floor(position))
    above = min(below + 1, ordered.shape[0] - 1)
    return float(ordered[below] + (position - below) * (ordered[above] - ordered[below]))


@numba.njit(nogil=True, cache=True)
def _deviations(ordered: NDArray[Any], middle: float) -> Any:
    """Median and mean of |v − middle|; sorted values leave the middle in order on both sides."""
    n = ordered.shape[0]
    above = 0
    while above < n and ordered[above] < middle:
        above += 1
    below = above - 1
    total = 0.0
    lower = upper = 0.0
    first, second = (n - 1) // 2, n // 2
    for rank in range(n):
        if below >= 0 and (above >= n or middle - ordered[below] <= ordered[above] - middle):
            away = middle - ordered[below]
            below -= 1
        else:
            away = ordered[above] - middle
            above += 1
        total += away
        if rank == first:
            lower = away
        if rank == second:
            upper = away
    return (lower + upper) / 2, total / n


@numba.njit(nogil=True, cache=True)
def _entropy(ordered: NDArray[Any], low: float, high: float, bins: NDArray[Any]) -> float:
    """Shannon entropy in bits over 256 equal bins from low to high."""
    if not high > low:
        return 0.0
    n, last = ordered.shape[0], bins.shape[0] - 1
    bins[:] = 0
    factor = (last + 1) / (high - low)
    for i in range(n):
        bins[min(max(int((ordered[i] - low) * factor), 0), last)] += 1
    bits = 0.0
    for b in range(last + 1):
        if bins[b]:
            share = bins[b] / n
            bits -= share * np.log2(share)
    return bits


@numba.njit(nogil=True, cache=True)
def rings_of(
    labels: NDArray[Any],
    gap: float,
    radius: float,
    aspect: float,
    top: int,
    bottom: int,
    result: NDArray[Any],
) -> None:
    """Fill in for each pixel outside all regions the nearest one, if gap < distance ≤ radius.

    gap, radius : in widths of a pixel. aspect : height over width of a pixel.
    labels : shape (height, width); above 0 are regions, below 0 what was left out. Of regions at
    the same distance the lowest number has the pixel. result : int32, shape of `labels`, of which
    the rows from top to before bottom are filled.
    """
    height, width = labels.shape
    across, reach = int(np.floor(radius)), int(np.floor(radius / aspect))
    first, end = max(0, top - reach), min(height, bottom + reach)
    # How many rows away the nearest region of the column is; negative is above.
    far = reach + 1
    rows = np.full((bottom - top, width), far, np.int32)
    last = np.full(width, -far - 1, np.int32)
    for y in range(first, bottom):
        for x in range(width):
            if labels[y, x] > 0:
                last[x] = y
            if y >= top and y - last[x] <= reach:
                rows[y - top, x] = last[x] - y
    last[:] = height + far + 1
    for y in range(end - 1, top - 1, -1):
        for x in range(width):
            if labels[y, x] > 0:
                last[x] = y
            if y >= bottom or last[x] - y > reach:
                continue
            away, known = last[x] - y, abs(rows[y - top, x])
            if away < known or (away == known and labels[last[x], x] < labels[y - away, x]):
                rows[y - top, x] = away
    most, least, steep = radius * radius, gap * gap, aspect * aspect
    for y in range(top, bottom):
        down = rows[y - top]
        for x in range(width):
            result[y, x] = 0
            if labels[y, x] != 0:
                continue
            best, number = most + 1.0, 0
            # From the pixel outwards, until a column itself is farther than the nearest region.
            for step in range(across + 1):
                if step * step > best:
                    break
                for side in range(2 if step else 1):
                    u = x + step if side == 0 else x - step
                    if u < 0 or u >= width or abs(down[u]) > reach:
                        continue
                    away = step * step + steep * (down[u] * down[u])
                    if away > best:
                        continue
                    label = labels[y + down[u], u]
                    if away < best or label < number:
                        best, number = away, label
            if least < best <= most:
                result[y, x] = number

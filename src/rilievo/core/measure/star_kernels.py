"""Loops over the pixels of stars: exact overlap of circles, centroids, profile fits.

Compiled once and kept on disk; each releases the interpreter lock. Positions are x, y with the
centre of the top-left pixel at (0, 0); a pixel covers half a unit to each side.
"""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

# amplitude, x, y, sky, and the three numbers of the symmetric matrix, then the exponent.
FIT_NUMBERS = 8
_STEPS = 60
# From this exponent on a Gaussian is tried too, which stands as this one.
_NEARLY_GAUSSIAN, _AS_GAUSSIAN = 8.0, 1000.0


@numba.njit(nogil=True, cache=True)
def _quarter(x: float, y: float, radius: float) -> float:
    """Area of a circle about the origin within 0 … x, 0 … y; negative sides count negative."""
    sign: float = 1.0
    if x < 0:
        x, sign = -x, -sign
    if y < 0:
        y, sign = -y, -sign
    x, y = min(x, radius), min(y, radius)
    if x * x + y * y <= radius * radius:
        return float(sign * x * y)
    meets = np.sqrt(max(radius * radius - y * y, 0.0))
    area = y * meets
    for end, way in ((x, 0.5), (meets, -0.5)):
        half = np.sqrt(max(radius * radius - end * end, 0.0))
        area += way * (end * half + radius * radius * np.arcsin(min(end / radius, 1.0)))
    return float(sign * area)


@numba.njit(nogil=True, cache=True)
def overlap(dx: float, dy: float, radius: float) -> float:
    """Return the area that a circle about the origin shares with the unit square about (dx, dy)."""
    if radius <= 0:
        return 0.0
    return float(
        _quarter(dx + 0.5, dy + 0.5, radius)
        - _quarter(dx - 0.5, dy + 0.5, radius)
        - _quarter(dx + 0.5, dy - 0.5, radius)
        + _quarter(dx - 0.5, dy - 0.5, radius)
    )


@numba.njit(nogil=True, cache=True)
def flux_within(values: NDArray[Any], x: float, y: float, radius: float, sky: float) -> Any:
    """Return Σ w·(v − sky), Σ w and the summed weight of undefined pixels; w is the overlap."""
    height, width = values.shape
    total = area = undefined = 0.0
    for v in range(max(0, int(y - radius)), min(height, int(y + radius) + 2)):
        for u in range(max(0, int(x - radius)), min(width, int(x + radius) + 2)):
            share = overlap(u - x, v - y, radius)
            if share <= 0:
                continue
            if np.isnan(values[v, u]):
                undefined += share
                continue
            total += share * (values[v, u] - sky)
            area += share
    return total, area, undefined


@numba.njit(nogil=True, cache=True)
def annulus(values: NDArray[Any], x: float, y: float, inner: float, outer: float) -> Any:
    """Return the defined values whose pixel centre lies inner ≤ distance < outer away."""
    height, width = values.shape
    found = np.empty(int((2 * outer + 3) ** 2))
    n = 0
    for v in range(max(0, int(y - outer)), min(height, int(y + outer) + 2)):
        for u in range(max(0, int(x - outer)), min(width, int(x + outer) + 2)):
            away = np.sqrt((u - x) ** 2 + (v - y) ** 2)
            if inner <= away < outer and not np.isnan(values[v, u]):
                found[n] = values[v, u]
                n += 1
    return found[:n]


@numba.njit(nogil=True, cache=True)
def clipped_sky(values: NDArray[Any]) -> Any:
    """Return median, standard deviation and number of values after clipping at 3 sigmas.

    The spread while clipping is 1.4826 · median absolute deviation; NaN for no value.
    """
    kept = np.sort(values)
    step = _least_step(kept)
    for _ in range(10):
        n = kept.shape[0]
        if n == 0:
            return np.nan, np.nan, 0
        middle = _median_of_ties(kept, step)
        # Of whole counts with little noise the deviations are few levels, or none.
        sigma = max(1.4826 * _median(np.sort(np.abs(kept - middle))), step / 2)
        within = kept[np.abs(kept - middle) <= 3 * sigma]
        if within.shape[0] == n or within.shape[0] == 0:
            break
        kept = within
    spread = np.nan
    if kept.shape[0] > 1:
        # Clipped at three sigmas a normal distribution keeps 97.335 % of its variance.
        spread = np.sqrt(np.sum((kept - kept.mean()) ** 2) / (kept.shape[0] - 1) / 0.97335)
    return _median_of_ties(kept, step), spread, kept.shape[0]


@numba.njit(nogil=True, cache=True)
def _least_step(ordered: NDArray[Any]) -> float:
    """The distance between levels where values share them; 0 where hardly two are equal."""
    equal, step = 0, np.inf
    for i in range(1, ordered.shape[0]):
        away = ordered[i] - ordered[i - 1]
        if away == 0:
            equal += 1
        elif away < step:
            step = away
    return float(step) if 2 * equal > ordered.shape[0] and step < np.inf else 0.0


@numba.njit(nogil=True, cache=True)
def _median_of_ties(ordered: NDArray[Any], step: float) -> float:
    """The median where the values of a level are spread evenly over it; step 0 is none."""
    middle = _median(ordered)
    n = ordered.shape[0]
    if step == 0:
        return float(middle)
    low = np.searchsorted(ordered, middle - step / 2)
    high = np.searchsorted(ordered, middle + step / 2)
    if high <= low:
        return float(middle)
    level = ordered[(low + high) // 2]
    low = np.searchsorted(ordered, level - step / 2)
    high = np.searchsorted(ordered, level + step / 2)
    return float(level - step / 2 + step * (n / 2 - low) / (high - low))


@numba.njit(nogil=True, cache=True)
def _median(ordered: NDArray[Any]) -> float:
    n = ordered.shape[0]
    return float((ordered[(n - 1) // 2] + ordered[n // 2]) / 2)


@numba.njit(nogil=True, cache=True)
def centred(
    values: NDArray[Any], x: float, y: float, sky: float, sigma: float, reach: float
) -> Any:
    """Return the Gaussian-weighted centroid near a position, at most `reach` away; else the start.

    Each round moves by twice the weighted mean deviation, which is the full step for a Gaussian
    star under a weight of the same width.
    """
    height, width = values.shape
    px, py = x, y
    half = int(np.ceil(3 * sigma)) + 1
    for _ in range(40):
        total = mx = my = 0.0
        for v in range(max(0, int(py) - half), min(height, int(py) + half + 2)):
            for u in range(max(0, int(px) - half), min(width, int(px) + half + 2)):
                value = values[v, u] - sky
                if np.isnan(value):
                    continue
                away = (u - px) ** 2 + (v - py) ** 2
                weight = np.exp(-away / (2 * sigma * sigma)) * value
                total += weight
                mx += weight * (u - px)
                my += weight * (v - py)
        if total <= 0:
            return x, y
        step_x, step_y = 2 * mx / total, 2 * my / total
        px, py = px + step_x, py + step_y
        if (px - x) ** 2 + (py - y) ** 2 > reach * reach:
            return x, y
        if step_x * step_x + step_y * step_y < 1e-8:
            break
    return px, py


@numba.njit(nogil=True, cache=True)
def half_flux_radius(values: NDArray[Any], x: float, y: float, radius: float, sky: float) -> float:
    """Return the radius whose circle holds half of the flux within `radius`; NaN for no flux."""
    whole = flux_within(values, x, y, radius, sky)[0]
    if not whole > 0:
        return np.nan
    low, high = 0.0, radius
    for _ in range(30):
        middle = (low + high) / 2
        if flux_within(values, x, y, middle, sky)[0] < whole / 2:
            low = middle
        else:
            high = middle
    return (low + high) / 2


@numba.njit(nogil=True, cache=True)
def profile_at(p: NDArray[Any], dx: float, dy: float, gaussian: bool) -> float:
    """Return the fitted profile without its sky, averaged over a pixel by 3 × 3 Gauss points."""
    total = 0.0
    for i in range(3):
        u = dx + (i - 1) * 0.3872983346207417
        for j in range(3):
            v = dy + (j - 1) * 0.3872983346207417
            away = p[4] * u * u + 2 * p[5] * u * v + p[6] * v * v
            weight = (8 if i == 1 else 5) * (8 if j == 1 else 5) / 324
            if gaussian:
                total += weight * np.exp(-away)
            else:
                total += weight * (1 + away) ** -p[7]
    return float(p[0] * total)


@numba.njit(nogil=True, cache=True)
def fitted(
    values: NDArray[Any],
    x: float,
    y: float,
    sky: float,
    fwhm: float,
    radius: float,
    noise: float,
    gain: float,
    gaussian: bool,
) -> Any:
    """Return the numbers of the profile that fits best within a radius, and the reduced χ².

    The profile is A·exp(−q) (Gaussian) or A·(1 + q)^−β (Moffat 1969, Astronomy and Astrophysics
    3, 455), with q = a·dx² + 2b·dx·dy + c·dy², averaged over each pixel, plus a sky. Weights are
    1 / (noise² + (v − sky)⁺ / gain); gain 0 leaves the second part out. Fitted by the method of
    Levenberg and Marquardt (Marquardt 1963, SIAM Journal 11, 431–441). NaN where it does not
    converge or there are too few pixels.
    """
    height, width = values.shape
    count = 7 if gaussian else 8
    p = np.zeros(FIT_NUMBERS)
    nothing = np.full(FIT_NUMBERS, np.nan)
    u0, u1 = max(0, int(x - radius)), min(width, int(x + radius) + 2)
    v0, v1 = max(0, int(y - radius)), min(height, int(y + radius) + 2)
    top = 0.0
    for v in range(v0, v1):
        for u in range(u0, u1):
            if (u - x) ** 2 + (v - y) ** 2 <= 4 and values[v, u] - sky > top:
                top = values[v, u] - sky
    beta = 3.0
    shape = np.log(2.0) if gaussian else 2 ** (1 / beta) - 1
    size = shape / (fwhm / 2) ** 2
    p[0], p[1], p[2], p[3] = max(top, 1e-12), x, y, sky
    p[4], p[5], p[6], p[7] = size, 0.0, size, beta
    damping = 1e-3
    normal, slope, best = _normal_equations(
        values, p, x, y, radius, noise, gain, gaussian, count, u0, u1, v0, v1
    )
    if normal[0, 0] <= 0:
        return nothing, np.nan
    for _ in range(_STEPS):
        trial = p + _step(normal, slope, damping, count)
        bad = (
            trial[4] <= 0
            or trial[6] <= 0
            or trial[4] * trial[6] <= trial[5] ** 2
            or trial[0] <= 0
            or (trial[1] - x) ** 2 + (trial[2] - y) ** 2 > radius**2
        )
        if not gaussian:
            trial[7] = min(max(trial[7], 1.1), 20.0)
        if bad:
            damping *= 8
            if damping > 1e12:
                break
            continue
        new_normal, new_slope, new = _normal_equations(
            values, trial, x, y, radius, noise, gain, gaussian, count, u0, u1, v0, v1
        )
        if new <= best:
            gained = best - new
            p, normal, slope, best = trial, new_normal, new_slope, new
            damping = max(damping / 8, 1e-12)
            if gained <= 1e-9 * best:
                break
        else:
            damping *= 8
            if damping > 1e12:
                break
    pixels = normal[FIT_NUMBERS, FIT_NUMBERS]
    if pixels <= count:
        return nothing, np.nan
    return p, best / (pixels - count)


@numba.njit(nogil=True, cache=True)
def _step(normal: NDArray[Any], slope: NDArray[Any], damping: float, count: int) -> Any:
    """Solve the damped normal equations by elimination; their matrix is positive definite."""
    matrix, rest = normal[:count, :count].copy(), slope.copy()
    for i in range(count):
        matrix[i, i] = max(matrix[i, i] * (1 + damping), 1e-30)
    for i in range(count):
        for j in range(i + 1, count):
            factor = matrix[j, i] / matrix[i, i]
            for k in range(i, count):
                matrix[j, k] -= factor * matrix[i, k]
            rest[j] -= factor * rest[i]
    step = np.zeros(FIT_NUMBERS)
    for i in range(count - 1, -1, -1):
        total = rest[i]
        for k in range(i + 1, count):
            total -= matrix[i, k] * step[k]
        step[i] = total / matrix[i, i]
    return step


@numba.njit(nogil=True, cache=True)
def _normal_equations(
    values: NDArray[Any],
    p: NDArray[Any],
    x: float,
    y: float,
    radius: float,
    noise: float,
    gain: float,
    gaussian: bool,
    count: int,
    u0: int,
    u1: int,
    v0: int,
    v1: int,
) -> Any:
    """Matrix JᵀWJ, vector JᵀWr and rᵀWr; the matrix's last number is how many pixels there are."""
    matrix = np.zeros((FIT_NUMBERS + 1, FIT_NUMBERS + 1))
    slope = np.zeros(FIT_NUMBERS)
    d = np.zeros(FIT_NUMBERS)
    total, pixels = 0.0, 0
    for v in range(v0, v1):
        for u in range(u0, u1):
            value = values[v, u]
            if (u - x) ** 2 + (v - y) ** 2 > radius * radius or np.isnan(value):
                continue
            pixels += 1
            # Sums in variables of their own, which stay in registers.
            s0 = s1 = s2 = s4 = s5 = s6 = s7 = 0.0
            for i in range(3):
                du = u - p[1] + (i - 1) * 0.3872983346207417
                for j in range(3):
                    dv = v - p[2] + (j - 1) * 0.3872983346207417
                    q = p[4] * du * du + 2 * p[5] * du * dv + p[6] * dv * dv
                    weight = (8 if i == 1 else 5) * (8 if j == 1 else 5) / 324
                    if gaussian:
                        f = weight * np.exp(-q)
                        fall = f
                    else:
                        # The logarithm is wanted anyway, and exp is quicker than a power.
                        log = np.log(1 + q)
                        f = weight * np.exp(-p[7] * log)
                        fall = f * p[7] / (1 + q)
                        s7 += f * log
                    s0 += f
                    s1 += fall * (p[4] * du + p[5] * dv)
                    s2 += fall * (p[6] * dv + p[5] * du)
                    s4 += fall * du * du
                    s5 += fall * du * dv
                    s6 += fall * dv * dv
            model = p[3] + p[0] * s0
            d[0], d[1], d[2], d[3] = s0, 2 * p[0] * s1, 2 * p[0] * s2, 1.0
            d[4], d[5], d[6], d[7] = -p[0] * s4, -2 * p[0] * s5, -p[0] * s6, -p[0] * s7
            variance = noise * noise
            if gain > 0:
                variance += max(model - p[3], 0.0) / gain
            w = 1 / variance
            rest = value - model
            total += w * rest * rest
            for i in range(count):
                slope[i] += w * d[i] * rest
                for j in range(i + 1):
                    matrix[i, j] += w * d[i] * d[j]
    for i in range(count):
        for j in range(i):
            matrix[j, i] = matrix[i, j]
    matrix[FIT_NUMBERS, FIT_NUMBERS] = pixels
    return matrix, slope, total


@numba.njit(nogil=True, cache=True)
def fitted_all(
    values: NDArray[Any],
    positions: NDArray[Any],
    radius: float,
    gain: float,
    gaussian: bool,
) -> Any:
    """Return `fitted` for positions of (x, y, sky, fwhm, noise): numbers and χ², shape (n, 9)."""
    result = np.full((positions.shape[0], FIT_NUMBERS + 1), np.nan)
    for k in range(positions.shape[0]):
        x, y, sky, fwhm, noise = positions[k]
        if np.isnan(x + y + sky + fwhm) or not noise > 0:
            continue
        p, quality = fitted(values, x, y, sky, fwhm, radius, noise, gain, gaussian)
        if not gaussian and p[7] > _NEARLY_GAUSSIAN:
            # A Moffat profile of a large exponent is a Gaussian, which is fitted far more surely.
            q, other = fitted(values, x, y, sky, fwhm, radius, noise, gain, True)
            if other < quality:
                p, quality = q, other
                p[7] = _AS_GAUSSIAN
                p[4:7] *= (2 ** (1 / _AS_GAUSSIAN) - 1) / np.log(2.0)
        result[k, :FIT_NUMBERS] = p
        result[k, FIT_NUMBERS] = quality
    return result


@numba.njit(nogil=True, cache=True)
def light_all(
    values: NDArray[Any],
    positions: NDArray[Any],
    radius: float,
    inner: float,
    outer: float,
    sigma: float,
) -> Any:
    """Return for each position x, y, sky, its noise, pixels of it, flux, area, undefined, peak, r½.

    sigma : of the weight of the centroid. Shape (n, 10).
    """
    result = np.full((positions.shape[0], 10), np.nan)
    for k in range(positions.shape[0]):
        sky, noise, n = clipped_sky(annulus(values, positions[k, 0], positions[k, 1], inner, outer))
        if n == 0:
            continue
        x, y = centred(values, positions[k, 0], positions[k, 1], sky, sigma, radius / 2)
        sky, noise, n = clipped_sky(annulus(values, x, y, inner, outer))
        flux, area, undefined = flux_within(values, x, y, radius, sky)
        peak = np.nan
        near = annulus(values, x, y, 0.0, max(sigma, 1.5))
        if near.shape[0]:
            peak = near.max() - sky
        half = half_flux_radius(values, x, y, radius, sky)
        row = (x, y, sky, noise, float(n), flux, area, undefined, peak, half)
        for j in range(10):
            result[k, j] = row[j]
    return result

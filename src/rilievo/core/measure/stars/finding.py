"""Finding stars: peaks above the sky after a matched smoothing, and why some are left out."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.measure.stars.apertures import StarTable, stars_at
from rilievo.core.measure.stars.star_settings import StarCircles, StarUse
from rilievo.core.regions.label_map import LabelMap, Labels
from rilievo.core.regions.region_set import RegionSet
from rilievo.core.robust_statistics import median_and_mad_sigma, some_of
from rilievo.core.signal.smoothing import gaussian
from rilievo.core.wording.lists import counted

_FIRST_WIDTH, _BRIGHTEST = 3.0, 30
# The width is found anew with what it was, until it changes by less than a share.
_ROUNDS, _STAYS, _WIDEST = 5, 0.05, 60.0
# Equal pixels at the top of a star that clears the noise so many times are no chance.
_PLATEAU, _CLEAR = 3, 50.0
# Radius of a star's core in widths; stars that are compared, their noise, and what is unlike them.
_CORE, _LEAST_ALIKE, _NOISY, _UNLIKE = 0.75, 5, 0.02, 0.06
# Another peak counts as a companion if it has this share of the height.
_COMPANION = 0.1
_SIGMA = 2.354820045


@dataclass(frozen=True, eq=False)
class StarsFound:
    """Peaks and what became of them.

    positions : shape (n, 2), x and y. reasons : why a star is left out, "" for one that is kept.
    width : FWHM of the smoothing, pixels.
    """

    positions: NDArray[np.float64]
    reasons: tuple[str, ...]
    width: float

    @property
    def kept(self) -> NDArray[np.bool_]:
        """Which are measured."""
        return np.array([not reason for reason in self.reasons], np.bool_)


def find_stars(signal: Plane, native: Plane, circles: StarCircles) -> StarsFound:
    """Return the stars of a signal.

    The picture is smoothed by a Gaussian of the stars' width, less one of four times that width,
    so that a sky that changes slowly drops out. A star is a local maximum above `sigmas` times
    the robust spread of the result.
    native : tells which pixels are saturated. NaN pixels are taken as sky.
    """
    values, use, width = signal.as_float(), circles.use, circles.width
    peaks, heights = _peaks(values, width, use.sigmas)
    if not len(peaks):
        return StarsFound(np.zeros((0, 2)), (), width)
    stars = stars_at(signal, peaks, circles)
    positions = np.column_stack([stars.light["x"], stars.light["y"]])
    lost = ~np.isfinite(positions).all(axis=1)
    positions[lost] = peaks[lost]
    ellipticity = stars.chosen.ellipticity
    usual = float(np.nanmedian(ellipticity)) if np.isfinite(ellipticity).any() else 0.0
    companions = _companions(positions, heights, circles.isolation)
    saturated = native.saturated()
    grown = _growing_otherwise(stars, positions)
    reasons = []
    for k, (x, y) in enumerate(positions):
        reasons.append(
            _near_border(x, y, values.shape, circles)
            or _too_sharp(values, x, y, float(stars.sky[k]), use)
            or _saturated(saturated, x, y, circles)
            or _flat_top(values, x, y, stars, k)
            or companions[k]
            or _elongated(float(ellipticity[k]), usual, use)
            or grown[k]
        )
    return StarsFound(positions, tuple(reasons), width)


def usual_width(signal: Plane, use: StarUse) -> float:
    """Return the median FWHM of the brightest stars, pixels; 3 where there are none.

    Smoothing, circles and fits follow the width that was found until it stays.
    """
    if use.width:
        return use.width
    values, width = signal.as_float(), _FIRST_WIDTH
    for _ in range(_ROUNDS):
        peaks, _heights = _peaks(values, width, max(use.sigmas, 10.0))
        stars = stars_at(signal, peaks[:_BRIGHTEST], use.resolved(1.5 * width))
        widths = stars.chosen.fwhm
        widths = widths[np.isfinite(widths) & (widths > 1.2)]
        if not widths.size:
            break
        before, width = width, float(np.clip(np.median(widths), 1.5, _WIDEST))
        if abs(width - before) <= _STAYS * before:
            break
    return width


def _peaks(
    values: FloatPixels, width: float, sigmas: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places (x, y) and heights of local maxima of the smoothed picture, highest first."""
    from scipy.ndimage import maximum_filter  # noqa: PLC0415 (slow to import)

    undefined = ~np.isfinite(values)
    if undefined.all():
        return np.zeros((0, 2)), np.zeros(0)
    middle, _ = median_and_mad_sigma(some_of(values))
    filled = np.where(undefined, np.float32(middle), values) if undefined.any() else values
    sigma = width / _SIGMA
    smooth = gaussian(filled, sigma) - gaussian(filled, 4 * sigma)
    centre, spread = median_and_mad_sigma(some_of(smooth))
    # Without any noise, everything that rises at all is a peak.
    least = centre + max(sigmas * spread, 1e-6 * float(np.abs(smooth).max()))
    reach = 2 * max(1, round(0.75 * width)) + 1
    is_peak = (smooth > least) & (smooth == maximum_filter(smooth, reach)) & ~undefined
    # What rises up to the border need not be a peak.
    is_peak[[0, -1]] = is_peak[:, [0, -1]] = False
    rows, columns = np.nonzero(is_peak)
    heights = smooth[rows, columns].astype(np.float64)
    order = np.argsort(-heights, kind="stable")
    return np.column_stack([columns, rows])[order].astype(np.float64), heights[order]


def _near_border(x: float, y: float, shape: tuple[int, ...], use: StarCircles) -> str:
    away = min(x + 0.5, y + 0.5, shape[1] - 0.5 - x, shape[0] - 0.5 - y)
    return f"too near the border: {away:.0f} px" if away < use.radius else ""


def _too_sharp(values: FloatPixels, x: float, y: float, sky: float, use: StarUse) -> str:
    top, left = max(round(y) - 1, 0), max(round(x) - 1, 0)
    near = values[top : round(y) + 2, left : round(x) + 2]
    if not np.isfinite(near).any():
        return ""
    at_y, at_x = np.unravel_index(int(np.nanargmax(near)), near.shape)
    v, u = top + int(at_y), left + int(at_x)
    beside = [
        float(values[b, a])
        for b, a in ((v - 1, u), (v + 1, u), (v, u - 1), (v, u + 1))
        if 0 <= b < values.shape[0] and 0 <= a < values.shape[1] and np.isfinite(values[b, a])
    ]
    height = float(values[v, u]) - sky
    if not beside or not height > 0:
        return ""
    share = (float(np.mean(beside)) - sky) / height
    if share >= use.sharpest:
        return ""
    return f"too sharp, a hot pixel or a cosmic ray: its neighbours hold {100 * share:.0f} %"


def _saturated(saturated: NDArray[np.bool_] | None, x: float, y: float, use: StarCircles) -> str:
    if saturated is None:
        return ""
    count = int(np.count_nonzero(saturated[disc(x, y, use.radius, saturated.shape)]))
    return f"saturated: {counted(count, 'pixel')}" if count else ""


def _flat_top(values: FloatPixels, x: float, y: float, stars: StarTable, k: int) -> str:
    """A plateau of equal pixels at the very top, clipped at a level that nobody declared."""
    peak, noise = float(stars.light["peak"][k]), float(stars.light["sky_sd"][k])
    if not peak > _CLEAR * noise:
        return ""
    near = values[disc(x, y, max(stars.circles.width, 1.5), values.shape)]
    near = near[np.isfinite(near)]
    count = int(np.count_nonzero(near == near.max())) if near.size else 0
    if count < _PLATEAU:
        return ""
    return f"saturated: {count} pixels share the highest value {float(near.max()):g}"


def _growing_otherwise(stars: StarTable, positions: NDArray[np.float64]) -> list[str]:
    """Stars whose light grows otherwise with the radius than that of most: not alone, or hit.

    Compared is the light within the aperture and within the core, of ¾ width radius.
    """
    from rilievo.core.measure.star_kernels import flux_within  # noqa: PLC0415 (compiled)

    light, circles = stars.light, stars.circles
    texts = [""] * len(positions)
    core = _CORE * circles.width
    inner = np.array(
        [flux_within(stars.values, x, y, core, s)[0] if np.isfinite(x + y + s) else np.nan
         for x, y, s in zip(light["x"], light["y"], light["sky"], strict=True)]
    )  # fmt: skip
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = light["flux"] / inner
        noise = light["sky_sd"] * np.sqrt(light["area"]) / inner
    clear = np.isfinite(ratio) & (inner > 0) & (noise < _NOISY)
    if clear.sum() < _LEAST_ALIKE:
        return texts
    usual, spread = median_and_mad_sigma(ratio[clear])
    for k in np.flatnonzero(np.isfinite(ratio) & (inner > 0)).tolist():
        more = ratio[k] / usual - 1
        if abs(more) > max(_UNLIKE, 5 * noise[k] / usual, 5 * spread / usual):
            word = "more" if more > 0 else "less"
            texts[k] = (
                f"blended or hit: it has {100 * abs(more):.0f} % {word} light around its core than "
                "other stars"
            )
    return texts


def _companions(
    positions: NDArray[np.float64], heights: NDArray[np.float64], isolation: float
) -> list[str]:
    """Which stars have another one near that is not faint beside them."""
    from scipy.spatial import KDTree  # noqa: PLC0415 (slow to import)

    texts = [""] * len(positions)
    if isolation <= 0:
        return texts
    for i, j in KDTree(positions).query_pairs(isolation):
        away = float(np.hypot(*(positions[i] - positions[j])))
        for fainter, other in ((i, j), (j, i)):
            if heights[other] >= _COMPANION * heights[fainter]:
                texts[fainter] = f"blended: another star is {away:.1f} px away"
    return texts


def _elongated(ellipticity: float, usual: float, use: StarUse) -> str:
    if not ellipticity > usual + use.elongation:
        return ""
    return f"elongated: ellipticity {ellipticity:.2f}, of the others {usual:.2f}"


def disc(
    x: float, y: float, radius: float, shape: tuple[int, ...]
) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Return rows and columns of the pixels whose centre lies within a circle."""
    top, left = max(0, int(np.ceil(y - radius))), max(0, int(np.ceil(x - radius)))
    bottom, right = min(shape[0], int(y + radius) + 1), min(shape[1], int(x + radius) + 1)
    rows, columns = np.mgrid[top:bottom, left:right]
    inside = (rows - y) ** 2 + (columns - x) ** 2 <= radius**2
    return rows[inside], columns[inside]


def left_out_counts(regions: RegionSet) -> list[str]:
    """Return why stars were left out, each reason with its number, most frequent first."""
    counts = Counter(reason.split(":")[0].split(",")[0] for reason in regions.reasons)
    return [f"{count} {reason}" for reason, count in counts.most_common()]


def star_regions(stars: StarsFound, use: StarCircles, shape: tuple[int, int]) -> LabelMap:
    """Return the apertures as regions, numbered from top to bottom; a kept star has its pixels."""
    labels: Labels = np.zeros(shape, np.int32)
    order = np.argsort(stars.positions[:, 1], kind="stable")
    positions: list[tuple[float, float]] = [(float(x), float(y)) for x, y in stars.positions]
    reasons = []
    for k in order[~stars.kept[order]]:
        reasons.append(stars.reasons[k])
        labels[disc(positions[k][0], positions[k][1], use.radius, shape)] = -len(reasons)
    chosen = order[stars.kept[order]]
    for number, k in enumerate(chosen, start=1):
        labels[disc(positions[k][0], positions[k][1], use.radius, shape)] = number
    return LabelMap(labels, len(chosen), 8, tuple(reasons), apart=True)

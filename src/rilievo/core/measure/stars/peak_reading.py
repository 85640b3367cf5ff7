"""What a star, or any peak, near a position is like, without a class of stars: read while looking.

Only the surroundings are read, so that it follows the pointer. Circles are multiples of the width
that is found there; the definitions are those of stars that are measured.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from rilievo.core.image.image import Plane
from rilievo.core.measure.stars.apertures import stars_at
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.robust_statistics import median_and_mad_sigma

# So far from the pointer a peak is looked for, and its surroundings are read, in pixels.
_NEAR, _REACH = 6, 48
# A peak stands so many sigmas above its surroundings, and is as wide as a star at most.
_LEAST_SIGMAS, _LEAST_WIDTH, _MOST_WIDTH = 5.0, 1.2, 14.0


@dataclass(frozen=True)
class PeakReading:
    """A peak. x, y : centroid, pixels of the plane. height, flux : above the background.

    background, noise : median and robust standard deviation of the ring about it. fwhm,
    half_flux_diameter : pixels.
    """

    x: float
    y: float
    height: float
    background: float
    noise: float
    flux: float
    fwhm: float
    half_flux_diameter: float
    ellipticity: float


class _NoPeak(Exception):
    """Says why there is none."""


def read_peak(plane: Plane, x: int, y: int) -> PeakReading | str:
    """Return the peak near a pixel, or in a sentence why none can be read.

    plane : values in the units that are shown; NaN is left out.
    """
    try:
        return _read(plane, x, y)
    except _NoPeak as why:
        return str(why)


def _read(plane: Plane, x: int, y: int) -> PeakReading:
    height, width = plane.shape
    left, top = max(x - _REACH, 0), max(y - _REACH, 0)
    values = plane.as_float()[top : min(y + _REACH + 1, height), left : min(x + _REACH + 1, width)]
    finite = values[np.isfinite(values)]
    if finite.size < values.size // 2 or finite.size < (2 * _NEAR + 1) ** 2:
        raise _NoPeak("Too little is defined around here.")
    middle, spread = median_and_mad_sigma(finite)
    peak = _highest(values, x - left, y - top)
    if peak is None:
        raise _NoPeak("Nothing is defined here.")
    u, v, top_value = peak
    if not top_value > middle + _LEAST_SIGMAS * spread or top_value <= middle:
        raise _NoPeak(
            f"No peak here: nothing stands {_LEAST_SIGMAS:.0f} sigmas above what is around."
        )
    if not _has_neighbours(values, u, v, middle):
        raise _NoPeak("A single bright pixel, most likely a hot pixel or a cosmic ray.")
    saturated = plane.saturated()
    if saturated is not None and saturated[top + v, left + u]:
        raise _NoPeak("The peak is saturated: its height and width cannot be told.")
    part = replace(plane, pixels=values, lattice=None, clipped=None, saturation=None)
    circles = StarUse().resolved(_width(values, u, v, middle))
    if min(u, v, values.shape[1] - 1 - u, values.shape[0] - 1 - v) < circles.radius:
        raise _NoPeak("Too near the border of the picture for its circle.")
    stars = stars_at(part, np.array([[u, v]], dtype=np.float64), circles)
    wide = float(stars.chosen.fwhm[0])
    if not math.isfinite(wide):
        raise _NoPeak("No profile fits this peak; it may be crowded, or no single peak.")
    if not _LEAST_WIDTH <= wide <= _MOST_WIDTH:
        raise _NoPeak(f"Not a peak of a star's width: {wide:.1f} px.")
    return PeakReading(
        x=left + float(stars.light["x"][0]),
        y=top + float(stars.light["y"][0]),
        height=top_value - float(stars.sky[0]),
        background=float(stars.sky[0]),
        noise=float(stars.light["sky_sd"][0]),
        flux=float(stars.flux[0]),
        fwhm=wide,
        half_flux_diameter=2 * float(stars.light["half_radius"][0]),
        ellipticity=float(stars.chosen.ellipticity[0]),
    )


def _highest(values: np.ndarray, u: int, v: int) -> tuple[int, int, float] | None:
    """The highest pixel near a position: column, row, value."""
    top, left = max(v - _NEAR, 0), max(u - _NEAR, 0)
    near = values[top : v + _NEAR + 1, left : u + _NEAR + 1]
    if not np.isfinite(near).any():
        return None
    row, column = np.unravel_index(int(np.nanargmax(near)), near.shape)
    return left + int(column), top + int(row), float(near[row, column])


def _has_neighbours(values: np.ndarray, u: int, v: int, middle: float) -> bool:
    """Whether the pixels beside the highest one hold a fifth of it, as those of a peak do."""
    beside = [
        float(values[b, a])
        for b, a in ((v - 1, u), (v + 1, u), (v, u - 1), (v, u + 1))
        if 0 <= b < values.shape[0] and 0 <= a < values.shape[1] and np.isfinite(values[b, a])
    ]
    least = StarUse().sharpest * (float(values[v, u]) - middle)
    return bool(beside) and float(np.mean(beside)) - middle >= least


def _width(values: np.ndarray, u: int, v: int, middle: float) -> float:
    """The diameter of a disc as large as what lies above half of the peak's height, near it."""
    reach = int(_MOST_WIDTH) // 2
    part = values[max(v - reach, 0) : v + reach + 1, max(u - reach, 0) : u + reach + 1]
    half = middle + (float(values[v, u]) - middle) / 2
    width = 2 * math.sqrt(int((part >= half).sum()) / math.pi)
    return min(max(width, _LEAST_WIDTH), _MOST_WIDTH)

"""One star looked at closely: radial profile, fit, growth of the light with the aperture."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Plane
from rilievo.core.measure.stars.apertures import StarTable, stars_at
from rilievo.core.measure.stars.star_settings import StarCircles

Floats = NDArray[np.float64]

_GROWTH_STEPS = 60


@dataclass(frozen=True, eq=False)
class StarLook:
    """What a star's panel shows.

    x, y : centroid. distance, value : of each pixel about it, above the sky. curve : radii and the
    fitted profile along its mean axis. growth : radii, and the light within each as a share of
    that in the aperture. cutout, residual : about it, (side, side) pixels, above the sky;
    NaN beyond the picture. left, top : of the cutout's first pixel. stars : a table of one star.
    """

    x: float
    y: float
    distance: Floats
    value: Floats
    curve: tuple[Floats, Floats]
    growth: tuple[Floats, Floats]
    cutout: Floats
    residual: Floats
    left: int
    top: int
    stars: StarTable

    @property
    def half_flux_radius(self) -> float:
        """Radius that holds half of the light."""
        return float(self.stars.light["half_radius"][0])


def star_look(
    signal: Plane,
    x: float,
    y: float,
    use: StarCircles,
    growth: tuple[float, float] = (1.0, 0.0),
) -> StarLook:
    """Return the star near a position looked at closely; growth : that of all stars beside it."""
    from rilievo.core.measure.star_kernels import flux_within, profile_at  # noqa: PLC0415 (compiled)

    stars = replace(stars_at(signal, np.array([[x, y]]), use), growth=growth)
    cx, cy = float(stars.light["x"][0]), float(stars.light["y"][0])
    if not np.isfinite(cx + cy):
        cx, cy = x, y
    sky = float(np.nan_to_num(stars.light["sky"][0]))
    half = int(np.ceil(use.sky_outer)) + 1
    left, top = round(cx) - half, round(cy) - half
    side = 2 * half + 1
    cutout = _cut(stars.values, left, top, side) - sky
    rows, columns = np.mgrid[top : top + side, left : left + side]
    distance = np.hypot(columns - cx, rows - cy)
    profile = stars.chosen.numbers[0]
    gaussian = use.use.model == "gaussian"
    residual = cutout.copy()
    radii = np.linspace(0, use.sky_outer, 120)
    curve = np.full(radii.size, np.nan)
    if np.isfinite(profile).all():
        fitted = np.array(
            [
                [profile_at(profile, u - profile[1], v - profile[2], gaussian)
                 for u in range(left, left + side)]
                for v in range(top, top + side)
            ]
        )  # fmt: skip
        residual = cutout - fitted - (profile[3] - sky)
        # Along the axis of mean width the quadratic form is that of a round star.
        mean = np.sqrt(profile[4] * profile[6] - profile[5] ** 2)
        form = mean * radii**2
        fall = np.exp(-form) if gaussian else (1 + form) ** -profile[7]
        curve = profile[0] * fall + profile[3] - sky
    steps = np.linspace(0.25, use.sky_outer, _GROWTH_STEPS)
    light = np.array([flux_within(stars.values, cx, cy, r, sky)[0] for r in steps])
    whole = flux_within(stars.values, cx, cy, use.radius, sky)[0]
    share = light / whole if whole > 0 else np.full(steps.size, np.nan)
    shown = np.isfinite(cutout) & (distance <= use.sky_outer)
    return StarLook(
        x=cx,
        y=cy,
        distance=distance[shown],
        value=cutout[shown],
        curve=(radii, curve),
        growth=(steps, share),
        cutout=cutout,
        residual=residual,
        left=left,
        top=top,
        stars=stars,
    )


def _cut(values: NDArray[np.floating], left: int, top: int, side: int) -> Floats:
    """A square of a plane as floats, NaN beyond it."""
    cut_out = np.full((side, side), np.nan)
    height, width = values.shape
    y0, y1, x0, x1 = max(top, 0), min(top + side, height), max(left, 0), min(left + side, width)
    if y0 < y1 and x0 < x1:
        cut_out[y0 - top : y1 - top, x0 - left : x1 - left] = values[y0:y1, x0:x1]
    return cut_out


def steady_radius(look: StarLook, within: float = 0.01) -> float:
    """Return the smallest radius from which on the light grows by less than a share per pixel.

    NaN where it never settles.
    """
    radii, share = look.growth
    rises = np.diff(share) / np.diff(radii)
    settled = np.flatnonzero(np.abs(rises) < within)
    return float(radii[settled[0] + 1]) if settled.size else float("nan")

"""What is measured of stars: light in an exact circle, and a fitted profile.

Sky: the median of the ring after clipping at 3 sigmas. The positions come from the regions, each
of which is a disc about a star; the centroid is found anew on every channel.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.measure.region_index import Floats, RegionIndex
from rilievo.core.measure.stars.star_settings import StarCircles
from rilievo.core.robust_statistics import median_and_mad_sigma, some_of
from rilievo.core.tiled_map import in_pieces

_LIGHT = (
    "x", "y", "sky", "sky_sd", "sky_pixels", "flux", "area", "undefined", "peak", "half_radius",
)  # fmt: skip
_TOGETHER = 16
# A star's fit reaches so many FWHM, within the aperture.
FIT_REACH = 2.5
_WORTH_THREADS = 1 << 20
# Stars of the growth curve: so many times above the noise, and how many of them.
_BRIGHT, _LEAST_GROWTH, _MOST_GROWTH = 50.0, 5, 40


@dataclass(frozen=True, eq=False)
class Profile:
    """Fitted profiles, one a star; NaN where the fit failed.

    numbers : shape (n, 8): amplitude, x, y, sky, a, b, c, exponent. quality : reduced χ².
    """

    numbers: Floats
    quality: Floats
    gaussian: bool

    @cached_property
    def _half(self) -> Floats:
        """The value of the quadratic form at which the profile has fallen to a half."""
        if self.gaussian:
            return np.full(len(self.numbers), np.log(2.0))
        return np.asarray(2 ** (1 / self.numbers[:, 7]) - 1)

    def width_along(self, axis: int) -> Floats:
        """Return the FWHM of the cut through the centre along x (0) or y (1)."""
        return np.asarray(2 * np.sqrt(self._half / self.numbers[:, 4 if axis == 0 else 6]))

    @cached_property
    def axes(self) -> tuple[Floats, Floats]:
        """FWHM along the longest and the shortest axis."""
        a, b, c = self.numbers[:, 4], self.numbers[:, 5], self.numbers[:, 6]
        middle, spread = (a + c) / 2, np.hypot((a - c) / 2, b)
        with np.errstate(invalid="ignore", divide="ignore"):
            return (
                2 * np.sqrt(self._half / (middle - spread)),
                2 * np.sqrt(self._half / (middle + spread)),
            )

    @property
    def fwhm(self) -> Floats:
        """Geometric mean of the two axes."""
        return np.sqrt(self.axes[0] * self.axes[1])

    @property
    def ellipticity(self) -> Floats:
        """1 − shortest / longest."""
        return np.asarray(1 - self.axes[1] / self.axes[0])

    @property
    def orientation(self) -> Floats:
        """Angle of the longest axis, counter-clockwise from +x on screen, −90 < θ ≤ 90."""
        a, b, c = self.numbers[:, 4], self.numbers[:, 5], self.numbers[:, 6]
        # The longest axis belongs to the smaller eigenvalue; y grows downwards.
        angle = -0.5 * np.degrees(np.arctan2(-2 * b, c - a))
        return np.where(angle <= -90, angle + 180, angle)


@dataclass(frozen=True, eq=False)
class StarTable:
    """Everything measured of the stars of a channel; each column has one number a star.

    values : the signal less `level`, so that 32 bits keep its digits. light : what light_all finds
    of it, by name; its sky is that of `values`. growth : by what fluxes are multiplied for the
    light outside of the aperture, and its standard error.
    """

    values: FloatPixels
    level: float
    circles: StarCircles
    light: dict[str, Floats]
    growth: tuple[float, float] = (1.0, 0.0)

    @property
    def sky(self) -> Floats:
        """Median of the sky ring, signal units."""
        return self.light["sky"] + self.level

    @property
    def flux(self) -> Floats:
        """Light above the sky, that outside of the aperture by the growth curve.

        NaN where a pixel of the aperture is undefined.
        """
        return np.where(self.light["undefined"] > 0, np.nan, self.light["flux"] * self.growth[0])

    @property
    def flux_error(self) -> Floats:
        """Standard error of the flux from the sky's noise, and the star's own with a gain.

        c √(F / g + A σ² + π/2 A² σ² / nₛ) and the error of c, the growth beyond the aperture;
        source: Merline & Howell 1995, Experimental Astronomy 6, 163–210, with the noise of the sky
        as measured, which has the read noise in it, and the sky a median, of which the variance is
        π/2 that of a mean.
        """
        area, noise, n = (self.light[name] for name in ("area", "sky_sd", "sky_pixels"))
        gain = self.circles.gain
        if gain:
            noise = np.maximum(noise, self.circles.read_noise / gain)
        light = np.maximum(self.light["flux"], 0)
        photon_noise = light / gain if gain else 0.0
        factor, error = self.growth
        with np.errstate(invalid="ignore", divide="ignore"):
            inside = photon_noise + area * noise**2 + np.pi / 2 * area**2 * noise**2 / n
            return np.sqrt(factor**2 * inside + (light * error) ** 2)

    @property
    def snr(self) -> Floats:
        """Flux in its standard errors."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return self.flux / self.flux_error

    @property
    def magnitude(self) -> Floats:
        """Zero point − 2.5 lg flux; NaN for a flux that is not positive."""
        flux, zero = self.flux, self.circles.use.zero_point
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(flux > 0, zero - 2.5 * np.log10(flux), np.nan)

    def profile(self, gaussian: bool) -> Profile:
        """Return the fitted profiles of a kind."""
        return self._gaussian if gaussian else self._moffat

    @property
    def chosen(self) -> Profile:
        """The fitted profiles of the kind that the method names."""
        return self.profile(self.circles.use.model == "gaussian")

    @cached_property
    def _gaussian(self) -> Profile:
        return self._fit(gaussian=True)

    @cached_property
    def _moffat(self) -> Profile:
        return self._fit(gaussian=False)

    def _fit(self, *, gaussian: bool) -> Profile:
        from rilievo.core.measure.star_kernels import FIT_NUMBERS, fitted_all  # noqa: PLC0415 (compiled)

        width = np.clip(2 * self.light["half_radius"], 1.0, 2 * self.circles.radius)
        positions = np.column_stack(
            [self.light["x"], self.light["y"], self.light["sky"], width, self.light["sky_sd"]]
        )
        usual = float(np.nanmedian(width)) if np.isfinite(width).any() else self.circles.radius
        radius = float(np.clip(FIT_REACH * usual, 3.0, max(self.circles.radius, 3.0)))
        gain = self.circles.gain
        parts = in_pieces(
            lambda first: fitted_all(
                self.values, positions[first : first + _TOGETHER], radius, gain, gaussian
            ),
            range(0, len(positions), _TOGETHER),
            values=_WORTH_THREADS,
        )
        fits = np.concatenate([np.zeros((0, FIT_NUMBERS + 1)), *parts])
        return Profile(fits[:, :FIT_NUMBERS], fits[:, FIT_NUMBERS], gaussian)


def light_at(
    values: FloatPixels, positions: NDArray[np.float64], circles: StarCircles
) -> dict[str, Floats]:
    """Return the light at positions of shape (n, 2), each moved to its centroid, as columns."""
    from rilievo.core.measure.star_kernels import light_all  # noqa: PLC0415 (compiled)

    sigma = circles.width / 2.355
    parts = in_pieces(
        lambda first: light_all(
            values, positions[first : first + _TOGETHER], circles.radius, circles.sky_inner,
            circles.sky_outer, max(sigma, 0.8),
        ),
        range(0, len(positions), _TOGETHER),
        values=_WORTH_THREADS,
    )  # fmt: skip
    light = np.concatenate([np.zeros((0, len(_LIGHT))), *parts])
    return dict(zip(_LIGHT, light.T, strict=True))


def stars_at(signal: Plane, positions: NDArray[np.float64], circles: StarCircles) -> StarTable:
    """Return the stars near positions (x, y) of a signal, shape (n, 2), within the circles."""
    values = signal.as_float()
    level = median_and_mad_sigma(some_of(values))[0] if values.dtype == np.float64 else 0.0
    level = level if np.isfinite(level) else 0.0
    near = np.ascontiguousarray(values - level if level else values, np.float32)
    return StarTable(near, level, circles, light_at(near, positions, circles))


def measured_stars(
    index: RegionIndex,
    signal: Plane,
    circles: StarCircles,
    growth: tuple[float, float] | None = None,
) -> StarTable:
    """Return the stars about the centroids of regions, fluxes with a growth curve.

    growth : that of more stars than these; None for that of these.
    """
    places = np.column_stack([index.form["x"], index.form["y"]])
    stars = stars_at(signal, places, circles)
    return replace(stars, growth=growth_beyond(stars) if growth is None else growth)


def growth_beyond(stars: StarTable) -> tuple[float, float]:
    """Return how much more light the bright stars have up to the sky ring, and its error.

    The mean ratio of the light within the inner radius of the sky ring and within the aperture,
    over the brightest stars, weighted by the noise of the ring between; ratios far off are left
    out. The error is that of the weights or of the scatter, whichever is larger. 1 and 0 for fewer
    than five bright stars.
    Source: Howell 1989, Publications of the Astronomical Society of the Pacific 101, 616–622.
    """
    from rilievo.core.measure.star_kernels import flux_within  # noqa: PLC0415 (compiled)

    light, circles = stars.light, stars.circles
    with np.errstate(invalid="ignore", divide="ignore"):
        snr = light["flux"] / (light["sky_sd"] * np.sqrt(light["area"]))
    good = np.isfinite(snr) & (snr > _BRIGHT) & (light["undefined"] == 0)
    order = np.argsort(-np.where(good, snr, -np.inf))[: min(int(good.sum()), _MOST_GROWTH)]
    if order.size < _LEAST_GROWTH or circles.sky_inner <= circles.radius:
        return 1.0, 0.0
    rings = []
    for k in order.tolist():
        x, y, sky = (float(light[name][k]) for name in ("x", "y", "sky"))
        whole, area, undefined = flux_within(stars.values, x, y, circles.sky_inner, sky)
        if undefined == 0:
            flux = float(light["flux"][k])
            noise = float(light["sky_sd"][k]) * np.sqrt(max(area - float(light["area"][k]), 1.0))
            rings.append((whole / flux, noise / flux))
    if len(rings) < _LEAST_GROWTH:
        return 1.0, 0.0
    ratios, noises = np.array(rings).T
    middle, sigma = median_and_mad_sigma(ratios)
    near = np.abs(ratios - middle) <= 4 * np.maximum(noises, sigma / 2)
    ratios, weights = ratios[near], 1 / np.maximum(noises[near], 1e-9) ** 2
    mean = float(np.average(ratios, weights=weights))
    total = float(weights.sum())
    scatter = float((weights * (ratios - mean) ** 2).sum()) / max(ratios.size - 1, 1)
    return mean, float(np.sqrt(max(1.0, scatter) / total))

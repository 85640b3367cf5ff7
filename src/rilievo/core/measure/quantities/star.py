"""Quantities of stars, measured with the circles and the profile of their class."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np

from rilievo.core.measure.quantities.shape import with_calibrated
from rilievo.core.measure.quantity import Column, listed
from rilievo.core.measure.region_values import RegionValues
from rilievo.core.measure.stars.apertures import StarTable

_star = partial(listed, "star", order=60, needs="a class whose regions are stars")
_calibrated = partial(with_calibrated, order=60)


def _of(measure: Callable[[StarTable], Column]) -> Callable[[RegionValues], Column]:
    """The measure for stars; NaN for regions that are none."""

    def column(values: RegionValues) -> Column:
        stars = values.stars
        return np.full(values.index.count, np.nan) if stars is None else measure(stars)

    return column


def _light(name: str) -> Callable[[RegionValues], Column]:
    return _of(lambda stars: stars.light[name])


def _error_of_magnitude(stars: StarTable) -> Column:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(stars.flux > 0, 2.5 / np.log(10) * stars.flux_error / stars.flux, np.nan)


_MOFFAT = "Moffat 1969, Astronomy and Astrophysics 3, 455"
_PROFILE = "of the fitted Moffat or Gaussian profile"

_star("star_x", "Star x", "x₀", "px", "column of the star's Gaussian-weighted centroid",
      "x₀ with Σ g·(v − S)·(x − x₀) = 0", _light("x"))  # fmt: skip
_star("star_y", "Star y", "y₀", "px", "row of the star's Gaussian-weighted centroid",
      "y₀ with Σ g·(v − S)·(y − y₀) = 0", _light("y"))  # fmt: skip
_star(
    "flux", "Flux", "F", "signal",
    "light within the aperture above the sky, each pixel weighted by its exact overlap, times the "
    "growth up to the sky ring of the brightest stars; undefined if a pixel of it is",
    "c · Σ w·(v − S)", _of(lambda stars: stars.flux),
)  # fmt: skip
_star(
    "flux_error", "Flux error", "σ(F)", "signal",
    "standard error of the flux from the noise of the sky, that of the growth and, where the gain "
    "is known, of the star's own light",
    "√(c² (F / g + A σ² + π/2 A² σ² / nₛ) + F² σ²(c)), with A the aperture's area, σ and nₛ of the "
    "sky ring",
    _of(lambda stars: stars.flux_error),
    source="Merline & Howell 1995, Experimental Astronomy 6, 163–210",
)  # fmt: skip
_star("magnitude", "Magnitude", "m", "mag", "brightness on the magnitude scale",
      "zero point − 2.5 lg F", _of(lambda stars: stars.magnitude),
      source="Pogson 1856, Monthly Notices of the Royal Astronomical Society 17, 12–15",
      )  # fmt: skip
_star("magnitude_error", "Magnitude error", "σ(m)", "mag", "standard error of the magnitude",
      "2.5 / ln 10 · σ(F) / F", _of(_error_of_magnitude))  # fmt: skip
_star("star_snr", "Star SNR", "F/σ", "", "flux in its standard errors", "F / σ(F)",
      _of(lambda stars: stars.snr))  # fmt: skip
_star("peak", "Peak", "p", "signal", "highest pixel of the star above the sky", "max v − S",
      _light("peak"), numeric_role="difference")  # fmt: skip
_star("sky", "Sky", "S", "signal",
      "median of the sky ring after clipping at 3 sigmas, values of a level spread evenly over it",
      "median v in the ring", _of(lambda stars: stars.sky), numeric_role="level")  # fmt: skip
_star("sky_sd", "Sky noise", "σ", "signal",
      "standard deviation of the sky ring, clipped at 3 sigmas and corrected for the clipping",
      "sd v in the ring / √0.97335", _light("sky_sd"),
      numeric_role="difference")  # fmt: skip
_star("hfd", "Half-flux diameter", "HFD", "px",
      "diameter of the circle that holds half of the flux of the aperture",
      "2 r with flux(r) = F / 2", _of(lambda stars: 2 * stars.light["half_radius"]))  # fmt: skip
_calibrated(
    "fwhm", "FWHM", "FWHM", "px", f"full width at half maximum {_PROFILE}, mean of the axes",
    "√(longest · shortest axis at half maximum)", _of(lambda stars: stars.chosen.fwhm),
    source=_MOFFAT, family="star", needs="a class whose regions are stars",
)  # fmt: skip
_star("fwhm_x", "FWHM x", "FWHM x", "px", f"width at half maximum {_PROFILE} along x",
      "2 √(h / a)", _of(lambda stars: stars.chosen.width_along(0)), source=_MOFFAT)  # fmt: skip
_star("fwhm_y", "FWHM y", "FWHM y", "px", f"width at half maximum {_PROFILE} along y",
      "2 √(h / c)", _of(lambda stars: stars.chosen.width_along(1)), source=_MOFFAT)  # fmt: skip
_star("fwhm_gaussian", "FWHM Gaussian", "FWHM (G)", "px",
      "full width at half maximum of a fitted Gaussian", "2 √(ln 2) / (a c − b²)^¼",
      _of(lambda stars: stars.profile(gaussian=True).fwhm))  # fmt: skip
_star("fwhm_moffat", "FWHM Moffat", "FWHM (M)", "px",
      "full width at half maximum of a fitted Moffat profile",
      "2 √(2^(1/β) − 1) / (a c − b²)^¼",
      _of(lambda stars: stars.profile(gaussian=False).fwhm), source=_MOFFAT)  # fmt: skip
_star("moffat_beta", "Moffat exponent", "β", "", "exponent of the fitted Moffat profile", "β",
      _of(lambda stars: stars.profile(gaussian=False).numbers[:, 7]), source=_MOFFAT)  # fmt: skip
_star("ellipticity", "Ellipticity", "ε", "", f"1 − shortest / longest axis {_PROFILE}",
      "1 − minor / major", _of(lambda stars: stars.chosen.ellipticity))  # fmt: skip
_star("star_eccentricity", "Star eccentricity", "e", "", f"eccentricity {_PROFILE}",
      "√(1 − (minor / major)²)",
      _of(lambda stars: np.sqrt(1 - (1 - stars.chosen.ellipticity) ** 2)))  # fmt: skip
_star("star_orientation", "Star orientation", "θ", "°",
      f"of the longest axis {_PROFILE}, counter-clockwise from +x with the first stored row on top",
      "½ · atan2(2 b, c − a)", _of(lambda stars: stars.chosen.orientation))  # fmt: skip
_star("fit_quality", "Fit quality", "χ²ᵣ", "", "reduced χ² of the fitted profile; near 1 is good",
      "Σ (v − model)² / σ² / (n − parameters)", _of(lambda stars: stars.chosen.quality),
      )  # fmt: skip

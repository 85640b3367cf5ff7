"""Synthetic stars whose light and form are known."""

from __future__ import annotations

import math

import numpy as np
from scipy.special import erf

from rilievo.core.image.image import Plane
from rilievo.core.measure.stars.star_settings import StarCircles, StarUse


def circles(**fields: object) -> StarCircles:
    """Return circles in pixels, as they are when nothing is told for stars of 4 px."""
    typed = {"radius": 8.0, "sky_inner": 12.0, "sky_outer": 20.0, "isolation": 12.0, **fields}
    use = StarUse.model_validate(typed)
    return use.resolved(use.width or 4.0)


def gaussian_star(
    shape: tuple[int, int], x: float, y: float, flux: float, fwhm: float
) -> np.ndarray:
    """Return a round Gaussian star, integrated over each pixel exactly."""
    sigma = fwhm / (2 * math.sqrt(2 * math.log(2)))

    def along(size: int, centre: float) -> np.ndarray:
        edges = (np.arange(size + 1) - 0.5 - centre) / (sigma * math.sqrt(2))
        return np.diff(erf(edges)) / 2

    return flux * np.outer(along(shape[0], y), along(shape[1], x))


def moffat_star(  # noqa: PLR0913 (a star has so many numbers)
    shape: tuple[int, int],
    x: float,
    y: float,
    flux: float,
    major: float,
    minor: float | None = None,
    angle: float = 0.0,
    beta: float = 3.0,
    fine: int = 7,
) -> np.ndarray:
    """Return an elliptic Moffat star; angle in degrees, counter-clockwise as seen on screen."""
    minor = major if minor is None else minor
    inner = (np.arange(fine) - (fine - 1) / 2) / fine
    rows = (np.arange(shape[0])[:, None] + inner).ravel()[:, None] - y
    columns = (np.arange(shape[1])[:, None] + inner).ravel()[None, :] - x
    turn = math.radians(angle)
    along = columns * math.cos(turn) - rows * math.sin(turn)
    across = columns * math.sin(turn) + rows * math.cos(turn)
    half = 2 ** (1 / beta) - 1
    q = half * ((2 * along / major) ** 2 + (2 * across / minor) ** 2)
    # The integral of (1 + q)^−β over the plane is π · major · minor / (4 · half · (β − 1)).
    profile = (1 + q) ** -beta * 4 * half * (beta - 1) / (math.pi * major * minor)
    cells = profile.reshape(shape[0], fine, shape[1], fine).mean(axis=(1, 3))
    return flux * cells


def noisy(light: np.ndarray, sky: float, noise: float, seed: int = 1) -> Plane:
    """Return light on a sky with noise, as a plane of floats."""
    rng = np.random.default_rng(seed)
    return Plane((light + sky + rng.normal(0, noise, light.shape)).astype(np.float32))

"""A peak under the pointer: against synthetic stars, and why there is none."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.measure.stars.peak_reading import PeakReading, read_peak

SIZE = 160


def star(
    x: float, y: float, fwhm: float, height: float, stretch: float = 1.0, noise: float = 2.0
) -> Plane:
    rng = np.random.default_rng(8)
    v, u = np.mgrid[:SIZE, :SIZE]
    sigma = fwhm / 2.354820045
    wide, narrow = sigma * math.sqrt(stretch), sigma / math.sqrt(stretch)
    form = ((u - x) / wide) ** 2 + ((v - y) / narrow) ** 2
    values = 500 + height * np.exp(-form / 2) + rng.normal(0, noise, (SIZE, SIZE))
    return plane_from_native(values.astype(np.float32))


@pytest.mark.parametrize("fwhm", [2.5, 4.0, 8.0])
@pytest.mark.parametrize("height", [60.0, 3000.0])
def test_a_star_is_read_as_it_is(fwhm: float, height: float) -> None:
    found = read_peak(star(80.3, 70.6, fwhm, height), 82, 69)
    assert isinstance(found, PeakReading)
    assert (found.x, found.y) == pytest.approx((80.3, 70.6), abs=0.25)
    assert found.background == pytest.approx(500, abs=1)
    assert found.noise == pytest.approx(2.0, rel=0.25)
    assert found.fwhm == pytest.approx(fwhm, rel=0.1 if height > 100 else 0.2)
    sigma = fwhm / 2.354820045
    assert found.flux == pytest.approx(2 * math.pi * sigma**2 * height, rel=0.15)
    # Of a Gaussian half of the light lies within 1.1774 sigmas.
    assert found.half_flux_diameter == pytest.approx(fwhm, rel=0.12)
    assert found.ellipticity < 0.15


def test_an_elongated_star_says_so() -> None:
    found = read_peak(star(80, 80, 5.0, 2000.0, stretch=1.6), 80, 80)
    assert isinstance(found, PeakReading)
    assert found.ellipticity == pytest.approx(1 - 1 / 1.6, abs=0.04)


def sentence(plane: Plane, x: int = 80, y: int = 80) -> str:
    found = read_peak(plane, x, y)
    assert isinstance(found, str)
    return found


def test_why_there_is_none() -> None:
    plain = star(20, 20, 4.0, 500.0)
    assert "No peak here" in sentence(plain)
    hot = plain.pixels.copy()
    hot[80, 80] = 5000
    assert "single bright pixel" in sentence(plane_from_native(hot))
    assert "border" in sentence(star(80, 3, 4.0, 500.0), 80, 3)
    undefined = np.full((50, 50), np.nan, np.float32)
    assert "Too little is defined" in sentence(plane_from_native(undefined), 25, 25)
    clipped = np.minimum(star(80, 80, 5.0, 9000.0).pixels, 4000).astype(np.uint16)
    plane = plane_from_native(clipped)
    plane = replace(plane, calibration=plane.calibration, saturation=4000.0)
    assert "saturated" in sentence(plane)


def test_small_and_flat_pictures_say_why() -> None:
    for values in (np.zeros((1, 1)), np.zeros((40, 40)), np.ones((3, 200))):
        assert isinstance(read_peak(plane_from_native(values.astype(np.float32)), 0, 0), str)


def test_a_broad_hill_is_no_star() -> None:
    v, u = np.mgrid[:SIZE, :SIZE]
    hill = 100 + 50 * np.exp(-((u - 80) ** 2 + (v - 80) ** 2) / (2 * 30.0**2))
    assert isinstance(read_peak(plane_from_native(hill.astype(np.float32)), 80, 80), str)

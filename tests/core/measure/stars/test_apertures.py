"""Stars: exact circles, light, widths and form against known truth."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.image.image import Calibration, Plane
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.measure.star_kernels import clipped_sky, flux_within, half_flux_radius, overlap
from rilievo.core.measure.stars.apertures import StarTable, stars_at
from rilievo.core.measure.stars.finding import disc
from rilievo.core.measure.stars.star_settings import StarUse
from tests.stars import circles, gaussian_star, moffat_star, noisy

FRAME = (61, 61)


def measured(plane: Plane, x: float = 30, y: float = 30, **fields: object) -> StarTable:
    return stars_at(plane, np.array([[x, y]]), circles(**fields))


@settings(max_examples=60)
@given(st.floats(-6, 6), st.floats(-6, 6), st.floats(0.05, 6))
def test_overlap_is_the_area_of_circle_and_square(dx: float, dy: float, radius: float) -> None:
    fine = 400
    inner = (np.arange(fine) + 0.5) / fine - 0.5
    inside = (inner[:, None] + dy) ** 2 + (inner[None, :] + dx) ** 2 <= radius**2
    assert overlap(dx, dy, radius) == pytest.approx(inside.mean(), abs=2e-3)


@pytest.mark.parametrize(("x", "y", "radius"), [(10, 10, 3), (9.7, 10.4, 5.25), (10.5, 10.5, 0.4)])
def test_the_overlaps_of_a_circle_sum_to_its_area(x: float, y: float, radius: float) -> None:
    values = np.ones((21, 21), np.float32)
    total, area, undefined = flux_within(values, x, y, radius, 0.0)
    assert area == pytest.approx(math.pi * radius**2, rel=1e-12)
    assert (total, undefined) == (pytest.approx(area), 0)


@pytest.mark.slow
def test_flux_and_its_share_in_the_aperture() -> None:
    fwhm, flux = 4.0, 1e6
    sigma = fwhm / 2.354820045
    plane = Plane((gaussian_star(FRAME, 30.3, 29.6, flux, fwhm) + 500).astype(np.float32))
    stars = measured(plane, radius=8, sky_inner=14, sky_outer=22)
    share = 1 - math.exp(-(8**2) / (2 * sigma**2))
    assert stars.flux[0] == pytest.approx(flux * share, rel=1e-4)
    assert stars.light["x"][0] == pytest.approx(30.3, abs=1e-3)
    assert stars.light["y"][0] == pytest.approx(29.6, abs=1e-3)
    assert stars.light["sky"][0] == pytest.approx(500, abs=0.01)
    # Half of the light of a Gaussian lies within its FWHM; averaging over pixels adds a little.
    assert 2 * stars.light["half_radius"][0] == pytest.approx(fwhm, rel=0.03)


def test_half_flux_of_a_flat_disc() -> None:
    values = np.zeros(FRAME, np.float32)
    values[disc(30, 30, 10, FRAME)] = 1
    # Half of the area of a disc lies within 1/√2 of its radius.
    assert half_flux_radius(values, 30.0, 30.0, 12.0, 0.0) == pytest.approx(
        10 / math.sqrt(2), abs=0.05
    )


@pytest.mark.parametrize("fwhm", [2.0, 3.0, 5.0, 8.0])
@pytest.mark.parametrize("model", ["gaussian", "moffat"])
def test_width_of_round_stars(fwhm: float, model: str) -> None:
    make = gaussian_star if model == "gaussian" else moffat_star
    rng = np.random.default_rng(4)
    found = []
    for k in range(8):
        x, y = 30 + rng.uniform(-0.5, 0.5, 2)
        plane = noisy(make(FRAME, x, y, 3e5, fwhm), 200, 3, seed=k)
        found.append(measured(plane, model=model, radius=14, sky_inner=16, sky_outer=28))
    widths = [s.chosen.fwhm[0] for s in found]
    assert np.mean(widths) == pytest.approx(fwhm, rel=0.01)
    assert max(abs(w / fwhm - 1) for w in widths) < 0.03
    assert max(s.chosen.ellipticity[0] for s in found) < 0.02
    if fwhm < 8:
        # The wings of wider stars reach into the sky ring and count as noise there.
        quality = np.mean([s.chosen.quality[0] for s in found])
        assert quality == pytest.approx(1, abs=0.15)


@pytest.mark.parametrize("angle", [0, 30, 90, -60])
@pytest.mark.parametrize("ellipticity", [0.1, 0.3, 0.5])
def test_form_of_elongated_stars(angle: float, ellipticity: float) -> None:
    major, minor = 6.0, 6.0 * (1 - ellipticity)
    plane = noisy(moffat_star(FRAME, 30.2, 29.9, 5e5, major, minor, angle), 200, 3)
    profile = measured(plane, radius=14, sky_inner=18, sky_outer=28).chosen
    assert profile.ellipticity[0] == pytest.approx(ellipticity, abs=0.02)
    assert profile.fwhm[0] == pytest.approx(math.sqrt(major * minor), rel=0.03)
    off = (profile.orientation[0] - angle + 90) % 180 - 90
    assert abs(off) < 3
    if angle == 0:
        assert profile.width_along(0)[0] == pytest.approx(major, rel=0.03)
        assert profile.width_along(1)[0] == pytest.approx(minor, rel=0.03)


def test_the_error_of_the_flux_is_its_scatter() -> None:
    gain, sky, flux = 2.0, 400.0, 20_000.0
    light = gaussian_star(FRAME, 30, 30, flux, 3.5)
    rng = np.random.default_rng(8)
    fluxes, errors = [], []
    for _ in range(400):
        frame = rng.poisson((light + sky) * gain) / gain + rng.normal(0, 4, FRAME)
        stars = measured(Plane(frame.astype(np.float32)), gain=gain)
        fluxes.append(stars.flux[0])
        errors.append(stars.flux_error[0])
    # 400 trials tell a standard deviation to 3.5 %.
    assert np.std(fluxes, ddof=1) == pytest.approx(np.mean(errors), rel=0.1)
    assert np.mean(fluxes) == pytest.approx(flux, rel=0.002)


def test_sky_is_not_moved_by_a_few_stars() -> None:
    rng = np.random.default_rng(2)
    values = rng.normal(100, 5, 4000)
    values[:200] += 400
    level, spread, count = clipped_sky(values)
    assert level == pytest.approx(100, abs=0.6)
    assert spread == pytest.approx(5, rel=0.05)
    assert count < 3830


@pytest.mark.slow
def test_light_on_a_large_offset() -> None:
    light = gaussian_star(FRAME, 30.2, 29.7, 5_000.0, 3.5)
    pixels = np.random.default_rng(8).normal(light, 2)
    near, far = measured(Plane(pixels + 100)), measured(Plane(pixels + 1e7))
    assert far.flux[0] == pytest.approx(near.flux[0], rel=1e-4)
    assert far.sky[0] == pytest.approx(1e7 + near.sky[0] - 100, abs=0.01)
    assert far.chosen.fwhm[0] == pytest.approx(near.chosen.fwhm[0], rel=1e-3)


def test_undefined_pixels_leave_the_flux_undefined() -> None:
    pixels = gaussian_star(FRAME, 30, 30, 1e5, 3).astype(np.float32) + 10
    pixels[33, 30] = np.nan
    stars = measured(Plane(pixels))
    assert np.isnan(stars.flux[0])
    assert np.isnan(stars.magnitude[0])
    assert stars.light["x"][0] == pytest.approx(30, abs=0.1)


def test_quantities_of_stars_and_of_other_regions() -> None:
    plane = Plane(
        noisy(moffat_star(FRAME, 30, 30, 2e5, 4), 50, 2).pixels, Calibration(1.5, "arcsec")
    )
    labels = np.zeros(FRAME, np.int32)
    labels[disc(30, 30, 8, FRAME)] = 1
    index = RegionIndex(labels, np.array([1]))
    stars = RegionValues(index, plane, plane, aperture=circles(zero_point=20.0))
    plain = RegionValues(index, plane, plane)
    family = [q for q in QUANTITIES.values() if q.family == "star"]
    assert len(family) > 20
    for quantity in family:
        assert np.isfinite(quantity.measure(stars)).all(), quantity.key
        assert np.isnan(quantity.measure(plain)).all(), quantity.key
    found = {q.key: q.measure(stars)[0] for q in family}
    assert found["magnitude"] == pytest.approx(20 - 2.5 * math.log10(found["flux"]))
    assert found["fwhm_unit"] == pytest.approx(1.5 * found["fwhm"])
    assert found["star_snr"] == pytest.approx(found["flux"] / found["flux_error"])


def test_circles_must_be_in_order() -> None:
    with pytest.raises(ValueError, match="sky ring outside of the aperture"):
        StarUse(radius=10, sky_inner=8, sky_outer=20)

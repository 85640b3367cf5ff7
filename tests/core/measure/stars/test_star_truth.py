"""Fluxes, their errors and what is left out, against synthetic fields whose light is known."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.star_kernels import clipped_sky
from rilievo.core.measure.stars.apertures import stars_at
from rilievo.core.measure.stars.finding import find_stars
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.analysis import Analysis
from tests.stars import circles, gaussian_star, moffat_star

FRAME = (260, 260)
PLACES = [(40.3 + 60 * i, 40.7 + 60 * j) for i in range(4) for j in range(4)]


def grid(fwhm: float, flux: float = 6e4, moffat: bool = False) -> np.ndarray:
    make = moffat_star if moffat else gaussian_star
    return np.asarray(sum(make(FRAME, x, y, flux, fwhm) for x, y in PLACES))


def recorded(light: np.ndarray, seed: int = 1) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return (light + 200 + rng.normal(0, 3, light.shape)).astype(np.float32)


def measured(pixels: np.ndarray, *quantities: str, **attributes: str) -> dict[str, np.ndarray]:
    outline = ClassDefinition(region_class="star", source="stars", star=StarUse())
    method = Method(outlines=(outline,), measure=Measure(quantities=quantities))
    sample = Sample("s", {"g": Plane(pixels)}, attributes=attributes)
    table = Analysis(sample, method).table()
    return {key: table.column("g", key) for key in quantities}


@pytest.mark.parametrize(
    ("fwhm", "moffat"),
    # Wider profiles with wings would reach each other here.
    [(2.5, False), (4.0, False), (7.0, False), (10.0, False), (2.5, True), (4.0, True)],
)
def test_the_flux_is_all_of_the_light_whatever_the_width(fwhm: float, moffat: bool) -> None:
    found = measured(recorded(grid(fwhm, 2e5, moffat)), "flux", "fwhm")
    assert found["flux"].size == len(PLACES)
    # Beyond four widths, where the sky is taken, a Moffat profile has half a per cent.
    assert np.median(found["flux"]) == pytest.approx(2e5, rel=0.008)
    assert np.median(found["fwhm"]) == pytest.approx(fwhm, rel=0.01)


def reason_at(pixels: np.ndarray, x: float, y: float) -> str:
    plane = Plane(pixels)
    found = find_stars(plane, plane, StarUse().resolved(4.0))
    away = np.hypot(found.positions[:, 0] - x, found.positions[:, 1] - y)
    return found.reasons[int(away.argmin())]


def test_what_spoils_a_flux_is_left_out_and_said() -> None:
    x, y = PLACES[5]
    light = grid(4.0)
    assert reason_at(recorded(light), x, y) == ""
    companion = light + gaussian_star(FRAME, x + 8, y, 0.3 * 6e4, 4.0)
    assert reason_at(recorded(companion), x, y).startswith("blended")
    near = light + gaussian_star(FRAME, x + 5, y + 3, 0.3 * 6e4, 4.0)
    assert reason_at(recorded(near), x, y).startswith(("blended", "elongated"))
    hit = recorded(light)
    hit[round(y) + 6, round(x) - 4 : round(x) - 1] += 0.17 * 6e4 / 3
    assert reason_at(hit, x, y) != ""
    clipped = recorded(light)
    top = clipped[round(y) - 2 : round(y) + 3, round(x) - 2 : round(x) + 3]
    np.minimum(top, 200 + 0.6 * (top.max() - 200), out=top)
    assert reason_at(clipped, x, y).startswith("saturated: ")
    assert "share the highest value" in reason_at(clipped, x, y)


@pytest.mark.parametrize("mean", [100.0, 100.3, 100.5, 100.8])
@pytest.mark.parametrize("noise", [0.5, 1.2, 4.0])
def test_the_sky_of_whole_counts_is_known_to_its_error(mean: float, noise: float) -> None:
    rng = np.random.default_rng(2)
    found = np.array([
        clipped_sky(np.round(rng.normal(mean, noise, 800)))[0] for _ in range(200)
    ])  # fmt: skip
    error = np.sqrt(np.pi / 2) * np.hypot(noise, 0.29) / np.sqrt(800)
    assert found.mean() == pytest.approx(mean, abs=0.08 if noise < 1 else 0.02)
    assert found.std() < 1.6 * error


@pytest.mark.slow
@pytest.mark.parametrize(("gain", "whole"), [(0.0, False), (1.5, False), (1.5, True)])
def test_stated_errors_are_true_ones(gain: float, whole: bool) -> None:
    """The pull, (flux − truth) / error, scatters by 0.9 to 1.1."""
    rng = np.random.default_rng(4)
    x, y, flux, fwhm = 40.4, 40.6, 3e4, 4.0
    light = gaussian_star((81, 81), x, y, flux, fwhm)
    pulls = []
    for _ in range(400):
        electrons = rng.poisson(light * gain) / gain if gain else light
        pixels = electrons + 100.3 + rng.normal(0, 2.5, light.shape)
        pixels = np.round(pixels) if whole else pixels
        stars = stars_at(Plane(pixels.astype(np.float32)), np.array([[x, y]]),
                         circles(gain=gain, radius=10, sky_inner=16, sky_outer=26))  # fmt: skip
        pulls.append((float(stars.flux[0]) - flux) / float(stars.flux_error[0]))
    assert 0.9 < np.std(pulls) < 1.1
    assert abs(np.mean(pulls)) < 0.2


def test_the_gain_of_the_file_is_taken_where_none_is_told() -> None:
    pixels = recorded(grid(4.0))
    plain = measured(pixels, "flux_error")["flux_error"]
    told = measured(pixels, "flux_error", gain="1.5")["flux_error"]
    flux = measured(pixels, "flux")["flux"]
    np.testing.assert_allclose(told**2 - plain**2, flux / 1.5, rtol=0.05)
    assert (measured(pixels, "flux_error", gain="unknown")["flux_error"] == plain).all()


@pytest.mark.parametrize("fwhm", [2.5, 4.0, 7.0])
def test_a_gaussian_star_is_as_wide_to_a_moffat_profile(fwhm: float) -> None:
    found = measured(recorded(grid(fwhm, 2e5)), "fwhm_moffat")["fwhm_moffat"]
    assert np.median(found) == pytest.approx(fwhm, rel=0.004)

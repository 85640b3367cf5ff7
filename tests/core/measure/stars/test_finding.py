"""Finding stars, the field, and the same stars through a series."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.stars.finding import find_stars, usual_width
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from tests.core.helpers.stars import FRAME, POSITIONS, field
from tests.stars import circles, gaussian_star, moffat_star, noisy


def found_in(plane: Plane, native: Plane | None = None, **fields: object) -> dict:
    found = find_stars(plane, native or plane, circles(**fields))
    return {
        tuple(np.round(position, 1)): reason
        for position, reason in zip(found.positions.tolist(), found.reasons, strict=True)
    }


def test_every_star_is_found_once_and_nothing_else() -> None:
    found = found_in(noisy(field(), 300, 4))
    assert len(found) == len(POSITIONS)
    assert set(found.values()) == {""}
    for x, y in POSITIONS:
        assert min(math.hypot(x - a, y - b) for a, b in found) < 0.15


def test_noise_alone_has_no_star() -> None:
    assert found_in(noisy(np.zeros(FRAME), 300, 4)) == {}
    assert found_in(Plane(np.full((1, 1), 7, np.float32))) == {}
    assert found_in(Plane(np.full((40, 40), np.nan, np.float32))) == {}
    assert found_in(Plane(np.zeros((40, 40), np.float32))) == {}


def test_a_sky_that_tilts_is_no_star() -> None:
    y, x = np.mgrid[: FRAME[0], : FRAME[1]]
    found = found_in(noisy(field() + 3.0 * x + 2.0 * y, 300, 4))
    assert list(found.values()).count("") == len(POSITIONS)
    assert len(found) <= len(POSITIONS) + 1


def reason_near(found: dict, x: float, y: float) -> str:
    return found[min(found, key=lambda position: math.hypot(position[0] - x, position[1] - y))]


def test_each_that_is_left_out_says_why() -> None:
    hot = np.zeros(FRAME)
    hot[20, 150] = 3000
    companion = moffat_star(FRAME, 169.0, 110.4, 2e4, 4.0, fine=3)
    border = moffat_star(FRAME, 4.0, 90.0, 4e4, 4.0, fine=3)
    streak = moffat_star(FRAME, 100.0, 130.0, 8e4, 14.0, 3.5, 20.0, fine=3)
    plane = noisy(field(hot, companion, border, streak), 300, 4)
    counts = np.zeros(FRAME, np.float32)
    counts[50, 40] = 9
    found = found_in(plane, Plane(counts, saturation=9))
    assert reason_near(found, 150, 20).startswith("too sharp")
    assert reason_near(found, 160, 110).startswith("blended: another star is 8.")
    assert reason_near(found, 169, 110).startswith("blended")
    assert reason_near(found, 4, 90).startswith("too near the border")
    assert reason_near(found, 40, 50) == "saturated: 1 pixel"
    assert reason_near(found, 100, 130).startswith("elongated: ellipticity 0.7")
    assert reason_near(found, 60, 121) == ""


def test_a_night_of_trailed_stars_is_still_measured() -> None:
    light = sum(moffat_star(FRAME, x, y, 6e4, 11.0, 3.5, 30.0, fine=3) for x, y in POSITIONS)
    assert set(found_in(noisy(np.asarray(light), 300, 4)).values()) == {""}


def star_method(*quantities: str, **fields: object) -> Method:
    outline = ClassDefinition(
        region_class="star", source="stars", star=StarUse.model_validate(fields)
    )
    return Method(outlines=(outline,), measure=Measure(quantities=quantities))


def test_stars_are_regions_with_their_reasons() -> None:
    plane = noisy(field(moffat_star(FRAME, 3.0, 90.0, 4e4, 4.0, fine=3)), 300, 4)
    sample = Sample("field", {"gray": plane})
    cache = AnalysisCache()
    method = star_method("flux", "star_x", "area")
    regions = Analysis(sample, method, cache).regions()
    assert regions.count == 4
    assert regions.reasons == ("too near the border: 4 px",)
    assert regions.reason_at(3, 90) == "too near the border: 4 px"
    table = Analysis(sample, method, cache).table()
    # Within 2.5 widths, 10 px, of a Moffat profile of exponent 3 and 4 px FWHM.
    alpha = 2 / math.sqrt(2 ** (1 / 3) - 1)
    share = 1 - (1 + (10 / alpha) ** 2) ** -2
    np.testing.assert_allclose(table.column("gray", "flux"), 4e4 * share, rtol=0.03)
    assert np.all(np.abs(table.column("gray", "area") - math.pi * 100) < 25)


def test_width_is_found_from_the_picture() -> None:
    for fwhm in (2.5, 7.0, 11.0):
        light = sum(gaussian_star(FRAME, x, y, 1e5, fwhm) for x, y in POSITIONS)
        plane = noisy(np.asarray(light), 100, 3)
        assert usual_width(plane, StarUse()) == pytest.approx(fwhm, rel=0.03)

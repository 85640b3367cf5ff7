"""Finding stars, the field, and the same stars through a series."""

from __future__ import annotations

import math
from datetime import datetime, timedelta

import numpy as np
import pytest

from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.stars.finding import find_stars
from rilievo.core.measure.stars.matching import match_stars, moved
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import Outline
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.table.star_field import star_field
from rilievo.core.table.star_series import as_date, constant_stars, light_curve, make_series
from rilievo.core.table.table import RegionTable
from tests.stars import gaussian_star, moffat_star, noisy

FRAME = (160, 200)
PLACES = [(40.3, 50.2), (120.7, 44.6), (160.1, 110.4), (60.5, 120.9)]


def field(*extra: np.ndarray, fwhm: float = 4.0) -> np.ndarray:
    light = sum(moffat_star(FRAME, x, y, 4e4, fwhm, fine=3) for x, y in PLACES)
    return np.asarray(light + sum(extra, np.zeros(FRAME)))


def found_in(plane: Plane, native: Plane | None = None, **fields: object) -> dict:
    found = find_stars(plane, native or plane, StarUse.model_validate(fields))
    return {
        tuple(np.round(place, 1)): reason
        for place, reason in zip(found.places.tolist(), found.reasons, strict=True)
    }


def test_every_star_is_found_once_and_nothing_else() -> None:
    found = found_in(noisy(field(), 300, 4))
    assert len(found) == len(PLACES)
    assert set(found.values()) == {""}
    for x, y in PLACES:
        assert min(math.hypot(x - a, y - b) for a, b in found) < 0.15


def test_noise_alone_has_no_star() -> None:
    assert found_in(noisy(np.zeros(FRAME), 300, 4)) == {}
    assert found_in(Plane(np.full((1, 1), 7, np.float32))) == {}
    assert found_in(Plane(np.full((40, 40), np.nan, np.float32))) == {}
    assert found_in(Plane(np.zeros((40, 40), np.float32))) == {}


def test_a_sky_that_tilts_is_no_star() -> None:
    y, x = np.mgrid[: FRAME[0], : FRAME[1]]
    found = found_in(noisy(field() + 3.0 * x + 2.0 * y, 300, 4))
    assert list(found.values()).count("") == len(PLACES)
    assert len(found) <= len(PLACES) + 1


def reason_near(found: dict, x: float, y: float) -> str:
    return found[min(found, key=lambda place: math.hypot(place[0] - x, place[1] - y))]


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
    light = sum(moffat_star(FRAME, x, y, 6e4, 11.0, 3.5, 30.0, fine=3) for x, y in PLACES)
    assert set(found_in(noisy(np.asarray(light), 300, 4)).values()) == {""}


def star_method(*quantities: str, **fields: object) -> Method:
    outline = Outline(region_class="star", source="stars", star=StarUse.model_validate(fields))
    return Method(outlines=(outline,), measure=Measure(quantities=quantities))


def test_stars_are_regions_with_their_reasons() -> None:
    plane = noisy(field(moffat_star(FRAME, 3.0, 90.0, 4e4, 4.0, fine=3)), 300, 4)
    sample = Sample("field", {"gray": plane})
    evaluator = Evaluator()
    method = star_method("flux", "star_x", "area")
    regions = evaluator.regions(sample, method)
    assert regions.count == 4
    assert regions.reasons == ("too near the border: 4 px",)
    assert regions.reason_at(3, 90) == "too near the border: 4 px"
    table = evaluator.measure(sample, method)
    # Of each star about 93 % lie within 8 px of a Moffat profile of exponent 3 and 4 px FWHM.
    alpha = 2 / math.sqrt(2 ** (1 / 3) - 1)
    share = 1 - (1 + (8 / alpha) ** 2) ** -2
    np.testing.assert_allclose(table.column("gray", "flux"), 4e4 * share, rtol=0.03)
    assert np.all(np.abs(table.column("gray", "area") - math.pi * 64) < 10)


# -- the field


def columns_of(
    width: float = 3.0, corners: float = 0.0, tilt: float = 0.0, ellipticity: float = 0.0
) -> dict[str, np.ndarray]:
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 799, 80), rng.uniform(0, 599, 80)
    u, v = (x - 399.5) / 500, (y - 299.5) / 500
    fwhm = width * (1 + corners * (u**2 + v**2) + tilt * u) + rng.normal(0, 0.03, 80)
    if ellipticity:
        form, angle = np.full(80, ellipticity), 25 + rng.normal(0, 2, 80)
    else:
        form, angle = rng.uniform(0, 0.1, 80), rng.uniform(-90, 90, 80)
    return {
        "star_x": x, "star_y": y, "fwhm": fwhm, "ellipticity": form, "star_orientation": angle,
    }  # fmt: skip


def test_an_even_field_has_nothing_to_say() -> None:
    field = star_field(columns_of(), (600, 800))
    assert field is not None
    assert field.sentences() == []
    assert field.ellipticity < 0.02
    assert field.spreads["fwhm"].median == pytest.approx(3.0, abs=0.02)
    assert field.spreads["fwhm"].sigma == pytest.approx(0.03, rel=0.35)


def test_soft_corners_tilt_and_trails_are_named() -> None:
    soft = star_field(columns_of(corners=0.4), (600, 800))
    assert soft is not None
    assert soft.corners == pytest.approx(1.4, abs=0.05)
    assert soft.sentences()[0].startswith("Sharp in the middle, soft in the corners: FWHM 3.0 px")
    tilted = star_field(columns_of(tilt=0.2), (600, 800))
    assert tilted is not None
    assert tilted.tilt == pytest.approx(0.4, abs=0.03)
    assert "Softer towards the right" in tilted.sentences()[0]
    trailed = star_field(columns_of(ellipticity=0.5), (600, 800))
    assert trailed is not None
    assert trailed.ellipticity == pytest.approx(0.5, abs=0.01)
    assert trailed.sentences() == ["Stars are trailed in one direction: ellipticity 0.50 at 25°."]
    # Shown with the first row at the bottom, directions are the other way round.
    flipped = star_field(columns_of(ellipticity=0.5), (600, 800), bottom_up=True)
    assert flipped is not None
    assert flipped.angle == pytest.approx(-trailed.angle)
    assert flipped.sentences(directions=False) == [
        "Stars are trailed in one direction: ellipticity 0.50."
    ]


def test_no_stars_no_field() -> None:
    assert star_field({"fwhm": np.ones(3)}, (10, 10)) is None
    nothing = {key: np.full(3, np.nan) for key in columns_of()}
    assert star_field(nothing, (10, 10)) is None
    few = {key: values[:3] for key, values in columns_of(ellipticity=0.6).items()}
    found = star_field(few, (600, 800))
    assert found is not None
    assert found.count == 3
    assert found.sentences() == []


# -- matching


@pytest.mark.parametrize(
    ("scale", "turn", "dx", "dy"),
    [(1.0, 0.0, 3.2, -4.1), (1.0, 2.0, 40.0, 25.0), (0.9, -35.0, -100.0, 60.0), (1.0, 180.0, 0, 0)],
)
def test_the_same_stars_under_shift_rotation_and_scale(
    scale: float, turn: float, dx: float, dy: float
) -> None:
    rng = np.random.default_rng(5)
    places, light = rng.uniform(0, 700, (90, 2)), rng.exponential(1, 90)
    a, b = scale * math.cos(math.radians(turn)), scale * math.sin(math.radians(turn))
    other = moved(places, a, b, dx, dy) + rng.normal(0, 0.1, places.shape)
    # A tenth is missing on each side, and brightness is not quite the same.
    order = rng.permutation(90)[:80]
    match = match_stars(
        places[:82], light[:82], other[order], light[order] * rng.uniform(0.9, 1.1, 80)
    )
    assert match is not None
    assert (match.own == order[match.other]).all()
    assert match.own.size >= 0.95 * np.count_nonzero(order < 82)
    assert match.scale == pytest.approx(1 / scale, rel=1e-3)
    assert (match.rotation + turn + 180) % 360 - 180 == pytest.approx(0, abs=0.1)


def test_other_fields_do_not_match() -> None:
    rng = np.random.default_rng(6)
    one, two = rng.uniform(0, 700, (2, 40, 2))
    light = rng.exponential(1, 40)
    match = match_stars(one, light, two, light)
    assert match is None or match.own.size < 12
    assert match_stars(one[:2], light[:2], two, light) is None


# -- series


def series_tables(count: int = 6, variable: int = 4) -> tuple[list[RegionTable], np.ndarray]:
    """Tables of 30 stars with 1 % errors; the brightness of one rises by a fifth a night."""
    rng = np.random.default_rng(7)
    places, light = rng.uniform(20, 580, (30, 2)), 10_000 * (1 + rng.exponential(1, 30))
    truth = 1 + 0.2 * np.arange(count)
    tables = []
    for k in range(count):
        flux = light * (1 - 0.05 * k)
        flux[variable] *= truth[k]
        error = 0.01 * flux
        order = rng.permutation(30)
        at = moved(places, 1.0, 0.01 * k, 2.0 * k, -k)[order]
        columns = {
            "flux": (flux + rng.normal(0, error))[order],
            "flux_error": error[order],
            "star_x": at[:, 0],
            "star_y": at[:, 1],
        }
        ids = np.arange(1, 31)
        tables.append(RegionTable(f"night {k}", "", "", ("star",), ids, {"gray": columns}))
    return tables, truth


def test_a_variable_star_among_constant_ones() -> None:
    tables, truth = series_tables()
    start = datetime(2031, 2, 3)
    dates = [start + timedelta(days=2 * k) for k in range(6)]
    # Given out of order, the series is in the order of time.
    series = make_series(tables[::-1], dates[::-1], "gray")
    assert series is not None
    assert series.samples[0] == "night 0"
    np.testing.assert_array_equal(series.days, 2.0 * np.arange(6))
    assert np.isfinite(series.flux).all()
    star = int(np.argmax(series.flux[:, -1] / series.flux[:, 0]))
    assert not series.comparison[star]
    assert series.comparison.sum() == 29
    curve = light_curve(series, star)
    assert curve.is_variable
    true = -2.5 * np.log10(truth) + 2.5 * np.log10(truth).mean()
    assert (np.abs(curve.magnitude - true) < 4 * curve.error).all()
    assert curve.error == pytest.approx(1.0857 * 0.01 * math.sqrt(1 + 1 / 29), rel=0.1)
    constant = [light_curve(series, k) for k in range(30) if k != star]
    assert np.median([c.scatter / c.expected for c in constant]) == pytest.approx(1, abs=0.2)
    assert not any(c.is_variable for c in constant)
    assert constant[0].comparisons == 28
    region = int(series.ids[star, 2])
    assert series.star_of("night 2", region) == star
    assert series.star_of("elsewhere", 1) is None
    assert series.median_flux(star) == np.median(series.flux[star])
    # Stars to compare with are chosen by where they stand, and found again from there.
    places = series.with_toggled(star)
    assert len(places) == 30
    again = make_series(tables, dates, "gray", comparison=[(x + 2, y - 2) for x, y in places])
    assert again is not None
    assert again.comparison.all()
    few = make_series(tables, dates, "gray", comparison=places[:4])
    assert few is not None
    assert few.comparison.sum() == 4
    nowhere = make_series(tables, dates, "gray", comparison=[(-900.0, -900.0)])
    assert nowhere is not None
    assert nowhere.comparison.sum() == 29


def test_a_picture_that_does_not_match_is_named() -> None:
    tables, _ = series_tables(3)
    rng = np.random.default_rng(1)
    ids = np.arange(1, 6)
    other = {"flux": np.ones(5), "star_x": rng.uniform(0, 9, 5), "star_y": rng.uniform(0, 9, 5)}
    tables.append(RegionTable("elsewhere", "", "", ("star",), ids, {"gray": other}))
    series = make_series(tables, [None] * 4, "gray")
    assert series is not None
    assert series.unmatched == ("elsewhere",)
    assert not series.has_dates
    np.testing.assert_array_equal(series.days, np.arange(4.0))
    assert make_series([], [], "gray") is None


def test_comparison_stars_are_never_fewer_than_three() -> None:
    rng = np.random.default_rng(2)
    wild = rng.uniform(1, 10, (5, 8))
    assert constant_stars(wild, 0.001 * wild).sum() == 3


def test_dates_as_files_write_them() -> None:
    assert as_date("2031-02-03T21:14:00") == datetime(2031, 2, 3, 21, 14)
    assert as_date(" 2031-02-03 ") == datetime(2031, 2, 3)
    assert as_date("last night") is None


def test_width_is_found_from_the_picture() -> None:
    for fwhm in (2.5, 7.0):
        light = sum(gaussian_star(FRAME, x, y, 1e5, fwhm) for x, y in PLACES)
        plane = noisy(np.asarray(light), 100, 3)
        assert find_stars(plane, plane, StarUse()).width == pytest.approx(fwhm, rel=0.1)

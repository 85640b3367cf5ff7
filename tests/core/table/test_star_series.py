from __future__ import annotations

import math
from datetime import datetime, timedelta

import numpy as np
import pytest

from rilievo.core.measure.stars.matching import moved
from rilievo.core.table.star_series import as_date, constant_stars, light_curve, make_series
from rilievo.core.table.table import RegionTable


def series_tables(count: int = 6, variable: int = 4) -> tuple[list[RegionTable], np.ndarray]:
    """Tables of 30 stars with 1 % errors; the brightness of one rises by a fifth a night."""
    rng = np.random.default_rng(7)
    positions, light = rng.uniform(20, 580, (30, 2)), 10_000 * (1 + rng.exponential(1, 30))
    truth = 1 + 0.2 * np.arange(count)
    tables = []
    for k in range(count):
        flux = light * (1 - 0.05 * k)
        flux[variable] *= truth[k]
        error = 0.01 * flux
        order = rng.permutation(30)
        at = moved(positions, 1.0, 0.01 * k, 2.0 * k, -k)[order]
        columns = {
            "flux": (flux + rng.normal(0, error))[order],
            "flux_error": error[order],
            "star_x": at[:, 0],
            "star_y": at[:, 1],
        }
        ids = np.arange(1, 31)
        tables.append(RegionTable(f"night {k}", "", "", ("star",), ids, {"gray": columns}))
    return tables, truth


@pytest.mark.slow
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
    positions = series.with_toggled(star)
    assert len(positions) == 30
    again = make_series(tables, dates, "gray", comparison=[(x + 2, y - 2) for x, y in positions])
    assert again is not None
    assert again.comparison.all()
    few = make_series(tables, dates, "gray", comparison=positions[:4])
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

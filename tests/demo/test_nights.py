"""The Nights set: what was put in is in the files, and is found again."""

from __future__ import annotations

import functools
from pathlib import Path

import numpy as np
import pandas
import pytest
from scipy import ndimage

from rilievo.core.batch import measured
from rilievo.core.files import read_sample
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.pipeline.checks import batch_properties_of, check_batch
from rilievo.core.pipeline.checks_measured import check_measured, check_measured_batch
from rilievo.core.table.star_field import star_field
from rilievo.core.table.star_series import Series, as_date, light_curve, make_series
from rilievo.core.table.table import RegionTable, region_frame
from rilievo.demo import nights
from tests.core.helpers.measuring import run_batch

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def written(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("nights")
    nights.write_nights(folder)
    return folder


def test_headers_say_how_each_night_was_taken(written: Path) -> None:
    sample = read_sample(written / "night-3.fits")
    assert sample.attributes["date"] == nights.NIGHTS[2].date
    assert sample.attributes["exposure"] == "60.0"
    assert sample.attributes["filter"] == "V"
    assert sample.first.calibration.pixel_size == nights.PIXEL_SCALE
    assert sample.first.saturation == nights.SATURATED
    assert sample.first.pixels.dtype == np.uint16
    assert sample.bottom_up


def test_the_light_of_a_star_is_the_truth(written: Path) -> None:
    """In a wide aperture around bright stars lies the flux of the truth table."""
    truth = pandas.read_csv(written / "truth" / "stars.csv")
    frames = [read_sample(written / "frames" / f"flat-{n}.fits").first.pixels for n in (1, 2, 3)]
    darks = [read_sample(written / "frames" / f"dark-{n}.fits").first.pixels for n in (1, 2, 3)]
    dark = np.mean(darks, axis=0)
    flat = np.mean(frames, axis=0) - dark
    image = (read_sample(written / "night-1.fits").first.pixels - dark) / (flat / flat.mean())
    bright = truth[(truth["sample"] == "night-1") & truth["flux"].between(25_000, 400_000)]
    y, x = np.mgrid[: nights.HEIGHT, : nights.WIDTH]
    deviations = []
    for star in bright.itertuples():
        away = np.hypot(x - star.x, y - star.y)
        sky = np.median(image[(away > 14) & (away < 20)])
        deviations.append((image[away < 12] - sky).sum() / star.flux - 1)
    assert len(deviations) >= 5
    assert abs(np.median(deviations)) < 0.03


def test_faults_are_where_the_tables_say(written: Path) -> None:
    hot = pandas.read_csv(written / "truth" / "hot_pixels.csv")
    pixels = read_sample(written / "frames" / "dark-1.fits").first.pixels.astype(float)
    around = ndimage.median_filter(pixels, 5)
    for fault in hot.itertuples():
        rise = pixels[fault.y, fault.x] - around[fault.y, fault.x]
        assert rise == pytest.approx(fault.counts, rel=0.25)


def test_the_night_out_of_focus_is_found(written: Path) -> None:
    properties = {
        night.number: batch_properties_of(read_sample(written / f"night-{night.number}.fits"))
        for night in nights.NIGHTS
    }
    found = check_batch({f"night-{number}": one for number, one in properties.items()})
    assert {(check.sample, check.kind) for check in found} <= {
        ("night-5", "blur"),
        ("night-7", "blur"),
    }


@functools.cache
def field() -> nights.Sky:
    return nights.synthetic_sky()


@pytest.fixture(scope="module")
def tables(written: Path) -> list[RegionTable]:
    paths = [written / f"night-{n.number}.fits" for n in nights.NIGHTS]
    return measured(run_batch(samples_for(paths), nights.nights_method(written)))


def test_the_lines_of_the_demo_tell_how_near_it_came(
    written: Path, tables: list[RegionTable]
) -> None:
    lines = nights.recovery_lines(written / "truth", region_frame(tables).to_pandas())
    rows = [line.split() for line in lines if line.startswith("night-")]
    assert len(rows) == 8
    for night, row in zip(nights.NIGHTS, rows, strict=True):
        assert abs(float(row[4])) < 3
        if not night.trail:
            assert float(row[7]) == pytest.approx(night.fwhm, rel=0.03)


def bright(table: RegionTable) -> dict[str, np.ndarray]:
    columns = table.columns[table.channels[0]]
    good = columns["star_snr"] > 100
    return {key: values[good] for key, values in columns.items()}


def test_sharpness_and_form_are_those_put_in(tables: list[RegionTable]) -> None:
    for night, table in zip(nights.NIGHTS, tables, strict=True):
        found = star_field(bright(table), (nights.HEIGHT, nights.WIDTH))
        assert found is not None
        if night.trail:
            # Trailed along (0.8, 0.6) with y downwards: 37° clockwise.
            assert found.angle == pytest.approx(-36.9, abs=2)
            assert found.ellipticity > 0.5
        else:
            assert found.spreads["fwhm"].median == pytest.approx(night.fwhm, rel=0.03)
            assert found.ellipticity < 0.02


def test_soft_and_trailed_nights_are_named(tables: list[RegionTable]) -> None:
    checks = [check for table in tables for check in check_measured(table)]
    checks += check_measured_batch(tables)
    named = {(check.sample, check.kind) for check in checks}
    assert named == {
        ("night-5", "out of focus"),
        ("night-7", "trailed"),
        ("night-7", "out of focus"),
    }
    trailed = next(check.text for check in checks if check.kind == "trailed")
    assert trailed.startswith("Stars are trailed in one direction: ellipticity 0.6")


@pytest.fixture(scope="module")
def series(tables: list[RegionTable]) -> Series:
    dates = [as_date(night.date) for night in nights.NIGHTS]
    found = make_series(tables, dates, tables[0].channels[0])
    assert found is not None
    return found


def true_positions(series: Series) -> np.ndarray:
    """Which of the stars put in each star of the series is."""
    sky = field()
    positions = np.column_stack([sky.x, sky.y])
    # The series has the positions of its fullest picture, which may be shifted.
    away = [
        np.hypot(
            *(positions[:, None] + np.array(n.shift) - np.column_stack([series.x, series.y])).T
        )
        for n in nights.NIGHTS
    ]
    best = min(away, key=lambda d: np.median(d.min(axis=1)))
    assert np.median(best.min(axis=1)) < 0.2
    return np.asarray(best.argmin(axis=1))


def photon_noise(star: int, night: nights.Night) -> float:
    """The least standard error of a star's flux in its circle, in magnitudes.

    Light of star, sky and dark current arrives in single electrons, and reading adds its noise.
    """
    sky = field()
    flux = float(sky.flux[star]) * night.transparency
    alpha = night.fwhm / (2 * np.sqrt(2 ** (1 / 3) - 1))
    inside = flux * (1 - (1 + (nights.RADIUS / alpha) ** 2) ** -2)
    area = np.pi * nights.RADIUS**2
    variance = inside / nights.GAIN + area * (
        (night.sky + nights.DARK) / nights.GAIN + nights.READ_NOISE**2
    )
    return float(2.5 / np.log(10) * np.sqrt(variance) / inside)


def test_constant_stars_scatter_as_photons_do(series: Series) -> None:
    positions = true_positions(series)
    good = [k for k, night in enumerate(nights.NIGHTS) if not night.trail and night.fwhm < 5]
    ratios = []
    for star, true in enumerate(positions):
        if true == nights.VARIABLE or not np.isfinite(series.flux[star]).all():
            continue
        curve = light_curve(series, star)
        limit = np.sqrt(np.mean([photon_noise(int(true), nights.NIGHTS[k]) ** 2 for k in good]))
        ratios.append(float(curve.magnitude[good].std(ddof=1) / limit))
    assert len(ratios) > 100
    assert np.sqrt(np.mean(np.square(ratios))) < 1.3
    assert 0.8 < np.median(ratios) < 1.3


def test_the_variable_star_is_followed_within_its_errors(series: Series) -> None:
    star = int(np.flatnonzero(true_positions(series) == nights.VARIABLE)[0])
    curve = light_curve(series, star)
    assert curve.is_variable
    assert not series.comparison[star]
    true = -2.5 * np.log10([night.variable for night in nights.NIGHTS])
    pull = (curve.magnitude - (true - true.mean())) / curve.error
    assert (np.abs(pull) < 3).all()
    assert np.sqrt(np.mean(pull**2)) < 1.5

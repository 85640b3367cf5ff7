"""The Nights set: what was put in is in the files, and is found again."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas
import pytest
from scipy import ndimage

from rilievo.core.batch import items_for, measured, run_batch
from rilievo.core.checks import check_batch, traits_of
from rilievo.core.files import read_sample
from rilievo.core.table import region_frame
from rilievo.demo import nights


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
    traits = {
        night.number: traits_of(read_sample(written / f"night-{night.number}.fits"))
        for night in nights.NIGHTS
    }
    found = check_batch({f"night-{number}": one for number, one in traits.items()})
    assert {(check.sample, check.kind) for check in found} <= {
        ("night-5", "blur"),
        ("night-7", "blur"),
    }


def test_the_variable_star_is_followed(written: Path) -> None:
    paths = [written / f"night-{n.number}.fits" for n in nights.NIGHTS]
    outcomes = run_batch(items_for(paths), nights.nights_method(written))
    lines = nights.recovery_lines(written / "truth", region_frame(measured(outcomes)))
    rows = [line.split() for line in lines if line.startswith("night-")]
    assert len(rows) == 8
    for row in rows:
        assert abs(float(row[4])) < 8

"""Whole-plane statistics by level agree with brute force on the single pixels."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy import stats

from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.measure import QUANTITIES, RegionValues, whole_plane_index
from rilievo.core.measure.level_statistics import level_values
from rilievo.core.measure.plane_statistics import intensity_keys, plane_statistics

RNG = np.random.default_rng(5)


def by_pixel(plane: Plane, **exclude: bool) -> dict[str, float]:
    signal = plane.with_pixels(plane.as_float(), plane.lattice)
    values = RegionValues(whole_plane_index(plane.shape), signal, plane, **exclude)
    return {key: float(QUANTITIES[key].measure(values)[0]) for key in intensity_keys()}


@settings(max_examples=60)
@given(
    arrays(np.uint16, st.tuples(st.integers(1, 9), st.integers(1, 9)), elements=st.integers(0, 40)),
    st.booleans(),
)
def test_levels_give_what_pixels_give(pixels: np.ndarray, exclude: bool) -> None:
    plane = plane_from_native(pixels, significant_bits=5, empty=3.0)
    options = {"exclude_saturated": exclude, "exclude_empty": exclude}
    assert level_values(plane) is not None
    found = plane_statistics(plane, **options).numbers
    for key, expected in by_pixel(plane, **options).items():
        assert found[key] == pytest.approx(expected, rel=1e-10, abs=1e-9, nan_ok=True), key


DATA: dict[str, Callable[[], np.ndarray]] = {
    "12-bit": lambda: RNG.integers(0, 4096, (70, 55)).astype(np.uint16),
    "signed": lambda: RNG.integers(-500, 500, (64, 64)).astype(np.int16),
    "offset": lambda: (10_000_000 + RNG.integers(0, 90, (64, 64))).astype(np.int32),
    "float with an offset": lambda: 1e7 + RNG.normal(0, 0.01, (64, 64)),
    "float with gaps": lambda: np.where(
        RNG.random((64, 64)) < 0.1, np.nan, RNG.normal(size=(64, 64))
    ),
}


@pytest.mark.parametrize("kind", DATA)
def test_against_numpy_and_scipy(kind: str) -> None:
    pixels = DATA[kind]()
    found = plane_statistics(plane_from_native(pixels)).numbers
    values = np.sort(pixels[np.isfinite(pixels)].astype(np.longdouble))
    mean = values.mean()
    away = np.abs(values - np.median(values))
    expected = {
        "pixel_count": values.size,
        "undefined_count": pixels.size - values.size,
        "mean": mean,
        "sd": np.sqrt(((values - mean) ** 2).sum() / (values.size - 1)),
        "median": np.median(values),
        "mad": np.median(away),
        "mean_dev": away.mean(),
        "p05": np.quantile(values, 0.05),
        "p99": np.quantile(values, 0.99),
        "sum": values.sum(),
        "skewness": stats.skew((values - mean).astype(float)),
        "kurtosis": stats.kurtosis((values - mean).astype(float)),
    }
    for key, number in expected.items():
        # A float64 of 1e7 has no digits below 2e-9.
        tolerance = 2 * np.spacing(float(np.abs(values).max()))
        assert found[key] == pytest.approx(float(number), rel=1e-9, abs=tolerance), key
    y, x = np.unravel_index(np.nanargmax(pixels), pixels.shape)
    assert (found["max_x"], found["max_y"]) == (x, y)


def test_excluding_says_what_remains() -> None:
    pixels = np.array([[0, 0, 5, 9], [7, 9, 5, 5]], np.uint8)
    plane = Plane(pixels, saturation=9, empty=0, lattice=plane_from_native(pixels).lattice)
    found = plane_statistics(plane, exclude_saturated=True, exclude_empty=True)
    assert found.share == 0.5
    assert found.numbers["mean"] == 5.5
    assert found.numbers["saturated_count"] == 2
    assert found.numbers["empty_count"] == 2
    # The centre of brightness counts the used pixels alone: 5, 7 and two of 5.
    assert found.numbers["iw_x"] == pytest.approx((5 * 2 + 7 * 0 + 5 * 2 + 5 * 3) / 22)
    assert found.numbers["iw_y"] == pytest.approx(17 / 22)


def test_nothing_measured_is_undefined() -> None:
    plane = Plane(
        np.full((3, 3), 9, np.uint8),
        saturation=9,
        lattice=plane_from_native(np.zeros((1, 1), np.uint8)).lattice,
    )
    found = plane_statistics(plane, exclude_saturated=True)
    assert found.share == 0
    assert found.numbers["pixel_count"] == 0
    assert np.isnan(found.numbers["mean"])
    assert np.isnan(found.numbers["max_x"])

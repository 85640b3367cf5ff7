"""Every quantity against its definition, computed pixel by pixel with exact sums."""

from __future__ import annotations

import math
import statistics
from fractions import Fraction

import numpy as np
import pytest

from rilievo.core.image import Calibration, Plane, plane_from_native
from rilievo.core.measures import (
    QUANTITIES,
    STANDARD_QUANTITIES,
    RegionIndex,
    RegionValues,
    whole_plane_index,
)

RNG = np.random.default_rng(11)
LABELS = np.zeros((20, 24), np.int32)
LABELS[2:9, 3:12] = 1
LABELS[10:13, 1:4] = 4
LABELS[15, 20] = 7
LABELS[5:9, 15:22] = 9
IDS = np.array([1, 4, 7, 9])


def native_values(kind: str) -> np.ndarray:
    if kind == "integer":
        return RNG.integers(0, 4096, LABELS.shape).astype(np.uint16)
    if kind == "saturated":
        return np.minimum(RNG.integers(0, 500, LABELS.shape), 255).astype(np.uint8)
    if kind == "float":
        return RNG.normal(0, 3, LABELS.shape).astype(np.float32)
    if kind == "offset":
        return 1e7 + RNG.normal(0, 1, LABELS.shape)
    undefined = RNG.normal(5, 3, LABELS.shape)
    undefined[RNG.random(LABELS.shape) < 0.3] = np.nan
    undefined[15, 20] = np.nan
    return undefined


def exact_mean(values: list[float]) -> float:
    return float(sum(map(Fraction, values)) / len(values)) if values else math.nan


def exact_sd(values: list[float]) -> float:
    if len(values) < 2:
        return math.nan
    exact = [Fraction(v) for v in values]
    mean = sum(exact) / len(exact)
    return math.sqrt(sum((v - mean) ** 2 for v in exact) / (len(exact) - 1))


def expected(native: np.ndarray, background: float, number: int, top: float | None) -> dict:
    rows, columns = np.nonzero(number == LABELS)
    all_values = [float(native[y, x]) for y, x in zip(rows, columns, strict=True)]
    used = [v for v in all_values if math.isfinite(v)]
    signal = [v - background for v in used]
    mean, sd = exact_mean(signal), exact_sd(signal)
    return {
        "pixel_count": len(used),
        "mean": mean,
        "median": statistics.median(signal) if signal else math.nan,
        "sd": sd,
        "sem": sd / math.sqrt(len(used)) if len(used) > 1 else math.nan,
        "cv": sd / mean if used and mean else math.nan,
        "min": min(signal, default=math.nan),
        "max": max(signal, default=math.nan),
        "sum": math.fsum(signal) if signal else math.nan,
        "native_mean": exact_mean(used),
        "native_sum": math.fsum(used) if used else math.nan,
        "background": background if used else math.nan,
        "saturated_count": sum(top is not None and v >= top for v in used),
        "empty_count": 0,
        "undefined_count": len(all_values) - len(used),
        "negative_count": sum(v < 0 for v in signal),
        "area": len(rows),
        "area_unit": len(rows) * 0.25,
        "x": statistics.fmean(columns.tolist()),
        "y": statistics.fmean(rows.tolist()),
        "bbox_x": columns.min(),
        "bbox_y": rows.min(),
        "bbox_w": columns.max() - columns.min() + 1,
        "bbox_h": rows.max() - rows.min() + 1,
    }


def measured(native: Plane, background: float, **options: bool) -> RegionValues:
    signal = Plane(native.pixels.astype(np.float64) - background, native.calibration)
    return RegionValues(RegionIndex(LABELS, IDS), signal, native, **options)


@pytest.mark.parametrize("kind", ["integer", "saturated", "float", "offset", "undefined"])
@pytest.mark.parametrize("key", list(QUANTITIES))
def test_against_the_definition(kind: str, key: str) -> None:
    pixels = native_values(kind)
    native = plane_from_native(pixels, Calibration(0.5, "µm"))
    background = 100.0 if kind == "integer" else 0.5
    found = QUANTITIES[key].measure(measured(native, background))
    wanted = [expected(pixels, background, int(n), native.saturation)[key] for n in IDS]
    # 12 digits of the values as they are, offset included.
    scale = 1e7 if kind == "offset" else 1e3
    tolerance = 1e-12 * scale * (64 if "sum" in key else 1)
    np.testing.assert_allclose(found, wanted, rtol=1e-11, atol=tolerance)


def test_spread_keeps_its_digits_on_a_large_offset() -> None:
    small = RNG.normal(0, 1, LABELS.shape)
    far = measured(Plane(small + 1e7), 0.0)
    exact = [exact_sd([float(v) for v in (small + 1e7)[n == LABELS]]) for n in IDS]
    np.testing.assert_allclose(far.sd, exact, rtol=1e-12)


def test_excluded_pixels_are_counted_but_not_measured() -> None:
    pixels = np.full(LABELS.shape, 10, np.uint8)
    pixels[2:5, 3:12] = 255
    native = plane_from_native(pixels)
    values = measured(native, 0.0, exclude_saturated=True)
    assert QUANTITIES["saturated_count"].measure(values)[0] == 27
    assert QUANTITIES["pixel_count"].measure(values)[0] == 63 - 27
    assert QUANTITIES["mean"].measure(values)[0] == 10
    assert QUANTITIES["area"].measure(values)[0] == 63


def test_empty_pixels_below_a_level() -> None:
    pixels = np.full(LABELS.shape, 10, np.uint8)
    pixels[2:4, 3:12] = 0
    native = plane_from_native(pixels, empty=0)
    assert QUANTITIES["empty_count"].measure(measured(native, 0.0))[0] == 18
    left_out = measured(native, 0.0, exclude_empty=True)
    assert QUANTITIES["min"].measure(left_out)[0] == 10


@pytest.mark.parametrize("share", [0.0, 0.1, 0.25, 0.5, 0.9, 1.0])
def test_percentiles_equal_numpys_linear_definition(share: float) -> None:
    pixels = native_values("float")
    found = measured(Plane(pixels), 0.0).quantile(share)
    wanted = [np.quantile(pixels[n == LABELS].astype(np.float64), share) for n in IDS]
    np.testing.assert_allclose(found, wanted, rtol=1e-12)


def test_whole_plane_and_one_pixel() -> None:
    native = plane_from_native(np.array([[7]], np.uint16))
    values = RegionValues(whole_plane_index((1, 1)), native, native)
    assert QUANTITIES["mean"].measure(values).tolist() == [7]
    assert np.isnan(QUANTITIES["sd"].measure(values)).all()


def test_uncalibrated_area_is_undefined() -> None:
    values = measured(plane_from_native(native_values("integer")), 0.0)
    assert np.isnan(QUANTITIES["area_unit"].measure(values)).all()


def test_no_regions_give_empty_columns() -> None:
    index = RegionIndex(np.zeros((3, 3), np.int32), np.zeros(0, np.int64))
    native = plane_from_native(np.zeros((3, 3), np.uint8))
    values = RegionValues(index, native, native)
    for quantity in QUANTITIES.values():
        assert quantity.measure(values).shape == (0,)


def test_registry_is_complete_and_explained() -> None:
    assert set(STANDARD_QUANTITIES) <= set(QUANTITIES)
    for key in QUANTITIES:
        quantity = QUANTITIES[key]
        assert quantity.key == key
        assert quantity.title
        assert quantity.definition
        assert quantity.measure.__doc__

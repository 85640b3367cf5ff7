"""Every quantity against its definition, computed pixel by pixel with exact sums."""

from __future__ import annotations

import math
import statistics
from fractions import Fraction

import numpy as np
import pytest

from rilievo.core.image.image import Calibration, CurveError, Plane, plane_from_native
from rilievo.core.measure import (
    QUANTITIES,
    STANDARD_QUANTITIES,
    RegionIndex,
    RegionValues,
    whole_plane_index,
)
from rilievo.core.measure.measure_kernels import half_sample_mode

RNG = np.random.default_rng(11)
LABELS = np.zeros((20, 24), np.int32)
LABELS[2:9, 3:12] = 1
LABELS[10:13, 1:4] = 4
LABELS[15, 20] = 7
LABELS[5:9, 15:22] = 9
IDS = np.array([1, 4, 7, 9])
CURVE = np.array([-1e4, 0.0, 1e4, 1e8])


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


def ring_around(number: int) -> np.ndarray:
    """Pixels of no region, nearer to this one than to any other, 2 to 7 px away."""
    y, x = np.mgrid[: LABELS.shape[0], : LABELS.shape[1]]
    away = []
    for one in IDS:
        rows, columns = np.nonzero(one == LABELS)
        square = (y[..., None] - rows) ** 2 + (x[..., None] - columns) ** 2
        away.append(square.min(axis=-1))
    nearest = IDS[np.argmin(away, axis=0)]
    least = np.min(away, axis=0)
    return (LABELS == 0) & (nearest == number) & (least > 4) & (least <= 49)


def expected(native: np.ndarray, background: float, number: int, top: float | None) -> dict:
    rows, columns = np.nonzero(number == LABELS)
    all_values = [float(native[y, x]) for y, x in zip(rows, columns, strict=True)]
    used = [v for v in all_values if math.isfinite(v)]
    signal = [v - background for v in used]
    mean, sd = exact_mean(signal), exact_sd(signal)
    beside = native[ring_around(number)].astype(np.float64)
    beside = [float(v) - background for v in beside if math.isfinite(v)]
    around, noise = exact_mean(beside), exact_sd(beside)
    return {
        "contrast": (mean - around) / around,
        "snr": (mean - around) / noise,
        "pixel_count": len(used),
        "mean": mean,
        "median": statistics.median(signal) if signal else math.nan,
        "sd": sd,
        "sem": sd / math.sqrt(len(used)) if len(used) > 1 else math.nan,
        "cv": sd / mean if used and mean else math.nan,
        "min": min(signal, default=math.nan),
        "max": max(signal, default=math.nan),
        "sum": math.fsum(signal) if signal else math.nan,
        "sum_error": 0.125 * len(used),
        # Half of the mean, and a quarter of a count.
        "calibration_error": 0.25 + 0.5 * mean,
        "native_mean": exact_mean(used),
        "native_sum": math.fsum(used) if used else math.nan,
        "background": background if used else math.nan,
        "saturated_count": math.nan if top is None else sum(v >= top for v in used),
        "empty_count": 0,
        "undefined_count": len(all_values) - len(used),
        "negative_count": sum(v < 0 for v in signal),
        **distribution(native - background, signal, rows, columns),
        "area": len(rows),
        "area_unit": len(rows) * 0.25,
        "x": statistics.fmean(columns.tolist()),
        "y": statistics.fmean(rows.tolist()),
        "bbox_x": columns.min(),
        "bbox_y": rows.min(),
        "bbox_w": columns.max() - columns.min() + 1,
        "bbox_h": rows.max() - rows.min() + 1,
    }


def plain_half_sample_mode(values: list[float]) -> float:
    """The definition, half by half."""
    rest = sorted(values)
    while len(rest) > 3:
        half = math.ceil(len(rest) / 2)
        starts = range(len(rest) - half + 1)
        best = min(starts, key=lambda k: (rest[k + half - 1] - rest[k], k))
        rest = rest[best : best + half]
    if len(rest) == 3 and rest[1] - rest[0] != rest[2] - rest[1]:
        rest = rest[:2] if rest[1] - rest[0] < rest[2] - rest[1] else rest[1:]
    elif len(rest) == 3:
        return rest[1]
    return sum(rest) / len(rest)


def distribution(
    plane: np.ndarray, signal: list[float], rows: np.ndarray, columns: np.ndarray
) -> dict:
    """Quantities of form and place, by their definitions in exact or plain arithmetic."""
    positions = ("min_x", "min_y", "max_x", "max_y", "iw_x", "iw_y")
    keys = ("mad", "mad_sigma", "mean_dev", "mode", "skewness", "kurtosis", "entropy", *positions)
    percents = (1, 5, 25, 75, 95, 99)
    if not signal:
        return dict.fromkeys([*keys, *[f"p{p:02}" for p in percents]], math.nan)
    at = [
        (int(y), int(x)) for y, x in zip(rows, columns, strict=True) if math.isfinite(plane[y, x])
    ]
    middle = statistics.median(signal)
    away = [abs(v - middle) for v in signal]
    exact = [Fraction(v) for v in signal]
    mean = sum(exact) / len(exact)
    m2, m3, m4 = (float(sum((v - mean) ** k for v in exact) / len(exact)) for k in (2, 3, 4))
    edges = np.linspace(np.nanmin(plane), np.nanmax(plane), 257)
    shares = np.histogram(signal, edges)[0] / len(signal)
    shares = shares[shares > 0]
    low, high = min(range(len(signal)), key=lambda i: signal[i]), signal.index(max(signal))
    total = math.fsum(signal)
    counts = {v: signal.count(v) for v in signal}
    return {
        "mad": statistics.median(away),
        "mad_sigma": 1.4826 * statistics.median(away),
        "mean_dev": math.fsum(away) / len(away),
        "mode": min(v for v in counts if counts[v] == max(counts.values())),
        "float mode": plain_half_sample_mode(signal),
        **{f"p{p:02}": float(np.quantile(signal, p / 100)) for p in percents},
        "skewness": m3 / m2**1.5 if m2 else math.nan,
        "kurtosis": m4 / m2**2 - 3 if m2 else math.nan,
        "entropy": float(-(shares * np.log2(shares)).sum()),
        "min_x": at[low][1],
        "min_y": at[low][0],
        "max_x": at[high][1],
        "max_y": at[high][0],
        "iw_x": math.fsum(v * x for v, (_, x) in zip(signal, at, strict=True)) / total
        if total > 0
        else math.nan,
        "iw_y": math.fsum(v * y for v, (y, _) in zip(signal, at, strict=True)) / total
        if total > 0
        else math.nan,
    }


# What follows from the outline of a region is looked at in test_shape_form, stars in test_stars.
PLAIN_SHAPE = {"area", "area_unit", "x", "y", "bbox_x", "bbox_y", "bbox_w", "bbox_h"}
KEYS = [key for key in QUANTITIES if QUANTITIES[key].family == "intensity" or key in PLAIN_SHAPE]


def measured(native: Plane, background: float, **options: bool) -> RegionValues:
    signal = Plane(
        native.pixels.astype(np.float64) - background,
        native.calibration,
        lattice=native.lattice,
        level_error=0.125,
        curve_error=CurveError(CURVE, 0.25 + 0.5 * CURVE),
    )
    return RegionValues(RegionIndex(LABELS, IDS), signal, native, **options)


@pytest.mark.parametrize("kind", ["integer", "saturated", "float", "offset", "undefined"])
@pytest.mark.parametrize("key", KEYS)
def test_against_the_definition(kind: str, key: str) -> None:
    pixels = native_values(kind)
    native = plane_from_native(pixels, Calibration(0.5, "µm"))
    background = 100.0 if kind == "integer" else 0.5
    found = QUANTITIES[key].measure(measured(native, background))
    if key == "mode" and native.lattice is None:
        cases = [expected(pixels, background, int(n), native.saturation) for n in IDS]
        wanted = [case.get("float mode", math.nan) for case in cases]
    else:
        wanted = [expected(pixels, background, int(n), native.saturation)[key] for n in IDS]
    # 12 digits of the values as they are, offset included.
    scale = 1e7 if kind == "offset" else 1e3
    tolerance = 1e-12 * scale * (64 if "sum" in key else 1)
    if key in ("skewness", "kurtosis", "iw_x", "iw_y"):
        tolerance = 1e-8
    if key == "snr" and kind == "offset":
        tolerance = 1e-8
    np.testing.assert_allclose(found, wanted, rtol=1e-11, atol=tolerance)


def test_spread_keeps_its_digits_on_a_large_offset() -> None:
    small = RNG.normal(0, 1, LABELS.shape)
    far = measured(Plane(small + 1e7), 0.0)
    exact = [exact_sd([float(v) for v in (small + 1e7)[n == LABELS]]) for n in IDS]
    np.testing.assert_allclose(far.sd, exact, rtol=1e-12)


def series(first: float, low: float, high: float) -> np.ndarray:
    """A first value, then two values in turn 500 times."""
    return np.array([[first, *([low, high] * 500)]])


@pytest.mark.parametrize(
    ("values", "mean", "sd", "digits"),
    [
        # NIST Statistical Reference Datasets, univariate summaries NumAcc1 to NumAcc4: mean and
        # sd are certified. What a float64 keeps of a value of 1e6 or 1e7 limits the sd's digits.
        (np.array([[10000001.0, 10000003.0, 10000002.0]]), 10000002.0, 1.0, 15),
        (series(1.2, 1.1, 1.3), 1.2, 0.1, 14),
        (series(1000000.2, 1000000.1, 1000000.3), 1000000.2, 0.1, 9),
        (series(10000000.2, 10000000.1, 10000000.3), 10000000.2, 0.1, 8),
    ],
)
def test_certified_mean_and_spread(values: np.ndarray, mean: float, sd: float, digits: int) -> None:
    found = RegionValues(whole_plane_index(values.shape), Plane(values), Plane(values))
    assert found.mean[0] == pytest.approx(mean, rel=1e-15)
    assert found.sd[0] == pytest.approx(sd, rel=10.0**-digits)
    # Of the numbers as they are held, 12 digits and more.
    assert found.sd[0] == pytest.approx(exact_sd(values[0].tolist()), rel=1e-13)


def test_any_percentile_has_a_key() -> None:
    values = measured(plane_from_native(native_values("float")), 0.0)
    assert "p37" in QUANTITIES
    assert "p99_5" in QUANTITIES
    assert "p100" not in QUANTITIES
    assert QUANTITIES["p99_5"].key == "p99_5"
    assert QUANTITIES["p99_5"].title == "P99.5"
    np.testing.assert_array_equal(QUANTITIES["p37"].measure(values), values.quantile(0.37))


def test_calibrated_lengths_and_areas() -> None:
    values = measured(plane_from_native(native_values("integer"), Calibration(0.5, "µm")), 0.0)
    calibrated = [q for q in QUANTITIES.values() if q.key.endswith("_unit")]
    assert len(calibrated) >= 11
    for quantity in calibrated:
        plain = QUANTITIES[quantity.key.removesuffix("_unit")]
        assert (plain.unit, quantity.unit) in (("px", "unit"), ("px²", "unit²"))
        factor = 0.5 if plain.unit == "px" else 0.25
        found = quantity.measure(values)
        np.testing.assert_allclose(found, plain.measure(values) * factor)


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
        assert quantity.formula
        assert quantity.symbol


@pytest.mark.parametrize("key", ["mode", "skewness", "entropy"])
def test_one_value_everywhere(key: str) -> None:
    found = QUANTITIES[key].measure(measured(plane_from_native(np.full(LABELS.shape, 5)), 0.0))
    wanted = {"mode": 5.0, "skewness": math.nan, "entropy": 0.0}[key]
    np.testing.assert_array_equal(found, [wanted] * 4)


def test_half_sample_mode_finds_the_crowd() -> None:
    rng = np.random.default_rng(3)
    values = np.concatenate([rng.normal(10, 0.2, 600), rng.uniform(0, 100, 400)])
    assert half_sample_mode(np.sort(values)) == pytest.approx(10, abs=0.2)
    assert half_sample_mode(np.array([1.0, 2.0, 4.0])) == 1.5
    assert half_sample_mode(np.array([1.0, 2.0, 3.0])) == 2.0
    assert half_sample_mode(np.array([7.0])) == 7.0

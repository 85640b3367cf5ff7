"""Every intensity quantity on random regions against plain NumPy and SciPy, one by one."""

from __future__ import annotations

import math
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy import ndimage, stats

from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.measure.measure_kernels import (
    half_sample_mode,
    most_frequent,
    percentile_of,
    rings_of,
)
from rilievo.core.measure.quantity import percentile

INTENSITY = [q.key for q in QUANTITIES.values() if q.family == "intensity"]


def random_labels(rng: np.random.Generator, shape: tuple[int, int]) -> np.ndarray:
    """Return blobs with holes, single pixels, regions at the border, numbers left out."""
    smooth = ndimage.gaussian_filter(rng.normal(size=shape), 1.2)
    labels, _ = ndimage.label(smooth > 0.02)
    labels[rng.random(shape) < 0.03] = 0
    empty = np.argwhere(labels == 0)
    for number, k in enumerate(rng.choice(len(empty), min(3, len(empty)), replace=False)):
        labels[tuple(empty[k])] = labels.max() + 1 + number
    return labels.astype(np.int32)


def plain(
    signal: np.ndarray, native: np.ndarray, labels: np.ndarray, number: int, plane: Plane
) -> dict[str, float]:
    """Return the quantities of one region, straight from their definitions."""
    inside = labels == number
    defined = inside & np.isfinite(signal) & np.isfinite(native)
    rows, columns = np.nonzero(defined)
    v, w = signal[defined].astype(np.float64), native[defined].astype(np.float64)
    n = v.size
    nan = math.nan
    found: dict[str, float] = {
        "pixel_count": n,
        "saturated_count": nan if plane.saturation is None else (w >= plane.saturation).sum(),
        "empty_count": nan if plane.empty is None else (w <= plane.empty).sum(),
        "undefined_count": inside.sum() - n,
        "negative_count": (v < 0).sum(),
    }
    if n == 0:
        return found
    # Exact: far from zero, a mean in floats is off by more than the quantities may be.
    mean = sum(map(Fraction, v.tolist())) / len(v)
    away = np.array([float(Fraction(x) - mean) for x in v.tolist()])
    # Rounding of the mean must not make a spread of what has none.
    m2 = (away**2).mean() if np.ptp(v) > 0 else 0.0
    low, high = np.nanmin(signal), np.nanmax(signal)
    shares = np.histogram(v, 256, (low, high))[0] / n if high > low else np.ones(1)
    shares = shares[shares > 0]
    total = v.sum()
    found |= {
        "mean": v.mean(), "median": np.median(v), "min": v.min(), "max": v.max(), "sum": total,
        "sd": v.std(ddof=1) if n > 1 else nan,
        "sem": v.std(ddof=1) / math.sqrt(n) if n > 1 else nan,
        "cv": v.std(ddof=1) / v.mean() if n > 1 and v.mean() else nan,
        "native_mean": w.mean(), "native_sum": w.sum(), "background": (w - v).mean(),
        "mad": stats.median_abs_deviation(v),
        "mad_sigma": 1.4826 * stats.median_abs_deviation(v),
        "mean_dev": np.abs(v - np.median(v)).mean(),
        "skewness": (away**3).mean() / m2**1.5 if m2 > 0 else nan,
        "kurtosis": (away**4).mean() / m2**2 - 3 if m2 > 0 else nan,
        "entropy": float(-(shares * np.log2(shares)).sum()),
        "min_x": columns[int(v.argmin())], "min_y": rows[int(v.argmin())],
        "max_x": columns[int(v.argmax())], "max_y": rows[int(v.argmax())],
        "iw_x": (v * columns).sum() / total if total > 0 else nan,
        "iw_y": (v * rows).sum() / total if total > 0 else nan,
        **{f"p{p:02}": np.percentile(v, p) for p in (1, 5, 25, 75, 95, 99)},
    }  # fmt: skip
    if plane.lattice is not None:
        values, counts = np.unique(v, return_counts=True)
        found["mode"] = values[int(counts.argmax())]
    return found


@settings(max_examples=25, deadline=None)
@given(st.data(), st.sampled_from(["8-bit", "16-bit", "float", "holes", "far"]))
def test_random_regions_against_their_definitions(data: st.DataObject, kind: str) -> None:
    shape = data.draw(st.tuples(st.integers(1, 20), st.integers(1, 20)))
    labels = data.draw(arrays(np.int32, shape, elements=st.integers(0, 5)))
    counts = data.draw(arrays(np.uint16, shape, elements=st.integers(0, 4095)))
    if kind == "8-bit":
        native = plane_from_native((counts // 16).astype(np.uint8), empty=3)
    elif kind == "16-bit":
        native = plane_from_native(counts, significant_bits=12)
    else:
        pixels = (1e6 if kind == "far" else 3) + (counts - 2047.0) / 700
        if kind == "holes":
            pixels[data.draw(arrays(np.bool_, shape))] = np.nan
        native = Plane(pixels, saturation=5.0)
    values = native.pixels.astype(np.float64) - 40
    signal = native.with_pixels(values, native.lattice)
    ids = np.unique(labels[labels > 0]).astype(np.int64)
    measured = RegionValues(RegionIndex(labels, ids), signal, native)
    found = {key: QUANTITIES[key].measure(measured) for key in INTENSITY}
    scale = 1e6 if kind == "far" else 1e3
    for k, number in enumerate(ids.tolist()):
        wanted = plain(values, native.pixels.astype(np.float64), labels, number, native)
        for key, value in wanted.items():
            if math.isnan(value):
                # Levels that are not declared have nothing to count.
                assert np.isnan(found[key][k]) or found[key][k] == 0, key
                continue
            tolerance = 1e-7 if key in ("skewness", "kurtosis", "iw_x", "iw_y", "cv") else 1e-9
            assert found[key][k] == pytest.approx(
                value, rel=tolerance, abs=tolerance * (scale if key == "sum" else 1)
            ), (key, number)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.floats(-1e3, 1e3, width=32), min_size=1, max_size=60), st.floats(0, 1))
def test_percentiles_are_numpys(values: list[float], share: float) -> None:
    ordered = np.sort(np.array(values, np.float64))
    assert percentile_of(ordered, share) == pytest.approx(
        float(np.quantile(ordered, share)), rel=1e-9, abs=1e-9
    )


@settings(max_examples=40, deadline=None)
@given(st.lists(st.integers(0, 12), min_size=1, max_size=60))
def test_the_most_frequent_value_is_the_lowest_on_a_tie(values: list[int]) -> None:
    ordered = np.sort(np.array(values, np.float64))
    best = max(values.count(v) for v in values)
    assert most_frequent(ordered) == min(v for v in values if values.count(v) == best)


@settings(max_examples=40, deadline=None)
# Whole 512ths, so that shifting them rounds nothing.
@given(st.lists(st.integers(-51_200, 51_200).map(lambda k: k / 512), min_size=1, max_size=40))
def test_the_half_sample_mode_lies_among_the_values(values: list[float]) -> None:
    ordered = np.sort(np.array(values, np.float64))
    mode = half_sample_mode(ordered)
    assert ordered[0] <= mode <= ordered[-1]
    # Shifting all values shifts it; turning the sign round keeps it within the densest pair.
    assert half_sample_mode(ordered + 8) == pytest.approx(mode + 8, abs=1e-9)


@settings(max_examples=25, deadline=None)
@given(
    arrays(
        np.int32,
        st.tuples(st.integers(1, 22), st.integers(1, 22)),
        elements=st.integers(-1, 4),
        fill=st.just(0),
    ),
    st.sampled_from([(0.0, 3.0), (2.0, 5.0), (1.5, 2.25)]),
    st.sampled_from([1.0, 1.0, 2.0, 0.5]),
)
def test_rings_by_distance_to_every_region(
    labels: np.ndarray, size: tuple[float, float], aspect: float
) -> None:
    shape = labels.shape
    gap, width = size
    found = np.empty(shape, np.int32)
    middle = shape[0] // 2
    # Bands are filled one by one, as several threads do.
    rings_of(labels, gap, gap + width, aspect, 0, middle, found)
    rings_of(labels, gap, gap + width, aspect, middle, shape[0], found)
    rows, columns = np.nonzero(labels > 0)
    for y in range(shape[0]):
        for x in range(shape[1]):
            expected = 0
            if labels[y, x] == 0 and rows.size:
                away = (aspect * (rows - y)) ** 2 + (columns - x) ** 2
                least = away.min()
                if gap**2 < least <= (gap + width) ** 2:
                    expected = int(labels[rows, columns][away == least].min())
            assert found[y, x] == expected


def test_excluded_pixels_are_left_out_of_rings_too() -> None:
    pixels = np.full((30, 30), 10.0)
    pixels[10:14, 10:14] = 50
    pixels[9:15, 17:19] = 99
    labels = np.zeros((30, 30), np.int32)
    labels[10:14, 10:14] = 1
    native = Plane(pixels, saturation=90)
    index = RegionIndex(labels, np.array([1]))
    with_all = RegionValues(index, native, native)
    without = RegionValues(index, native, native, exclude_saturated=True)
    assert with_all.ring.mean[0] > 10
    assert without.ring.mean[0] == 10
    assert QUANTITIES["contrast"].measure(without)[0] == 4
    assert np.isnan(QUANTITIES["snr"].measure(without)[0])


def test_regions_without_pixels_are_undefined() -> None:
    labels = np.zeros((5, 5), np.int32)
    labels[1, 1] = 3
    plane = Plane(np.ones((5, 5)))
    values = RegionValues(RegionIndex(labels, np.array([2, 3, 9])), plane, plane)
    assert values.n.tolist() == [0, 1, 0]
    for key in INTENSITY:
        found = QUANTITIES[key].measure(values)
        assert found.shape == (3,)
        if not QUANTITIES[key].whole:
            assert np.isnan(found[[0, 2]]).all(), key


def test_a_percentile_has_its_own_words() -> None:
    quantity = percentile(12.5)
    assert (quantity.key, quantity.title, quantity.unit) == ("p12_5", "P12.5", "signal")
    assert "12.5 % of the pixels" in quantity.definition


def test_many_regions_are_measured_as_one_by_one() -> None:
    """Work is split among threads; the numbers must not depend on how."""
    rng = np.random.default_rng(9)
    labels = np.kron(np.arange(1, 901).reshape(30, 30), np.ones((40, 40))).astype(np.int32)
    plane = plane_from_native(rng.integers(0, 60_000, labels.shape).astype(np.uint16))
    together = RegionValues(RegionIndex(labels, np.arange(1, 901)), plane, plane)
    for number in (1, 450, 900):
        alone = RegionValues(RegionIndex(labels, np.array([number])), plane, plane)
        for key in INTENSITY:
            if key in ("contrast", "snr"):
                continue
            one, all_of_them = (QUANTITIES[key].measure(v) for v in (alone, together))
            np.testing.assert_array_equal(one[0], all_of_them[number - 1])

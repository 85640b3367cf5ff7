from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.image.histogram import MOST_BINS, Histogram, histogram_of, pooled
from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.signal.steps import STEPS, StepContext


@given(arrays(np.uint16, st.tuples(st.integers(1, 9), st.integers(1, 9))))
def test_integer_data_have_one_bin_a_level(pixels: np.ndarray) -> None:
    histogram = histogram_of(plane_from_native(pixels))
    levels, counts = np.unique(pixels, return_counts=True)
    found = dict(zip(histogram.values.tolist(), histogram.counts.tolist(), strict=True))
    assert found == dict(zip(levels.astype(float).tolist(), counts.tolist(), strict=True))


@given(
    arrays(np.uint16, (5, 7), elements=st.integers(0, 5000)),
    st.floats(-300, 300, allow_nan=False),
)
def test_levels_stay_whole_after_a_constant_is_taken_off(pixels: np.ndarray, b: float) -> None:
    native = histogram_of(plane_from_native(pixels))
    step = STEPS["background.level"]
    parameters = step.parameters.model_validate({"level": b})
    corrected = step.apply(plane_from_native(pixels), parameters, StepContext("s", "gray"))
    signal = histogram_of(corrected)
    np.testing.assert_array_equal(signal.counts, native.counts)
    np.testing.assert_allclose(signal.values, native.values - b, atol=1e-3)


@given(
    arrays(
        np.float64,
        st.tuples(st.integers(1, 8), st.integers(1, 8)),
        elements=st.floats(-1e6, 1e6) | st.just(np.nan),
    )
)
def test_float_data_counts_against_brute_force(pixels: np.ndarray) -> None:
    histogram = histogram_of(Plane(pixels))
    finite = pixels[np.isfinite(pixels)]
    assert histogram.total == finite.size
    assert histogram.undefined == pixels.size - finite.size
    assert histogram.counts.size <= MOST_BINS
    if finite.size and finite.min() < finite.max() and not histogram.levels:
        slack = 1e-9 * max(abs(finite.min()), abs(finite.max()), 1)
        for k, count in zip(histogram.bins, histogram.counts, strict=True):
            low = histogram.first + k * histogram.width
            inside = (finite >= low - slack) & (finite <= low + histogram.width + slack)
            assert inside.sum() >= count > 0


def test_share_at_or_below_and_quantile_are_exact_for_levels() -> None:
    pixels = np.array([[0, 0, 1, 3], [3, 3, 7, 9]], np.uint8)
    histogram = histogram_of(plane_from_native(pixels))
    for level in range(-1, 11):
        assert histogram.share_at_or_below(level) == np.mean(pixels <= level)
    assert histogram.quantile(0.0) == 0
    assert histogram.quantile(0.5) == 3
    assert histogram.quantile(1.0) == 9


def test_all_undefined_and_all_equal() -> None:
    nothing = histogram_of(Plane(np.full((2, 2), np.nan)))
    assert (nothing.total, nothing.undefined) == (0, 4)
    assert np.isnan(nothing.quantile(0.5))
    same = histogram_of(Plane(np.full((2, 2), 3.5)))
    assert same.values.tolist() == [3.5]


def test_pooling_keeps_the_share_of_pixels() -> None:
    rng = np.random.default_rng(0)
    pixels = rng.integers(100, 900, (40, 40)).astype(np.uint16)
    histogram = histogram_of(plane_from_native(pixels))
    shares, width = pooled(histogram, 99.5, 899.5, 80)
    assert width == 10
    expected = np.histogram(pixels, np.arange(99.5, 900, 10))[0] / pixels.size
    np.testing.assert_allclose(shares, expected, atol=1e-12)
    wide, _ = pooled(histogram, 0, 2000, 7)
    assert wide.sum() == pytest.approx(1.0)


def test_a_range_too_narrow_to_divide_is_one_bin() -> None:
    low = 1.0
    high = np.nextafter(low, 2)
    histogram = histogram_of(Plane(np.array([[low, high]])))
    assert histogram.total == 2
    assert isinstance(histogram, Histogram)

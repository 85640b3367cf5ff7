"""Filters along lines against SciPy, line after line: the same bits."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from rilievo.core.signal.line_ends import GOES_ON, NOTHING
from rilievo.core.signal.smoothing import (
    box_sums,
    gaussian,
    gaussian_weights,
    lowest_both,
    mean,
    mean_both,
    weighted_both,
)

SHAPES = pytest.mark.parametrize("shape", [(1, 1), (3, 90), (57, 40), (600, 700)])
TYPES = pytest.mark.parametrize("kind", [np.float32, np.float64])


def noisy(shape: tuple[int, int], kind: type = np.float64) -> np.ndarray:
    return np.random.default_rng(1).normal(1000, 30, shape).astype(kind)


@SHAPES
@TYPES
@pytest.mark.parametrize("sigma", [0.8, 3.3, 30.0])
def test_gaussian_has_the_bits_of_scipy(shape: tuple[int, int], kind: type, sigma: float) -> None:
    values = noisy(shape, kind)
    np.testing.assert_array_equal(gaussian(values, sigma), ndimage.gaussian_filter(values, sigma))
    narrow = ndimage.gaussian_filter(values, sigma, mode="constant", truncate=3.0)
    weights = gaussian_weights(sigma, 3.0)
    np.testing.assert_array_equal(weighted_both(values, weights, NOTHING), narrow)


@SHAPES
@TYPES
@pytest.mark.parametrize("size", [2, 3, 8, 31, 150])
def test_running_mean_has_the_bits_of_scipy(shape: tuple[int, int], kind: type, size: int) -> None:
    values = noisy(shape, kind)
    np.testing.assert_array_equal(mean_both(values, size), ndimage.uniform_filter(values, size))
    going_on = ndimage.uniform_filter(values, size, mode="nearest")
    np.testing.assert_array_equal(mean_both(values, size, GOES_ON), going_on)


@SHAPES
@pytest.mark.parametrize("size", [3, 7, 41, 111])
def test_lowest_and_highest_around(shape: tuple[int, int], size: int) -> None:
    values = noisy(shape)
    low = ndimage.minimum_filter(values, size, mode="nearest")
    high = ndimage.maximum_filter(values, size, mode="nearest")
    np.testing.assert_array_equal(lowest_both(values, size), low)
    np.testing.assert_array_equal(lowest_both(values, size, highest=True), high)


@pytest.mark.parametrize("size", [1, 3, 9, 51])
def test_sums_of_whole_numbers_are_exact(size: int) -> None:
    values = np.random.default_rng(2).integers(0, 65536, (30, 44)).astype(np.float64)
    padded = np.pad(values, size // 2, mode="symmetric")
    wanted = np.lib.stride_tricks.sliding_window_view(padded, (size, size)).sum(axis=(2, 3))
    np.testing.assert_array_equal(box_sums(values, size), wanted)


def test_undefined_pixels_neither_count_nor_spread() -> None:
    values = noisy((20, 20))
    values[5:9, 5:9] = np.nan
    found = mean(values, 5)
    assert np.array_equal(np.isnan(found), np.isnan(values))
    np.testing.assert_allclose(found[4, 4], np.nanmean(values[2:7, 2:7]), rtol=1e-12)

"""Medians and quantiles that look at the values once, against NumPy's."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.rank_kernels import shares_below, starts_of_steps
from rilievo.core.robust_statistics import (
    block_quantiles,
    equal_bins,
    median_and_mad_sigma,
    median_of,
    quantile_of,
)


@pytest.mark.parametrize("count", [1, 2, 3, 4, 5, 10, 100, 1001])
@pytest.mark.parametrize("kind", [np.float32, np.float64])
def test_medians_and_quantiles_have_numpys_bits(count: int, kind: type) -> None:
    values = np.random.default_rng(count).normal(0, 1, count).astype(kind)
    assert median_of(values) == float(np.median(values))
    for share in (0, 0.1, 0.25, 0.5, 0.75, 0.99, 1):
        assert quantile_of(values, share) == float(np.quantile(values, share))


def test_nothing_has_no_median() -> None:
    none = np.zeros(0)
    assert math.isnan(median_of(none))
    assert math.isnan(quantile_of(none, 0.5))
    assert all(math.isnan(value) for value in median_and_mad_sigma(none))


def test_robust_sigma_of_a_normal_distribution() -> None:
    values = np.random.default_rng(0).normal(50, 7, 1_000_000)
    middle, sigma = median_and_mad_sigma(values)
    assert middle == pytest.approx(50, abs=0.05)
    assert sigma == pytest.approx(7, rel=0.01)


@pytest.mark.parametrize("whole", [False, True])
def test_equal_bins_are_those_of_numpy(whole: bool) -> None:
    values = np.random.default_rng(5).normal(0, 5, (40, 50))
    values = np.round(values) if whole else values
    for count in (1, 7, 10, 512):
        counts, edges = equal_bins(values, count)
        wanted, at = np.histogram(values, count)
        np.testing.assert_array_equal(counts, wanted)
        np.testing.assert_array_equal(edges, at)
    np.testing.assert_array_equal(equal_bins(np.full(9, 3.0), 4)[0], [0, 0, 9, 0])


@pytest.mark.parametrize("kind", [np.float32, np.float64])
def test_quantiles_of_blocks(kind: type) -> None:
    values = np.random.default_rng(6).normal(0, 1, (37, 53)).astype(kind)
    values[:10, :7] = np.nan
    values[12, 3] = np.inf
    rows, columns = np.array([0, 10, 20, 37]), np.array([0, 7, 53])
    for share in (0.1, 0.25, 0.9):
        found = block_quantiles(values, rows, columns, share)
        assert found.shape == (3, 2)
        assert np.isnan(found[0, 0])
        for i, k in [(0, 1), (1, 0), (1, 1), (2, 0), (2, 1)]:
            block = values[rows[i] : rows[i + 1], columns[k] : columns[k + 1]]
            assert found[i, k] == float(np.quantile(block[np.isfinite(block)], share))


def test_values_over_the_whole_range_of_numbers_are_counted() -> None:
    most = np.finfo(np.float64).max
    values = np.array([-most, -1.0, 0.0, 2.0, 2.0, most])
    starts = starts_of_steps(values)
    result = np.empty((1, 6))
    shares_below(values[None, :], values, starts, result)
    np.testing.assert_allclose(result[0] * 6, [1, 2, 3, 5, 5, 6])

"""Bootstrap intervals against a published example, SciPy and known truth."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from rilievo.core.compare.bootstrap import bootstrap_interval

# Efron & Tibshirani 1993, An Introduction to the Bootstrap, table 2.1: days that mice survived.
TREATED = np.array([94, 197, 16, 38, 99, 141, 23], float)
CONTROL = np.array([52, 104, 146, 10, 51, 30, 40, 27, 46], float)


def test_a_published_difference() -> None:
    low, high = bootstrap_interval((CONTROL, TREATED))
    # The book has a difference of 30.63 with a bootstrap error of 26.85.
    assert low < 30.63 < high
    assert (high - low) / (2 * 1.96) == pytest.approx(26.85, rel=0.06)
    reverse = bootstrap_interval((TREATED, CONTROL))
    assert reverse == pytest.approx((-high, -low), abs=4)


@pytest.mark.parametrize("middle", [np.mean, np.median])
def test_one_group_against_scipy(middle: object) -> None:
    values = np.random.default_rng(3).gamma(2.0, 3.0, 40)
    ours = bootstrap_interval((values,), middle)  # type: ignore[arg-type]
    theirs = stats.bootstrap(
        (values,), middle, n_resamples=20_000, method="BCa", rng=np.random.default_rng(1)
    ).confidence_interval
    assert ours == pytest.approx(tuple(theirs), abs=0.15)


@pytest.mark.parametrize("n", [5, 6, 9, 40])
def test_the_middle_without_each_value(n: int) -> None:
    from rilievo.core.compare.bootstrap import _left_out  # noqa: PLC0415

    values = np.random.default_rng(n).normal(size=n)
    for middle in (np.mean, np.median):
        one_by_one = sorted(middle(np.delete(values, k)) for k in range(n))
        assert sorted(_left_out(values, middle)) == pytest.approx(one_by_one)


def test_the_same_values_give_the_same_interval_in_any_unit() -> None:
    once = bootstrap_interval((CONTROL, TREATED))
    assert bootstrap_interval((CONTROL, TREATED)) == once
    scaled = bootstrap_interval((CONTROL * 1e-6 + 7, TREATED * 1e-6 + 7))
    assert scaled == pytest.approx(tuple(1e-6 * one for one in once))


def test_too_few_or_equal_values_have_none() -> None:
    assert all(map(math.isnan, bootstrap_interval((CONTROL[:2], TREATED))))
    assert all(map(math.isnan, bootstrap_interval((np.ones(5), np.ones(5)))))


@pytest.mark.slow
def test_intervals_of_skewed_values_hold_the_truth() -> None:
    rng = np.random.default_rng(9)
    held, runs = 0, 400
    for _ in range(runs):
        low, high = bootstrap_interval((rng.exponential(1.0, 30), rng.exponential(2.0, 30)))
        held += low <= 1.0 <= high
    assert held / runs == pytest.approx(0.94, abs=0.03)

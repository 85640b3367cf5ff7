"""Agreement of two measurers against published examples."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.compare.agreement import absolute_agreement, consistency, limits_of_agreement

# Bland & Altman 1986, Lancet 327, 307: peak flow (l/min) by two meters, first readings.
LARGE = [494, 395, 516, 434, 476, 557, 413, 442, 650, 433, 417, 656, 267, 478, 178, 423, 427]
MINI = [512, 430, 520, 428, 500, 600, 364, 380, 658, 445, 432, 626, 260, 477, 259, 350, 451]
# Shrout & Fleiss 1979, Psychol. Bull. 86, 420, table 2: six targets by four judges.
JUDGED = np.array(
    [[9, 2, 5, 8], [6, 1, 3, 2], [8, 4, 6, 8], [7, 1, 2, 6], [10, 5, 6, 9], [6, 2, 4, 7]], float
)


def test_published_limits() -> None:
    found = limits_of_agreement(np.array(MINI, float), np.array(LARGE, float))
    assert found.n == 17
    assert found.bias == pytest.approx(-2.1, abs=0.05)
    assert found.sd == pytest.approx(38.8, abs=0.05)
    # The paper rounds 1.96 to 2 and the error of a limit to √(3/n)·s.
    assert (found.low, found.high) == pytest.approx((-79.7, 75.5), abs=2)
    assert found.bias_interval == pytest.approx((-22.0, 17.8), abs=0.1)
    assert found.low_interval == pytest.approx((-114.3, -45.1), abs=3)
    assert found.high_interval == pytest.approx((40.9, 110.1), abs=3)


def test_published_correlations() -> None:
    absolute, alike = absolute_agreement(JUDGED), consistency(JUDGED)
    assert absolute.value == pytest.approx(0.29, abs=0.005)
    assert absolute.interval == pytest.approx((0.02, 0.76), abs=0.005)
    assert alike.value == pytest.approx(0.71, abs=0.005)
    assert alike.interval == pytest.approx((0.34, 0.95), abs=0.005)


def test_an_offset_is_a_lack_of_agreement_and_not_of_consistency() -> None:
    first = np.random.default_rng(2).normal(10, 3, 40)
    both = np.column_stack([first, first + 5])
    assert consistency(both).value == 1.0
    # Half the variance of the offset beside that of what is measured.
    expected = first.var(ddof=1) / (first.var(ddof=1) + 12.5)
    assert absolute_agreement(both).value == pytest.approx(expected)
    assert absolute_agreement(np.column_stack([first, first])).value == 1.0


def test_intervals_hold_the_truth() -> None:
    rng = np.random.default_rng(7)
    held = [0, 0]
    runs = 400
    for _ in range(runs):
        truth = rng.normal(0, 2, 25)
        both = truth[:, None] + rng.normal(0, 1, (25, 2))
        for k, found in enumerate((absolute_agreement(both), consistency(both))):
            held[k] += found.interval[0] <= 0.8 <= found.interval[1]
    assert np.array(held) / runs == pytest.approx([0.95, 0.95], abs=0.03)


def test_a_difference_that_grows_and_too_few_pairs() -> None:
    first = np.linspace(10, 100, 30)
    found = limits_of_agreement(first, first * 1.1 + np.sin(first))
    assert found.slope == pytest.approx(0.095, abs=0.02)
    assert found.slope_p < 1e-6
    few = limits_of_agreement(np.array([1.0, 2.0, math.nan]), np.array([2.0, 2.0, 2.0]))
    assert few.n == 2
    assert few.bias == 0.5
    assert math.isnan(few.low)
    assert math.isnan(absolute_agreement(np.ones((2, 2))).value)

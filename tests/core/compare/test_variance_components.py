"""Where the variation sits, and the next experiment, against formulas and simulation."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from scipy import stats

from rilievo.core.compare.variance_components import Component, error_of_mean, plan, power_of

PARTS = (
    Component("animal", 4.0, 8, 4.0),
    Component("dish", 9.0, 16, 2.0),
    Component("region", 25.0, 320, 20.0),
)


def test_the_variance_of_a_mean() -> None:
    assert error_of_mean(PARTS, (4, 2, 20)) == pytest.approx(4 / 4 + 9 / 8 + 25 / 160)
    below = (Component("animal", -1.0, 8, 4.0), *PARTS[1:])
    assert error_of_mean(below, (4, 2, 20)) == pytest.approx(9 / 8 + 25 / 160)


def test_power_as_simulated() -> None:
    rng = np.random.default_rng(4)
    numbers, difference, runs = (5, 2, 10), 4.0, 4000
    animal, dish, region = (math.sqrt(one.variance) for one in PARTS)
    means = (
        rng.normal(0, animal, (runs, 2, 5))
        + rng.normal(0, dish, (runs, 2, 5, 2)).mean(-1)
        + rng.normal(0, region, (runs, 2, 5, 2, 10)).mean((-1, -2))
    )
    p = stats.ttest_ind(means[:, 1] + difference, means[:, 0], axis=1).pvalue
    assert power_of(PARTS, numbers, difference) == pytest.approx((p < 0.05).mean(), abs=0.02)


def test_the_plan_is_the_cheapest_of_all() -> None:
    costs = (100.0, 20.0, 1.0)
    found = plan(PARTS, costs, 4.0)
    assert found is not None
    assert found.power >= 0.8
    cheapest = min(
        2 * a * (100 + d * (20 + r))
        for a, d, r in itertools.product(
            range(2, 40), (1, 2, 3, 4, 5, 6), (1, 2, 3, 4, 5, 6, 8, 10)
        )
        if power_of(PARTS, (a, d, r), 4.0) >= 0.8
    )
    assert found.cost == pytest.approx(cheapest)


def test_what_costs_nothing_stays_and_no_difference_has_no_plan() -> None:
    found = plan(PARTS, (100.0, 20.0, 0.0), 4.0)
    assert found is not None
    assert found.numbers[-1] == 20
    assert plan(PARTS, (1.0, 1.0, 1.0), 0.0) is None
    assert plan(PARTS, (1.0, 1.0, 1.0), 1e-6) is None

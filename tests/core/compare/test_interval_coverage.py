"""Every interval that is printed holds the truth as often as it says, in simulated studies."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest
from scipy.special import ndtr

from rilievo.core.compare.effects import (
    Effect,
    eta_squared,
    hedges_g,
    paired_g,
    paired_rank_biserial,
    rank_biserial,
)
from rilievo.core.compare.groups import confidence_interval
from rilievo.core.compare.pairwise_tests import _welch_interval
from rilievo.core.compare.rank_intervals import paired_interval

pytestmark = pytest.mark.slow

TRIALS = 1200
# 1.5 % and three standard errors of so many trials.
SLACK = 0.015 + 3 * math.sqrt(0.95 * 0.05 / TRIALS)
SIZES, EFFECTS = (3, 5, 20), (0.0, 1.0, 2.0)


def coverage(make: Callable[[np.random.Generator], Effect], truth: float) -> tuple[float, str]:
    rng = np.random.default_rng(11)
    found = [make(rng) for _ in range(TRIALS)]
    return float(np.mean([e.interval[0] <= truth <= e.interval[1] for e in found])), found[
        0
    ].interval_is


def check(share: float, words: str) -> None:
    if "at least" in words:
        assert share >= 0.95 - SLACK
    else:
        assert share == pytest.approx(0.95, abs=SLACK)


@pytest.mark.parametrize("n", SIZES)
@pytest.mark.parametrize("effect", EFFECTS)
def test_effect_sizes(n: int, effect: float) -> None:
    def two(rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
        return rng.normal(effect, 1, n), rng.normal(0, 1, n)

    check(*coverage(lambda rng: hedges_g(*two(rng)), effect))
    check(*coverage(lambda rng: paired_g(rng.normal(effect, 1, n)), effect))
    superiority = 2 * float(ndtr(effect / math.sqrt(2))) - 1
    check(*coverage(lambda rng: rank_biserial(*two(rng)), superiority))


@pytest.mark.parametrize("n", SIZES)
@pytest.mark.parametrize("effect", EFFECTS)
def test_paired_ranks(n: int, effect: float) -> None:
    rng = np.random.default_rng(5)
    # The mean of the effect itself, by simulation.
    own = [paired_rank_biserial(rng.normal(effect, 1, n)).value for _ in range(4000)]
    truth = float(np.mean(own))
    share, words = coverage(lambda rng: paired_rank_biserial(rng.normal(effect, 1, n)), truth)
    check(share, words)
    assert paired_interval(n * (n + 1) / 2, n).ends[1] == 1.0


@pytest.mark.parametrize("n", SIZES)
@pytest.mark.parametrize("effect", EFFECTS)
def test_means_and_their_differences(n: int, effect: float) -> None:
    rng = np.random.default_rng(3)
    mean = difference = 0
    for _ in range(TRIALS):
        first, second = rng.normal(effect, 1, n), rng.normal(0, 1, n)
        low, high = confidence_interval(first)
        mean += low <= effect <= high
        low, high = _welch_interval(first, second)
        difference += low <= effect <= high
    assert mean / TRIALS == pytest.approx(0.95, abs=SLACK)
    assert difference / TRIALS == pytest.approx(0.95, abs=SLACK)


@pytest.mark.parametrize("n", SIZES)
@pytest.mark.parametrize("effect", EFFECTS)
def test_the_share_of_the_variance(n: int, effect: float) -> None:
    means = np.array([0.0, effect / 2, effect])
    lam = n * float(((means - means.mean()) ** 2).sum())
    truth = lam / (lam + 3 * n)
    rng = np.random.default_rng(2)
    inside, cut = 0, 0
    for _ in range(400):
        found = eta_squared([rng.normal(m, 1, n) for m in means])
        inside += found.interval[0] <= truth <= found.interval[1]
        cut += "cut at 0" in found.interval_is
        assert ("cut at 0" in found.interval_is) == (found.interval[0] == 0)
    if effect:
        assert inside / 400 == pytest.approx(0.95, abs=0.015 + 3 * math.sqrt(0.0475 / 400))
    else:
        # Without any effect the lower end is 0, as said, and nothing lies below it.
        assert inside >= 0.95 * 400
        assert cut > 0.9 * 400

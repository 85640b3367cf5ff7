"""Every interval that is printed holds the truth as often as it says, in simulated studies."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest
from scipy import stats
from scipy.optimize import brentq
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
from rilievo.core.compare.rank_intervals import paired_interval, two_sample_interval

TRIALS = 1200
# 1.5 % and three standard errors of so many trials.
SLACK = 0.015 + 3 * math.sqrt(0.95 * 0.05 / TRIALS)
SIZES, EFFECTS = (3, 5, 20), (0.0, 1.0, 2.0)


def check(share: float, words: str) -> None:
    if "at least" in words:
        assert share >= 0.95 - SLACK
    else:
        assert share == pytest.approx(0.95, abs=SLACK)


def with_t(t: float, n: int) -> np.ndarray:
    """n values of mean t / √n and standard deviation 1."""
    ramp = np.arange(n) - (n - 1) / 2
    return t / math.sqrt(n) + ramp / ramp.std(ddof=1)


def exact_coverage(end_of: Callable[[float], Effect], truth: float, df: int, shift: float) -> float:
    """The probability that an interval that follows from t alone holds the truth.

    The t at which an end is the truth is searched for; t itself has a non-central distribution.
    """
    ts = []
    for end, way in ((1, -1), (0, 1)):
        far = shift + way
        while way * (end_of(far).interval[end] - truth) < 0:
            far += way
        ts.append(brentq(lambda t, end=end: end_of(t).interval[end] - truth, far - way, far))
    lowest, highest = ts
    return float(stats.nct.cdf(highest, df, shift) - stats.nct.cdf(lowest, df, shift))


@pytest.mark.parametrize("n", SIZES)
@pytest.mark.parametrize("effect", EFFECTS)
def test_standardised_differences(n: int, effect: float) -> None:
    """Exactly, without draws: both intervals follow from Student's t."""
    rng = np.random.default_rng(11)
    two = math.sqrt(n / 2)
    for _ in range(5):
        first, second = rng.normal(effect, 1, n), rng.normal(0, 1, n)
        t = stats.ttest_ind(first, second).statistic
        as_drawn, made = (
            hedges_g(first, second),
            hedges_g(with_t(t * math.sqrt(2), n), with_t(0, n)),
        )
        assert as_drawn.interval == pytest.approx(made.interval, abs=1e-6)
        t = stats.ttest_1samp(first, 0).statistic
        assert paired_g(first).interval == pytest.approx(paired_g(with_t(t, n)).interval, abs=1e-6)
    share = exact_coverage(
        lambda t: hedges_g(with_t(t * math.sqrt(2), n), with_t(0, n)), effect, 2 * n - 2,
        effect * two,
    )  # fmt: skip
    assert share == pytest.approx(0.95, abs=1e-4)
    share = exact_coverage(lambda t: paired_g(with_t(t, n)), effect, n - 1, effect * math.sqrt(n))
    assert share == pytest.approx(0.95, abs=1e-4)


@pytest.mark.parametrize("n", SIZES)
@pytest.mark.parametrize("effect", EFFECTS)
def test_ranks(n: int, effect: float) -> None:
    """The interval follows from the statistic, which has few values: each is computed once."""
    rng = np.random.default_rng(5)
    first, second = rng.normal(effect, 1, (TRIALS, n)), rng.normal(0, 1, (TRIALS, n))
    u = (first[:, :, None] > second[:, None, :]).sum(axis=(1, 2))
    intervals = {value: two_sample_interval(value, n, n) for value in np.unique(u).tolist()}
    superiority = 2 * float(ndtr(effect / math.sqrt(2))) - 1
    drawn = [intervals[value] for value in u.tolist()]
    share = np.mean([low <= superiority <= high for low, high in (i.ends for i in drawn)])
    check(float(share), drawn[0].words)
    assert rank_biserial(first[0], second[0]).interval == drawn[0].ends
    # Walsh: W₊ counts the pairs, each with itself too, whose mean is above 0.
    i, j = np.triu_indices(n)
    w = (first[:, i] + first[:, j] > 0).sum(axis=1)
    intervals = {value: paired_interval(value, n) for value in np.unique(w).tolist()}
    pairs = n * (n - 1) / 2
    mean = n * ndtr(effect) + pairs * ndtr(math.sqrt(2) * effect)
    truth = 4 * float(mean) / (n * (n + 1)) - 1
    drawn = [intervals[value] for value in w.tolist()]
    share = np.mean([low <= truth <= high for low, high in (i.ends for i in drawn)])
    check(float(share), drawn[0].words)
    assert paired_rank_biserial(first[0]).interval == drawn[0].ends
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

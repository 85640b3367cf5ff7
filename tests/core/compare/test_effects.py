"""Effect sizes by hand and by simulation, and numbers of samples from published tables."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from rilievo.core.compare.effects import (
    eta_squared,
    eta_squared_of_ranks,
    hedges_g,
    noncentral_t_interval,
    paired_g,
    paired_rank_biserial,
    power_of_t,
    rank_biserial,
    samples_for_several,
    samples_for_two,
    small_sample_factor,
)

FIRST, SECOND = np.array([1.0, 2, 3, 4]), np.array([3.0, 4, 5, 6, 7])


def test_hedges_by_hand() -> None:
    # Means 2.5 and 5, variances 5/3 and 5/2: pooled (3·5/3 + 4·5/2)/7 = 15/7.
    d = -2.5 / math.sqrt(15 / 7)
    assert hedges_g(FIRST, SECOND).value == pytest.approx(small_sample_factor(7) * d, rel=1e-12)
    # Γ(1)/(√1·Γ(1/2)) = 1/√π; for more degrees Hedges' approximation 1 − 3/(4ν − 1).
    assert small_sample_factor(2) == pytest.approx(1 / math.sqrt(math.pi))
    assert small_sample_factor(7) == pytest.approx(1 - 3 / 27, abs=1e-3)
    assert small_sample_factor(20) == pytest.approx(1 - 3 / (4 * 20 - 1), abs=2e-4)
    assert hedges_g(SECOND, FIRST).value == -hedges_g(FIRST, SECOND).value


def test_g_has_no_bias_and_its_interval_holds_what_it_says() -> None:
    rng, true, within, found = np.random.default_rng(3), 0.8, 0, []
    for _ in range(1500):
        effect = hedges_g(rng.normal(true, 1, 6), rng.normal(0, 1, 9))
        found.append(effect.value)
        within += effect.interval[0] <= true <= effect.interval[1]
    assert np.mean(found) == pytest.approx(true, abs=0.05)
    assert within / 1500 == pytest.approx(0.95, abs=0.017)


def test_interval_of_non_centrality_by_simulation() -> None:
    low, high = noncentral_t_interval(2.6, 14)
    rng = np.random.default_rng(2)
    chi = np.sqrt(rng.chisquare(14, 400_000) / 14)
    for nc, share in ((low, 0.975), (high, 0.025)):
        t = (rng.normal(nc, 1, chi.size)) / chi
        assert np.mean(t <= 2.6) == pytest.approx(share, abs=0.001)


def test_paired_g_by_hand() -> None:
    differences = np.array([1.0, 2, 3, 4])
    d = 2.5 / math.sqrt(5 / 3)
    assert paired_g(differences).value == pytest.approx(small_sample_factor(3) * d)
    assert math.isnan(paired_g(np.ones(4)).value)
    assert math.isnan(paired_g(np.ones(1)).value)


def test_rank_biserial_counts_pairs() -> None:
    rng = np.random.default_rng(4)
    first, second = rng.integers(0, 9, 12).astype(float), rng.integers(2, 12, 9).astype(float)
    signs = np.sign(first[:, None] - second[None, :])
    assert rank_biserial(first, second).value == pytest.approx(signs.mean())
    low, high = rank_biserial(first, second).interval
    assert -1 <= low < signs.mean() < high <= 1
    assert rank_biserial(FIRST, FIRST + 10).value == -1
    # Differences −1, 2, 3: ranks 1 against 2 + 3 of 6.
    assert paired_rank_biserial(np.array([-1.0, 2, 0, 3])).value == pytest.approx(4 / 6)


def test_eta_squared_by_hand_and_its_interval_by_simulation() -> None:
    groups = [np.array([1.0, 2, 3]), np.array([2.0, 3, 4]), np.array([6.0, 7, 8])]
    # Between: 3·(2−4)² + 3·(3−4)² + 3·(7−4)² = 42, within 6.
    assert eta_squared(groups).value == pytest.approx(42 / 48)
    rng, within = np.random.default_rng(6), 0
    means = np.array([0.0, 0.7, 1.4])
    lam = 10 * float(((means - means.mean()) ** 2).sum())
    true = lam / (lam + 30)
    for _ in range(800):
        low, high = eta_squared([rng.normal(m, 1, 10) for m in means]).interval
        within += low <= true <= high
    assert within / 800 == pytest.approx(0.95, abs=0.02)
    assert math.isnan(eta_squared([np.ones(3), np.ones(3)]).value)
    assert eta_squared_of_ranks([FIRST, SECOND], 5.0).value == pytest.approx(4 / 7)


@pytest.mark.parametrize(("d", "n"), [(0.2, 394), (0.5, 64), (0.8, 26)])
def test_samples_of_two_groups_as_published(d: float, n: int) -> None:
    # Cohen 1988, Statistical Power Analysis, table 2.4.1 (393, 64 and 26), rounded up to 80 %.
    assert samples_for_two(d) == n
    assert samples_for_two(-d) == n
    assert samples_for_two(d, of_ranks=True) == math.ceil(n * math.pi / 3)


def test_samples_of_pairs_and_of_several_groups_as_published() -> None:
    assert samples_for_two(0.5, paired=True) == 34
    # Cohen 1988, table 8.4.4: f = 0.25 and 3 groups take 52 (by approximation), f = 0.4 takes 21.
    assert samples_for_several(0.0625 / 1.0625, 3) in (52, 53)
    assert samples_for_several(0.16 / 1.16, 3) in (21, 22)
    assert samples_for_two(0.0) is None
    assert samples_for_two(math.nan) is None
    assert samples_for_two(1e-4) is None
    assert samples_for_several(0.0, 3) is None


def test_power_by_simulation() -> None:
    rng = np.random.default_rng(8)
    a, b = rng.normal(0, 1, (20_000, 12)), rng.normal(1.1, 1, (20_000, 12))
    error = np.sqrt((a.var(1, ddof=1) + b.var(1, ddof=1)) / 12)
    t = (b.mean(1) - a.mean(1)) / error
    assert power_of_t(1.1, 22, math.sqrt(6)) == pytest.approx(np.mean(np.abs(t) > 2.0739), abs=0.01)


@pytest.mark.parametrize(("t", "df"), [(-1.11, 6), (0.0, 3), (53.8, 3), (-18, 6), (300, 2), (5, 1)])
def test_the_interval_is_found_wherever_t_lies(t: float, df: float) -> None:
    low, high = noncentral_t_interval(t, df)
    assert stats.nct.cdf(t, df, low) == pytest.approx(0.975, abs=1e-4)
    assert stats.nct.cdf(t, df, high) == pytest.approx(0.025, abs=1e-4)
    assert noncentral_t_interval(-t, df) == pytest.approx((-high, -low), abs=1e-6)


@pytest.mark.parametrize("df", [1, 2, 3, 20])
def test_ends_are_quantiles_however_large_t_is(df: int) -> None:
    for t in (0.0, 0.5, 3.0, 17.25, 20.0, 39.5, 100.0):
        low, high = noncentral_t_interval(t, df)
        assert stats.nct.cdf(t, df, low) == pytest.approx(0.975, abs=1e-6)
        assert stats.nct.cdf(t, df, high) == pytest.approx(0.025, abs=1e-6)
        assert noncentral_t_interval(-t, df) == pytest.approx((-high, -low))

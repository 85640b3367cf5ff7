"""The tests against SciPy's, against counting out, and on synthetic data without any effect."""

from __future__ import annotations

import itertools
import math
import warnings
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from rilievo.core.compare.hypotheses import (
    Test,
    brown_forsythe,
    holm,
    kruskal_wallis,
    mann_whitney,
    paired_t,
    shapiro_wilk,
    u_counts,
    welch_anova,
    welch_t,
    wilcoxon,
)

Numbers = np.ndarray
numbers = st.lists(st.integers(-50, 50).map(float), min_size=3, max_size=12).map(np.array)
RNG = np.random.default_rng(5)
FIRST, SECOND, THIRD = RNG.normal(10, 1, 7), RNG.normal(11, 3, 12), RNG.normal(9, 2, 9)


def close(ours: Test, statistic: float, p: float) -> bool:
    return ours.statistic == pytest.approx(statistic, rel=1e-12) and ours.p == pytest.approx(
        p, rel=1e-10
    )


@given(numbers, numbers)
@settings(deadline=None)
def test_welch_as_scipy(first: Numbers, second: Numbers) -> None:
    ours = welch_t(first, second)
    if first.std() + second.std() == 0:
        assert math.isnan(ours.p)
        return
    with warnings.catch_warnings():
        # SciPy doubts a group of equal values, which is exact here.
        warnings.simplefilter("ignore", RuntimeWarning)
        theirs = stats.ttest_ind(first, second, equal_var=False)
    assert ours.statistic == pytest.approx(theirs.statistic, rel=1e-9, abs=1e-12)
    assert ours.df[0] == pytest.approx(theirs.df, rel=1e-9)
    assert ours.p == pytest.approx(theirs.pvalue, rel=1e-8)


@given(numbers, numbers)
@settings(deadline=None)
def test_mann_whitney_as_scipy(first: Numbers, second: Numbers) -> None:
    ours = mann_whitney(first, second)
    both = np.concatenate([first, second])
    if np.ptp(both) == 0:
        assert math.isnan(ours.p)
        return
    assert ours.exact
    theirs = stats.mannwhitneyu(first, second, method="exact")
    assert ours.statistic == theirs.statistic
    if np.unique(both).size == both.size:
        assert ours.p == pytest.approx(theirs.pvalue, rel=1e-9)


SMALL = st.lists(st.integers(0, 4).map(float), min_size=1, max_size=5).map(np.array)


@given(SMALL, SMALL)
@settings(deadline=None)
def test_equal_values_are_counted_out_too(first: Numbers, second: Numbers) -> None:
    both = np.concatenate([first, second])
    if np.ptp(both) > 0:
        own = stats.rankdata(both)
        sums = [sum(chosen) for chosen in itertools.combinations(own, first.size)]
        away = np.abs(np.array(sums) - np.mean(sums))
        far = away >= abs(own[: first.size].sum() - np.mean(sums)) - 1e-9
        assert mann_whitney(first, second).p == pytest.approx(far.mean())
    kept = both - 2
    kept = kept[kept != 0]
    if kept.size:
        own = stats.rankdata(np.abs(kept))
        signs = np.array(list(itertools.product((0, 1), repeat=kept.size)))
        sums = signs @ own
        far = np.abs(sums - sums.mean()) >= abs(own[kept > 0].sum() - sums.mean()) - 1e-9
        assert wilcoxon(kept).p == pytest.approx(far.mean())


def test_many_equal_values_as_scipy_approximates() -> None:
    first, second = np.round(RNG.normal(0, 3, 40)), np.round(RNG.normal(1, 3, 30))
    theirs = stats.mannwhitneyu(first, second, method="asymptotic")
    assert mann_whitney(first, second).p == pytest.approx(theirs.pvalue, rel=1e-9)
    kept = np.round(RNG.normal(1, 4, 90))
    kept = kept[kept != 0]
    theirs = stats.wilcoxon(kept, method="asymptotic")
    assert wilcoxon(kept).p == pytest.approx(theirs.pvalue, rel=1e-9)


@given(numbers)
@settings(deadline=None)
def test_wilcoxon_as_scipy(differences: Numbers) -> None:
    ours = wilcoxon(differences)
    kept = differences[differences != 0]
    if not kept.size:
        assert math.isnan(ours.p)
        return
    theirs = stats.wilcoxon(kept, method="approx")
    assert ours.statistic == theirs.statistic
    if np.unique(np.abs(kept)).size == kept.size:
        theirs = stats.wilcoxon(kept, method="exact")
        assert ours.p == pytest.approx(theirs.pvalue, rel=1e-9)


def test_the_others_as_scipy() -> None:
    groups = [FIRST, SECOND, THIRD]
    anova = stats.f_oneway(*groups, equal_var=False)
    assert close(welch_anova(groups), anova.statistic, anova.pvalue)
    kruskal = stats.kruskal(*groups)
    assert close(kruskal_wallis(groups), kruskal.statistic, kruskal.pvalue)
    rounded = [np.round(group) for group in groups]
    kruskal = stats.kruskal(*rounded)
    assert close(kruskal_wallis(rounded), kruskal.statistic, kruskal.pvalue)
    levene = stats.levene(*groups, center="median")
    assert close(brown_forsythe(groups), levene.statistic, levene.pvalue)
    paired = stats.ttest_rel(FIRST, SECOND[:7])
    assert close(paired_t(FIRST - SECOND[:7]), paired.statistic, paired.pvalue)
    # It does not depend on the unit.
    assert shapiro_wilk(1e6 + 1e-3 * SECOND) == pytest.approx(
        stats.shapiro(SECOND).pvalue, rel=1e-4
    )


@pytest.mark.parametrize(("n1", "n2"), [(1, 1), (2, 3), (4, 4), (3, 6)])
def test_orders_are_counted_as_by_listing_them(n1: int, n2: int) -> None:
    listed = np.zeros(n1 * n2 + 1)
    for positions in itertools.combinations(range(n1 + n2), n1):
        listed[sum(positions) - n1 * (n1 - 1) // 2] += 1
    assert u_counts(n1, n2).tolist() == listed.tolist()


def test_student_by_hand() -> None:
    # Student 1908, Biometrika 6, 20: hours of sleep gained by ten patients with two drugs.
    first = np.array([0.7, -1.6, -0.2, -1.2, -0.1, 3.4, 3.7, 0.8, 0.0, 2.0])
    second = np.array([1.9, 0.8, 1.1, 0.1, -0.1, 4.4, 5.5, 1.6, 4.6, 3.4])
    paired = paired_t(second - first)
    assert paired.statistic == pytest.approx(4.0621, abs=5e-5)
    assert paired.p == pytest.approx(0.002833, abs=5e-7)
    apart = welch_t(first, second)
    assert apart.statistic == pytest.approx(-1.8608, abs=5e-5)
    assert apart.df[0] == pytest.approx(17.776, abs=5e-4)
    assert apart.p == pytest.approx(0.07939, abs=5e-6)


def test_holm_by_hand() -> None:
    assert holm([0.01, 0.04, 0.03]) == pytest.approx([0.03, 0.06, 0.06])
    assert holm([0.5, 0.9]) == [1.0, 1.0]
    corrected = holm([0.02, math.nan, 0.01])
    assert corrected[0] == pytest.approx(0.02)
    assert math.isnan(corrected[1])
    assert corrected[2] == pytest.approx(0.02)


def test_too_few_or_no_spread_gives_no_number() -> None:
    one, same = np.array([1.0]), np.full(4, 2.0)
    for test in (
        welch_t(one, FIRST), welch_t(same, same), paired_t(one), paired_t(same),
        mann_whitney(np.zeros(0), FIRST), mann_whitney(same, same), wilcoxon(np.zeros(3)),
        welch_anova([FIRST, same, SECOND]), welch_anova([FIRST]), kruskal_wallis([same, same]),
        brown_forsythe([one, FIRST]), brown_forsythe([same, same]),
    ):  # fmt: skip
        assert math.isnan(test.p)
    assert math.isnan(shapiro_wilk(same))
    assert math.isnan(shapiro_wilk(one))


def _rate(test: Callable[[Numbers], Test], shape: tuple[int, ...], runs: int = 6000) -> float:
    """How often a test finds something where there is nothing, per cent."""
    rng = np.random.default_rng(11)
    return 100 * sum(test(rng.normal(5, 2, shape)).p < 0.05 for _ in range(runs)) / runs


@pytest.mark.slow
@pytest.mark.parametrize(
    ("test", "shape"),
    [
        # With 4 and 4 samples it is known to be careful: 4.0 %.
        (lambda v: welch_t(v[0], v[1]), (2, 8)),
        (lambda v: welch_t(v[0], v[1][:5] * 3 - 10), (2, 9)),
        (lambda v: paired_t(v[0] - v[1]), (2, 5)),
        (lambda v: mann_whitney(v[0], v[1]), (2, 18)),
        (lambda v: wilcoxon(v[0] - v[1]), (2, 20)),
        (lambda v: welch_anova(list(v)), (3, 8)),
        (lambda v: kruskal_wallis(list(v)), (3, 15)),
    ],
    ids=["welch", "unequal spread", "paired", "mann-whitney", "wilcoxon", "anova", "kruskal"],
)
def test_null_data_give_five_per_cent(
    test: Callable[[Numbers], Test], shape: tuple[int, ...]
) -> None:
    assert _rate(test, shape) == pytest.approx(5, abs=1)

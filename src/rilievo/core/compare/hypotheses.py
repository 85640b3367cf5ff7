"""Tests between groups of values: what is computed, and nothing about words.

Each returns its statistic with degrees of freedom and the two-sided p; NaN where there are too
few values or no spread, never a number that means nothing. Values that differ by their rounding
alone are equal.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.distributions import (
    Values,
    chi2_upper,
    f_upper,
    normal_two_sided,
    ranks,
    t_two_sided,
    tie_sum,
    variance,
    without_rounding,
)

# The distribution of a rank statistic is counted out up to so many values, without equal ones.
MOST_EXACT = 50


@dataclass(frozen=True)
class Test:
    """Outcome of a test. df : degrees of freedom; exact : p was counted out, not approximated."""

    __test__ = False  # not one of pytest's

    name: str
    symbol: str
    statistic: float
    df: tuple[float, ...]
    p: float
    exact: bool = False


def welch_t(first: Values, second: Values) -> Test:
    """Return the t test of two means without equal variances.

        t = (m₁ − m₂) / √(s₁²/n₁ + s₂²/n₂), degrees of freedom after Satterthwaite

    Source: Welch 1947, Biometrika 34, 28.
    """
    name = "Welch's t test"
    first, second = without_rounding([first, second])
    if first.size < 2 or second.size < 2:
        return Test(name, "t", math.nan, (math.nan,), math.nan)
    a, b = variance(first) / first.size, variance(second) / second.size
    if a + b <= 0:
        return Test(name, "t", math.nan, (math.nan,), math.nan)
    t = float((first.mean() - second.mean()) / math.sqrt(a + b))
    df = float((a + b) ** 2 / (a**2 / (first.size - 1) + b**2 / (second.size - 1)))
    return Test(name, "t", t, (df,), t_two_sided(t, df))


def paired_t(differences: Values) -> Test:
    """Return the t test of the mean of differences: t = mean / (s / √n), n − 1 degrees."""
    name, n = "paired t test", differences.size
    differences = without_rounding([differences])[0]
    spread = math.sqrt(variance(differences)) if n > 1 else 0.0
    if n < 2 or spread <= 0:
        return Test(name, "t", math.nan, (math.nan,), math.nan)
    t = float(differences.mean()) / (spread / math.sqrt(n))
    return Test(name, "t", t, (n - 1.0,), t_two_sided(t, n - 1))


@functools.lru_cache(maxsize=64)
def u_counts(n1: int, n2: int) -> Values:
    """Return how many orders of n₁ and n₂ values give each U from 0 to n₁·n₂.

    The Gaussian binomial coefficient, multiplied out: Π (1 − q^(n₂+i)) / (1 − q^i).
    """
    counts = np.zeros(n1 * n2 + 1)
    counts[0] = 1
    for i in range(1, n1 + 1):
        step = n2 + i
        if step <= n1 * n2:
            counts[step:] -= counts[:-step].copy()
        for k in range(i, counts.size):
            counts[k] += counts[k - i]
    counts.flags.writeable = False
    return counts


def _chosen_counts(doubled: NDArray[np.int64], chosen: int) -> Values:
    """In how many ways so many of the ranks add up to each sum; ranks are doubled, to be whole."""
    counts = np.zeros((chosen + 1, int(doubled.sum()) + 1))
    counts[0, 0] = 1
    for rank in doubled:
        counts[1:, rank:] += counts[:-1, : counts.shape[1] - rank].copy()
    return np.asarray(counts[chosen])


def _signed_counts(doubled: NDArray[np.int64]) -> Values:
    """In how many ways any of the ranks add up to each sum; ranks are doubled, to be whole."""
    counts = np.zeros(int(doubled.sum()) + 1)
    counts[0] = 1
    for rank in doubled:
        counts[rank:] += counts[: counts.size - rank].copy()
    return counts


def _as_far(counts: Values, observed: float) -> float:
    """The share of sums at least as far from their mean as the one that was found."""
    sums = np.arange(counts.size)
    away = np.abs(sums - float((sums * counts).sum() / counts.sum()))
    far = away >= abs(observed - float((sums * counts).sum() / counts.sum())) - 1e-6
    return float(counts[far].sum() / counts.sum())


def mann_whitney(first: Values, second: Values) -> Test:
    """Return the rank test of two groups.

        U = R₁ − n₁(n₁ + 1)/2, R₁ the sum of the ranks of the first group

    Counted out over all choices of n₁ ranks up to 50 values, also equal ones, else by the normal
    approximation with tie and continuity corrections. Source: Mann & Whitney 1947, Ann. Math.
    Stat. 18, 50.
    """
    name, n1, n2 = "Mann–Whitney test", first.size, second.size
    first, second = without_rounding([first, second])
    if n1 < 1 or n2 < 1:
        return Test(name, "U", math.nan, (), math.nan)
    both = np.concatenate([first, second])
    rank = ranks(both)
    u = float(rank[:n1].sum() - n1 * (n1 + 1) / 2)
    ties, n = tie_sum(both), n1 + n2
    if not ties and n <= MOST_EXACT:
        counts = u_counts(n1, n2)
        tail = counts[: int(min(u, n1 * n2 - u)) + 1].sum() / counts.sum()
        return Test(name, "U", u, (), min(1.0, 2 * float(tail)), exact=True)
    sigma2 = n1 * n2 / 12 * ((n + 1) - ties / (n * (n - 1)))
    if sigma2 <= 0:
        return Test(name, "U", u, (), math.nan)
    if n <= MOST_EXACT:
        counts = _chosen_counts(np.rint(2 * rank).astype(np.int64), n1)
        return Test(name, "U", u, (), _as_far(counts, 2 * rank[:n1].sum()), exact=True)
    away = max(abs(u - n1 * n2 / 2) - 0.5, 0.0)
    return Test(name, "U", u, (), normal_two_sided(away / math.sqrt(sigma2)))


@functools.lru_cache(maxsize=64)
def signed_rank_counts(n: int) -> Values:
    """Return in how many ways the ranks 1 … n add up to each sum from 0 to n(n + 1)/2."""
    counts = np.zeros(n * (n + 1) // 2 + 1)
    counts[0] = 1
    for rank in range(1, n + 1):
        counts[rank:] += counts[:-rank].copy()
    counts.flags.writeable = False
    return counts


def wilcoxon(differences: Values) -> Test:
    """Return the signed rank test of paired differences; differences of 0 are left out.

        W = the smaller of the sums of ranks of positive and of negative differences

    Counted out over all signs up to 50 differences, also of equal sizes, else by the normal
    approximation with tie correction. Source: Wilcoxon 1945, Biometrics Bulletin 1, 80.
    """
    name = "Wilcoxon's signed rank test"
    differences = without_rounding([differences])[0]
    nonzero = differences[differences != 0]
    n = nonzero.size
    if n < 1:
        return Test(name, "W", math.nan, (), math.nan)
    rank = ranks(np.abs(nonzero))
    w = float(min(rank[nonzero > 0].sum(), rank[nonzero < 0].sum()))
    ties = tie_sum(np.abs(nonzero))
    if not ties and n <= MOST_EXACT:
        counts = signed_rank_counts(n)
        return Test(
            name, "W", w, (), min(1.0, 2 * float(counts[: int(w) + 1].sum() / 2.0**n)), exact=True
        )
    if n <= MOST_EXACT:
        counts = _signed_counts(np.rint(2 * rank).astype(np.int64))
        return Test(name, "W", w, (), _as_far(counts, 2 * w), exact=True)
    sigma2 = n * (n + 1) * (2 * n + 1) / 24 - ties / 48
    z = (w - n * (n + 1) / 4) / math.sqrt(sigma2)
    return Test(name, "W", w, (), normal_two_sided(z))


def welch_anova(groups: Sequence[Values]) -> Test:
    """Return the analysis of variance without equal variances.

        wᵢ = nᵢ/sᵢ², m = Σwᵢmᵢ/Σwᵢ, Λ = Σ (1 − wᵢ/Σw)²/(nᵢ − 1)
        F = [Σ wᵢ(mᵢ − m)²/(k − 1)] / [1 + 2(k − 2)/(k² − 1) · Λ], k − 1 and (k² − 1)/(3Λ) degrees

    Source: Welch 1951, Biometrika 38, 330.
    """
    name, k = "Welch's analysis of variance", len(groups)
    groups = without_rounding(groups)
    if k < 2 or any(g.size < 2 or variance(g) <= 0 for g in groups):
        return Test(name, "F", math.nan, (math.nan, math.nan), math.nan)
    weights = np.array([g.size / variance(g) for g in groups])
    means = np.array([g.mean() for g in groups])
    middle = float((weights * means).sum() / weights.sum())
    lack = sum(
        (1 - w / weights.sum()) ** 2 / (g.size - 1) for w, g in zip(weights, groups, strict=True)
    )
    between = float((weights * (means - middle) ** 2).sum()) / (k - 1)
    f = between / (1 + 2 * (k - 2) / (k**2 - 1) * lack)
    df2 = float((k**2 - 1) / (3 * lack))
    return Test(name, "F", float(f), (k - 1.0, df2), f_upper(float(f), k - 1, df2))


def kruskal_wallis(groups: Sequence[Values]) -> Test:
    """Return the rank test of several groups, with tie correction, p from χ² with k − 1 degrees.

        H = [12/(n(n + 1)) · Σ Rᵢ²/nᵢ − 3(n + 1)] / [1 − Σ(t³ − t)/(n³ − n)]

    Source: Kruskal & Wallis 1952, J. Am. Stat. Assoc. 47, 583.
    """
    name, k = "Kruskal–Wallis test", len(groups)
    groups = without_rounding(groups)
    if k < 2 or any(g.size < 1 for g in groups):
        return Test(name, "H", math.nan, (math.nan,), math.nan)
    every = np.concatenate(groups)
    n = every.size
    rank = ranks(every)
    sums = [part.sum() for part in np.split(rank, np.cumsum([g.size for g in groups])[:-1])]
    loss = 1 - tie_sum(every) / (n**3 - n) if n > 1 else 0.0
    if loss <= 0 or n <= k:
        return Test(name, "H", math.nan, (k - 1.0,), math.nan)
    parts = sum(float(s) ** 2 / g.size for s, g in zip(sums, groups, strict=True))
    h = (12 / (n * (n + 1)) * parts - 3 * (n + 1)) / loss
    return Test(name, "H", float(h), (k - 1.0,), chi2_upper(float(h), k - 1))


def brown_forsythe(groups: Sequence[Values]) -> Test:
    """Return the test of equal spread: F of the distances from each group's median.

    Source: Brown & Forsythe 1974, J. Am. Stat. Assoc. 69, 364.
    """
    name, k = "Brown–Forsythe test", len(groups)
    groups = without_rounding(groups)
    n = sum(g.size for g in groups)
    if k < 2 or any(g.size < 2 for g in groups) or n <= k:
        return Test(name, "F", math.nan, (math.nan, math.nan), math.nan)
    away = [np.abs(g - np.median(g)) for g in groups]
    middle = float(np.concatenate(away).mean())
    between = sum(z.size * float(z.mean() - middle) ** 2 for z in away) / (k - 1)
    within = sum(float(((z - z.mean()) ** 2).sum()) for z in away) / (n - k)
    f = between / within if within > 1e-24 * middle**2 else math.nan
    return Test(name, "F", f, (k - 1.0, float(n - k)), f_upper(f, k - 1, n - k))


def shapiro_wilk(values: Values) -> float:
    """Return p that values come from a normal distribution; NaN below 3 values or without spread.

    SciPy's: Royston 1995, Applied Statistics 44, 547.
    """
    from scipy.stats import shapiro  # noqa: PLC0415 (slow to import)

    if values.size < 3 or np.ptp(values) <= 0:
        return math.nan
    # Beyond 5000 values its approximation is not known to hold; an even choice tells as much.
    few = values[:: values.size // 5000 + 1]
    return float(shapiro((few - few.mean()) / np.ptp(few)).pvalue)


def holm(ps: Sequence[float]) -> list[float]:
    """Return p values corrected for their number; those that are NaN are not counted.

        p₍ᵢ₎′ = max over j ≤ i of min(1, (m − j + 1) · p₍ⱼ₎), p₍ᵢ₎ ascending

    Source: Holm 1979, Scand. J. Statist. 6, 65.
    """
    ordered = sorted((p, k) for k, p in enumerate(ps) if not math.isnan(p))
    corrected, highest = [math.nan] * len(ps), 0.0
    for index, (p, k) in enumerate(ordered):
        highest = max(highest, min(1.0, (len(ordered) - index) * p))
        corrected[k] = highest
    return corrected

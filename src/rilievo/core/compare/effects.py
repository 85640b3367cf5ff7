"""How large a difference is, beside how sure: effect sizes with 95 % intervals, and the number of
samples it would take to see them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from rilievo.core.compare.distributions import Values, ranks, t_quantile, variance, without_rounding
from rilievo.core.compare.rank_intervals import paired_interval, two_sample_interval

ALPHA, POWER = 0.05, 0.80
_MOST_SAMPLES = 100_000
_FARTHEST = 1e6
_LOWEST = -2.0
# Large samples give what the normal approximation gives.
_RANK_EFFICIENCY = 3 / math.pi


@dataclass(frozen=True)
class Effect:
    """An effect size with its interval; NaN where it cannot be known.

    interval_is : what the interval is, in words. docs/accuracy.md has how often it holds the truth.
    """

    name: str
    symbol: str
    value: float
    interval: tuple[float, float] = (math.nan, math.nan)
    interval_is: str = "95 % interval"


def small_sample_factor(df: float) -> float:
    """Return J = Γ(ν/2) / (√(ν/2) · Γ((ν − 1)/2)), which takes the bias out of d (Hedges 1981)."""
    if df <= 1:
        return math.nan
    return math.exp(math.lgamma(df / 2) - math.lgamma((df - 1) / 2)) / math.sqrt(df / 2)


def _root(rises: Callable[[float], float], low: float, high: float) -> float:
    from scipy.optimize import brentq  # noqa: PLC0415 (slow to import)

    try:
        return float(brentq(rises, low, high, xtol=1e-10, rtol=1e-10))
    except ValueError:
        return math.nan


def noncentral_t_interval(t: float, df: float) -> tuple[float, float]:
    """Return the non-centralities for which t is the 97.5 % and the 2.5 % quantile."""
    from scipy.special import nctdtr  # noqa: PLC0415

    if not math.isfinite(t):
        return math.nan, math.nan
    if t < 0:
        low, high = noncentral_t_interval(-t, df)
        return -high, -low

    def lack(nc: float, share: float) -> float:
        return float(nctdtr(df, nc, t)) - share

    def nc(share: float, way: int) -> float:
        # Far out the distribution is not computed any more: look from t outwards.
        near, step = t, 0.5
        while way * lack(near + way * step, share) > 0 and step < _FARTHEST:
            near, step = near + way * step, 2 * step

        def rest(noncentrality: float) -> float:
            return lack(noncentrality, share)

        end = _root(rest, *sorted((near, near + way * step)))
        # Since t is at least 0, no end lies below −2.
        return _root(rest, _LOWEST, near) if way < 0 and math.isnan(end) else end

    return nc(1 - ALPHA / 2, -1), nc(ALPHA / 2, 1)


def hedges_g(first: Values, second: Values) -> Effect:
    """Return the difference of two means in standard deviations, first − second.

        g = J · (m₁ − m₂) / √(((n₁ − 1)s₁² + (n₂ − 1)s₂²)/(n₁ + n₂ − 2))

    The interval is that of the true difference in standard deviations, by the non-central t for
    equal variances; the correction J is of the estimate alone. Source: Hedges 1981, J. Educ. Stat.
    6, 107; Cumming & Finch 2001, Educ. Psychol. Meas. 61, 532.
    """
    n1, n2 = first.size, second.size
    first, second = without_rounding([first, second])
    df = n1 + n2 - 2
    if n1 < 2 or n2 < 2:
        return Effect("Hedges' g", "g", math.nan)
    pooled = ((n1 - 1) * variance(first) + (n2 - 1) * variance(second)) / df
    if pooled <= 0:
        return Effect("Hedges' g", "g", math.nan)
    d = float((first.mean() - second.mean()) / math.sqrt(pooled))
    factor, root = small_sample_factor(df), math.sqrt(n1 * n2 / (n1 + n2))
    low, high = noncentral_t_interval(d * root, df)
    return Effect("Hedges' g", "g", factor * d, (low / root, high / root))


def paired_g(differences: Values) -> Effect:
    """Return the mean of paired differences in their standard deviations, without bias.

    g = J · mean / s, interval of the non-central t with n − 1 degrees of freedom.
    """
    n = differences.size
    differences = without_rounding([differences])[0]
    spread = math.sqrt(variance(differences)) if n > 1 else 0.0
    if spread <= 0:
        return Effect("Hedges' g of the differences", "g", math.nan)
    d, factor, root = float(differences.mean()) / spread, small_sample_factor(n - 1), math.sqrt(n)
    low, high = noncentral_t_interval(d * root, n - 1)
    return Effect("Hedges' g of the differences", "g", factor * d, (low / root, high / root))


def rank_biserial(first: Values, second: Values) -> Effect:
    """Return how much more often a value of the first group is the larger one: 2U/(n₁n₂) − 1.

    The interval is that of `two_sample_interval`. Source: Kerby 2014, Comprehensive Psychology 3,
    1.
    """
    n1, n2 = first.size, second.size
    if n1 < 1 or n2 < 1:
        return Effect("rank-biserial correlation", "r", math.nan)
    u = float(ranks(np.concatenate([first, second]))[:n1].sum() - n1 * (n1 + 1) / 2)
    interval = two_sample_interval(u, n1, n2)
    r = 2 * u / (n1 * n2) - 1
    return Effect("rank-biserial correlation", "r", r, interval.ends, interval.words)


def paired_rank_biserial(differences: Values) -> Effect:
    """Return (W₊ − W₋)/(n(n + 1)/2) of paired differences that are not 0 (Kerby 2014).

    The interval is that of `paired_interval`.
    """
    nonzero = differences[differences != 0]
    n = nonzero.size
    if n < 1:
        return Effect("rank-biserial correlation of pairs", "r", math.nan)
    rank = ranks(np.abs(nonzero))
    w = float(rank[nonzero > 0].sum())
    interval = paired_interval(w, n)
    r = 4 * w / (n * (n + 1)) - 1
    return Effect("rank-biserial correlation of pairs", "r", r, interval.ends, interval.words)


def eta_squared(groups: Sequence[Values]) -> Effect:
    """Return the share of the variance that lies between groups: η² = SS_between / SS_total.

    The interval is that of the non-central F (Steiger 2004, Psychological Methods 9, 164).
    """
    from scipy.special import ncfdtr  # noqa: PLC0415

    groups = without_rounding(groups)
    every = np.concatenate(groups)
    n, k = every.size, len(groups)
    total = float(((every - every.mean()) ** 2).sum()) if n and np.ptp(every) else 0.0
    if total <= 0 or n <= k or k < 2:
        return Effect("η²", "η²", math.nan)
    between = sum(g.size * float(g.mean() - every.mean()) ** 2 for g in groups)
    share = between / total
    df1, df2 = k - 1, n - k
    if share >= 1:
        return Effect("η²", "η²", share)
    f = (between / df1) / ((total - between) / df2)
    most = 20 + 5 * f * df1 + 50 * math.sqrt(f * df1 + 1)

    def nc(at: float) -> float:
        # More non-centrality makes a smaller F rarer.
        if float(ncfdtr(df1, df2, 1e-12, f)) < at:
            return 0.0
        return _root(
            lambda noncentrality: float(ncfdtr(df1, df2, noncentrality, f)) - at, 1e-12, most
        )

    low, high = nc(1 - ALPHA / 2), nc(ALPHA / 2)
    what = "95 % interval" if low > 0 else "95 % interval, cut at 0,"
    return Effect("η²", "η²", share, (low / (low + n), high / (high + n)), what)


def eta_squared_of_ranks(groups: Sequence[Values], h: float) -> Effect:
    """Return η² of a Kruskal–Wallis test: (H − k + 1)/(n − k), not below 0.

    Source: Tomczak & Tomczak 2014, Trends in Sport Sciences 21, 19.
    """
    n, k = sum(g.size for g in groups), len(groups)
    if n <= k or not math.isfinite(h):
        return Effect("η² of ranks", "η²", math.nan)
    return Effect("η² of ranks", "η²", max(0.0, (h - k + 1) / (n - k)))


def power_of_t(effect: float, df: float, root: float) -> float:
    """Return the power of a two-sided t test; effect in SD, root : its factor to the t."""
    from scipy.special import nctdtr  # noqa: PLC0415

    at, nc = t_quantile(1 - ALPHA / 2, df), abs(effect) * root
    return 1 - float(nctdtr(df, nc, at)) + float(nctdtr(df, nc, -at))


def power_of_f(f2: float, groups: int, each: int) -> float:
    """Return the power of an analysis of variance; f2 : η²/(1 − η²), each : values a group."""
    from scipy.special import fdtri, ncfdtr  # noqa: PLC0415

    df1, df2 = groups - 1, groups * (each - 1)
    at = float(fdtri(df1, df2, 1 - ALPHA))
    return 1 - float(ncfdtr(df1, df2, f2 * groups * each, at))


def _least(power: Callable[[int], float]) -> int | None:
    """The least number from 2 up whose power suffices; None beyond all reason."""
    high = 2
    while power(high) < POWER:
        high *= 2
        if high > _MOST_SAMPLES:
            return None
    low = max(high // 2, 2)
    while low < high:
        middle = (low + high) // 2
        low, high = (low, middle) if power(middle) >= POWER else (middle + 1, high)
    return low


def samples_for_two(g: float, *, paired: bool = False, of_ranks: bool = False) -> int | None:
    """Return how many samples a group (or pairs) show an effect of g in 80 % of studies.

    of_ranks : by a rank test, whose efficiency on normal data is 3/π.
    """
    if not math.isfinite(g) or g == 0:
        return None
    if paired:
        needed = _least(lambda n: power_of_t(g, n - 1, math.sqrt(n)))
    else:
        needed = _least(lambda n: power_of_t(g, 2 * n - 2, math.sqrt(n / 2)))
    return needed if needed is None or not of_ranks else math.ceil(needed / _RANK_EFFICIENCY)


def samples_for_several(eta2: float, groups: int) -> int | None:
    """Return how many samples a group show a share η² of the variance in 80 % of studies."""
    if not 0 < eta2 < 1 or groups < 2:
        return None
    return _least(lambda n: power_of_f(eta2 / (1 - eta2), groups, n))

"""Distributions that the tests need, from scipy.special, which is loaded when first asked for."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float64]
_DIGITS = 1e-12


def t_two_sided(t: float, df: float) -> float:
    """Return the probability of Student's t at least as far from 0."""
    from scipy.special import stdtr  # noqa: PLC0415 (slow to import)

    return float(2 * stdtr(df, -abs(t))) if math.isfinite(t) and df > 0 else math.nan


def t_quantile(share: float, df: float) -> float:
    """Return the quantile of Student's t."""
    from scipy.special import stdtrit  # noqa: PLC0415

    return float(stdtrit(df, share))


def f_upper(f: float, df1: float, df2: float) -> float:
    """Return the probability of a larger F."""
    from scipy.special import fdtrc  # noqa: PLC0415

    return float(fdtrc(df1, df2, f)) if math.isfinite(f) else math.nan


def chi2_upper(x: float, df: float) -> float:
    """Return the probability of a larger χ²."""
    from scipy.special import chdtrc  # noqa: PLC0415

    return float(chdtrc(df, x)) if math.isfinite(x) else math.nan


def normal_two_sided(z: float) -> float:
    """Return the probability of a standard normal number at least as far from 0."""
    return math.erfc(abs(z) / math.sqrt(2)) if math.isfinite(z) else math.nan


def variance(values: Values) -> float:
    """Return the variance, n − 1; 0 for equal values, whatever their mean is rounded to."""
    return float(values.var(ddof=1)) if float(np.ptp(values)) > 0 else 0.0


def without_rounding(groups: Sequence[Values]) -> list[Values]:
    """Return groups of values in which those that differ by their rounding alone are equal.

    Measurements keep 12 digits; values nearer than 10⁻¹² of the largest count as one.
    """
    every = np.concatenate(groups) if groups else np.zeros(0)
    finite = every[np.isfinite(every)]
    if finite.size < 2:
        return list(groups)
    allowed = _DIGITS * float(np.abs(finite).max())
    levels = np.unique(finite)
    starts = np.flatnonzero(np.diff(levels, prepend=-np.inf) > allowed)
    firsts = levels[starts]
    if starts.size == levels.size:
        return list(groups)

    def settled(values: Values) -> Values:
        near = firsts[np.maximum(np.searchsorted(firsts, values, side="right") - 1, 0)]
        near = np.where(np.abs(near) <= allowed, 0.0, near)
        return np.asarray(np.where(np.isfinite(values), near, values))

    return [settled(values) for values in groups]


def ranks(values: Values) -> Values:
    """Return the ranks from 1; equal values share the mean of theirs."""
    _, inverse, counts = np.unique(values, return_inverse=True, return_counts=True)
    last = np.cumsum(counts)
    return np.asarray((last - (counts - 1) / 2)[inverse], dtype=np.float64)


def tie_sum(values: Values) -> float:
    """Return Σ (t³ − t) over the numbers t of equal values."""
    counts = np.unique(values, return_counts=True)[1].astype(np.float64)
    return float((counts**3 - counts).sum())

"""Intervals of rank effects: the shifts of a normal distribution that explain a rank statistic.

Under a shift the mean and the variance of U and of W are known exactly, so that the interval
follows from the score, not from the variance without any effect. Ranks stay the same under any
rising transformation, so that only its result need be normal.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

# One shift, or many at once.
Shift: TypeAlias = float | NDArray[Any]

_TWO_SIDED = 1.959963984540054
_FARTHEST = 12.0
_GRID = 241
# With fewer values the steps of the statistic are too coarse for 95 %.
_FEW_VALUES, _FEW_PAIRS = 5, 8


@dataclass(frozen=True)
class RankInterval:
    """The ends of an interval of r, −1 to 1, and what it is in words."""

    ends: tuple[float, float]
    words: str


def two_sample_interval(u: float, n1: int, n2: int) -> RankInterval:
    """Return the interval of 2 P(X > Y) − 1 for U = the number of pairs with X > Y.

    All shifts δ with |U − n₁n₂p| ≤ 1.96 √Var, where p = Φ(δ/√2), q = Φ₂(δ/√2, δ/√2; ½) − p² and
    Var = n₁n₂ [p(1 − p) + (n₁ + n₂ − 2) q]. Below 5 values in a group half a step is added to
    both sides, and the interval holds the truth in at least 95 % of studies.
    Source: Birnbaum & Klose 1957, Ann. Math. Stat. 28, 933 (the variance).
    """

    def moments(shift: Shift) -> tuple[Shift, Shift]:
        p, both = _above(shift / math.sqrt(2))
        return n1 * n2 * p, n1 * n2 * (p * (1 - p) + (n1 + n2 - 2) * (both - p * p))

    def effect(shift: float) -> float:
        return float(2 * _above(shift / math.sqrt(2))[0] - 1)

    return _interval(u, moments, effect, few=min(n1, n2) < _FEW_VALUES)


def paired_interval(w: float, n: int) -> RankInterval:
    """Return the interval of the mean of (W₊ − W₋)/(n(n + 1)/2) for W₊ = w.

    All shifts with |W₊ − mean| ≤ 1.96 √Var, mean and variance of W₊ under a normal shift.
    Below 8 pairs as in `two_sample_interval`.
    Source: Lehmann 1975, Nonparametrics, section 4.2 (mean and variance).
    """
    from scipy.special import ndtr, owens_t  # noqa: PLC0415 (slow to import)

    def moments(shift: Shift) -> tuple[Shift, Shift]:
        above = ndtr(shift)
        two, both = _above(math.sqrt(2) * shift)
        mixed = (above + two) / 2 - owens_t(shift, 1.0)
        pairs = n * (n - 1)
        variance = (
            n * above * (1 - above)
            + pairs / 2 * two * (1 - two)
            + 2 * pairs * (mixed - above * two)
            + pairs * (n - 2) * (both - two * two)
        )
        return n * above + pairs / 2 * two, variance

    def effect(shift: float) -> float:
        return float(4 * moments(shift)[0] / (n * (n + 1)) - 1)

    return _interval(w, moments, effect, few=n < _FEW_PAIRS)


def _above(h: Shift) -> tuple[Shift, Shift]:
    """P(A > 0) and P(A > 0, B > 0) of normal A, B of mean h, variance 1 and correlation ½."""
    from scipy.special import ndtr, owens_t  # noqa: PLC0415 (slow to import)

    p = ndtr(h)
    return p, p - 2 * owens_t(h, math.sqrt(1 / 3))


def _interval(
    observed: float,
    moments: Callable[[Shift], tuple[Shift, Shift]],
    effect: Callable[[float], float],
    *,
    few: bool,
) -> RankInterval:
    from scipy.optimize import brentq  # noqa: PLC0415 (slow to import)

    step = 0.5 if few else 0.0

    def end(side: int) -> float:
        def lack(shift: Shift) -> Shift:
            mean, variance = moments(shift)
            away = (observed - mean - side * step) / np.sqrt(np.maximum(variance, 1e-300))
            return np.asarray(away - side * _TWO_SIDED)

        grid = np.linspace(-_FARTHEST, _FARTHEST, _GRID)
        lacks = np.asarray(lack(grid))
        falls = np.flatnonzero((lacks[:-1] > 0) & (lacks[1:] <= 0))
        if not falls.size:
            return -1.0 if lacks[0] < 0 else 1.0
        k = int(falls[0])
        return effect(float(brentq(lack, grid[k], grid[k + 1])))

    words = "interval of at least 95 %" if few else "approximate 95 % interval"
    return RankInterval((end(1), end(-1)), words)

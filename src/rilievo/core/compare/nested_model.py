"""Means and variance components of nested units: random intercepts by restricted likelihood.

    y = X·β + Σ over levels (one random value for each unit of the level) + residual

Units of a level lie in units of the level above it, such as fields in dishes in animals.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.distributions import f_upper, t_quantile, t_two_sided
from rilievo.core.errors import ComparisonError

Matrix = NDArray[np.float64]
Units = NDArray[np.int64]

_STEP = 1e-30  # of the complex derivative, which loses no digits
_MOST_STEPS = 100
_CLOSE = 1e-10
# Below it a sum of values would have no variance.
_LEAST_GROWTH = 1e-9


@dataclass(frozen=True, eq=False)
class Rows:
    """What a model is fitted to: each row stands for `counts` values that share all its terms.

    x : rows × columns of fixed effects. y : means of the values. within : sums of their squares
    about those means. levels : the unit of each row, counted from 0, outermost level first.
    """

    x: Matrix
    y: Matrix
    levels: tuple[Units, ...] = ()
    counts: Matrix = field(default_factory=lambda: np.zeros(0))
    within: Matrix = field(default_factory=lambda: np.zeros(0))

    @cached_property
    def weights(self) -> Matrix:
        """How many values each row stands for."""
        return self.counts if self.counts.size else np.ones(self.y.size)

    @property
    def total(self) -> float:
        """How many values there are."""
        return float(self.weights.sum())

    @cached_property
    def parents(self) -> tuple[Units, ...]:
        """The unit that each row lies in, then that each of these units lies in, and so on."""
        units_of_levels: list[Units] = []
        below: Units | None = None
        for units in reversed(self.levels):
            first_rows = slice(None) if below is None else np.unique(below, return_index=True)[1]
            units_of_levels.append(units[first_rows])
            below = units
        return tuple(units_of_levels)

    @cached_property
    def gathers(self) -> tuple[tuple[Units, Units], ...]:
        """What adds up the rows of each innermost unit, then these of each unit around, and so on.

        The order that puts the parts of a unit together, and where each unit starts in it.
        """
        orders = [np.argsort(units, kind="stable") for units in self.parents]
        return tuple(
            (order, np.unique(units[order], return_index=True)[1])
            for order, units in zip(orders, self.parents, strict=True)
        )


@dataclass(frozen=True, eq=False)
class Contrast:
    """A sum of coefficients, with its standard error, degrees of freedom and p."""

    value: float
    error: float
    df: float

    @property
    def t(self) -> float:
        """Value over standard error."""
        return self.value / self.error if self.error > 0 else math.nan

    @property
    def p(self) -> float:
        """Two-sided."""
        return t_two_sided(self.t, self.df)

    @property
    def interval(self) -> tuple[float, float]:
        """95 % confidence interval."""
        half = t_quantile(0.975, self.df) * self.error
        return self.value - half, self.value + half


@dataclass(frozen=True, eq=False)
class NestedFit:
    """A fitted model.

    beta : coefficients. components : variance of each level, outermost first, and of the
    residual. A component can be below 0, where units of a level are more alike than chance has
    it: only so are tests as often wrong as they say; the variance itself is then none.
    """

    rows: Rows
    beta: Matrix
    components: tuple[float, ...]
    _ratios: Matrix
    _covariance: Matrix

    def contrast(self, weights: Matrix) -> Contrast:
        """Return Σ weights · β; degrees of freedom by Satterthwaite.

        ν = 2v²/(g′Cg), v the variance of the contrast, g its derivatives by the variance
        components and C their covariance. Source: Giesbrecht & Burns 1985, Biometrics 41, 477.
        """
        variance = self._variance(weights, self._ratios)
        slopes = [variance.real]
        for k in range(self._ratios.size):
            moved = self._ratios.astype(complex)
            moved[k] += 1j * _STEP
            slopes.append(self._variance(weights, moved).imag / _STEP)
        gradient = np.array(slopes)
        spread = float(gradient @ self._covariance @ gradient)
        df = 2 * float(variance.real) ** 2 / spread if spread > 0 else math.nan
        return Contrast(float(weights @ self.beta), math.sqrt(float(variance.real)), df)

    def f_test(self, weights: Matrix) -> tuple[float, float, float, float]:
        """Return F, its two degrees of freedom and p that all rows of weights · β are 0.

        Source of the second degrees of freedom: Fai & Cornelius 1996, J. Stat. Comput. Simul. 54,
        363.
        """
        inverse = np.linalg.inv(_moments(self.rows, self._ratios)[0][:-1, :-1].real)
        covariance = self.components[-1] * weights @ inverse @ weights.T
        sizes, directions = np.linalg.eigh(covariance)
        along = directions.T @ weights
        count = len(weights)
        f = float(((along @ self.beta) ** 2 / sizes).sum() / count)
        each = [self.contrast(direction).df for direction in along]
        if count == 1 or max(each) - min(each) < 1e-6 * max(each):
            df = each[0]
        else:
            e = sum(df_along / (df_along - 2) for df_along in each if df_along > 2)
            df = 2 * e / (e - count) if e > count else min(each)
        return f, float(count), df, f_upper(f, count, df)

    def _variance(self, weights: Matrix, ratios: NDArray[Any]) -> complex:
        q, _ = _moments(self.rows, ratios)
        p = weights.size
        return complex(self.components[-1] * (weights @ np.linalg.solve(q[:p, :p], weights)))


def fit_nested(rows: Rows) -> NestedFit:
    """Return the model by restricted maximum likelihood.

    The likelihood of nested units follows from sums of each unit alone, from the innermost
    outwards (Sherman & Morrison 1950 for each unit); its highest point by Newton's method.
    Source: Patterson & Thompson 1971, Biometrika 58, 545. Components may be below 0, so that
    balanced data give the analysis of variance.
    Raises ComparisonError where the values cannot tell the terms or the levels apart.
    """
    total, p = rows.total, rows.x.shape[1]
    if np.linalg.matrix_rank(rows.x) < p:
        raise ComparisonError("The terms of the design cannot be told apart.")
    if total <= p:
        raise ComparisonError("There are no more values than terms of the design.")
    # From what least squares leave, so that values far from 0 lose no digits.
    plain = np.linalg.lstsq(rows.x, rows.y, rcond=None)[0]
    given, rows = rows, replace(rows, y=rows.y - rows.x @ plain)
    rest = float(rows.weights @ rows.y**2 + rows.within.sum())
    if not rest > 1e-22 * float(rows.weights @ given.y**2):
        raise ComparisonError("The values do not vary within the terms of the design.")
    ratios = np.full(len(rows.levels), 0.1)
    value, slope, bend = _likelihood(rows, ratios)
    for _ in range(_MOST_STEPS):
        if not ratios.size:
            break
        step = _uphill(slope, bend)
        moved, criterion = ratios, None
        for halving in range(40):
            moved = ratios - step / 2**halving
            if _is_inside(rows, moved):
                criterion = _criterion(rows, moved).real
                if criterion <= value + 1e-12 * abs(value):
                    break
        else:
            break
        done = float(np.abs(moved - ratios).max()) < _CLOSE * (1 + float(np.abs(moved).max()))
        ratios = moved
        value, slope, bend = _likelihood(rows, ratios)
        if done:
            break
    if ratios.size and np.linalg.cond(bend) > 1e12:
        raise ComparisonError("The values cannot tell the levels of the design apart.")
    q, _ = _moments(rows, ratios)
    q = q.real
    beta: Matrix = np.linalg.solve(q[:p, :p], q[:p, p]).astype(np.float64)
    rss = float(q[p, p] - q[:p, p] @ beta)
    residual = rss / (total - p)
    covariance = _covariance(rows, ratios, residual, bend)
    parts = (*(float(residual * ratio) for ratio in ratios), residual)
    return NestedFit(given, plain + beta, parts, ratios, covariance)


def _moments(rows: Rows, ratios: NDArray[Any]) -> tuple[NDArray[Any], Any]:
    """[X y]′V⁻¹[X y] and log |V|, V in units of the residual variance."""
    s = rows.weights
    both = np.column_stack([rows.x, rows.y])
    u = s[:, None] * both
    q = both.T @ u
    if rows.within.size:
        q[-1, -1] += rows.within.sum()
    q, s, u = (values.astype(ratios.dtype) for values in (q, s, u))
    logarithm: Any = 0.0
    for (order, starts), ratio in zip(rows.gathers, ratios[::-1], strict=True):
        sums, vectors = s[order], u[order]
        if starts.size < order.size:
            sums, vectors = np.add.reduceat(sums, starts), np.add.reduceat(vectors, starts, axis=0)
        grown = 1 + ratio * sums
        q = q - (vectors * (ratio / grown)[:, None]).T @ vectors
        logarithm = logarithm + np.log(grown).sum()
        s, u = sums / grown, vectors / grown[:, None]
    return q, logarithm


def _is_inside(rows: Rows, ratios: Matrix) -> bool:
    """Whether variances of all sums are above 0."""
    s = rows.weights
    for parents, ratio in zip(rows.parents, ratios[::-1], strict=True):
        sums = np.bincount(parents, s)
        grown = 1 + ratio * sums
        if float(grown.min()) <= _LEAST_GROWTH:
            return False
        s = sums / grown
    return True


def _criterion(rows: Rows, ratios: NDArray[Any]) -> Any:
    """Minus twice the restricted log likelihood, without what does not change."""
    q, logarithm = _moments(rows, ratios)
    p = q.shape[0] - 1
    beta = np.linalg.solve(q[:p, :p], q[:p, p])
    rss = q[p, p] - q[:p, p] @ beta
    sign, size = np.linalg.slogdet(q[:p, :p])
    return (rows.total - p) * np.log(rss) + logarithm + np.log(sign) + size


def _slope(rows: Rows, ratios: Matrix) -> Matrix:
    slopes = []
    for k in range(ratios.size):
        moved = ratios.astype(complex)
        moved[k] += 1j * _STEP
        slopes.append(_criterion(rows, moved).imag / _STEP)
    return np.array(slopes)


def _likelihood(rows: Rows, ratios: Matrix) -> tuple[float, Matrix, Matrix]:
    """The criterion, its slope and its second derivatives."""
    value, slope = float(np.real(_criterion(rows, ratios))), _slope(rows, ratios)
    bend = np.zeros((ratios.size, ratios.size))
    for k in range(ratios.size):
        step = np.zeros(ratios.size)
        step[k] = abs(float(ratios[k])) + 1.0
        while not (_is_inside(rows, ratios - step) and _is_inside(rows, ratios + step)):
            step /= 2
        # Four places: near where a sum has no variance the criterion bends very sharply.
        step *= 1e-3
        near = _slope(rows, ratios + step) - _slope(rows, ratios - step)
        far = _slope(rows, ratios + 2 * step) - _slope(rows, ratios - 2 * step)
        bend[k] = (8 * near - far) / (12 * step[k])
    return value, slope, (bend + bend.T) / 2


def _uphill(slope: Matrix, bend: Matrix) -> Matrix:
    """The step of Newton's method; where the criterion bends the wrong way, against the slope."""
    sizes, directions = np.linalg.eigh(bend)
    least = 1e-8 * max(float(np.abs(sizes).max()), 1e-300)
    return np.asarray(directions @ ((directions.T @ slope) / np.maximum(np.abs(sizes), least)))


def _covariance(rows: Rows, ratios: Matrix, residual: float, bend: Matrix) -> Matrix:
    """Covariance of log residual variance and the ratios, from the curvature at the highest point.

    The criterion with the residual variance as a parameter, (n − p)·log σ² + log |V| +
    log |X′V⁻¹X| + rss/σ², bends by n − p in log σ² and by −(∂rss/∂ratio)/σ² between the two.
    """
    k, free = ratios.size, rows.total - rows.x.shape[1]
    p = rows.x.shape[1]

    def rss(at: NDArray[Any]) -> Any:
        q, _ = _moments(rows, at)
        return q[p, p] - q[:p, p] @ np.linalg.solve(q[:p, :p], q[:p, p])

    slopes = []
    for index in range(k):
        moved = ratios.astype(complex)
        moved[index] += 1j * _STEP
        slopes.append(rss(moved).imag / _STEP / residual)
    tied = np.array(slopes)
    curved = np.empty((k + 1, k + 1))
    curved[0, 0] = free
    curved[0, 1:] = curved[1:, 0] = -tied
    # With σ² at its best for each ratio, the criterion lacks what both share.
    curved[1:, 1:] = bend + np.outer(tied, tied) / free
    return np.asarray(2 * np.linalg.inv(curved))

"""Curves through a series, and the correlation of two quantities."""

from __future__ import annotations

import functools
import itertools
import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.distributions import (
    Values,
    ranks,
    t_quantile,
    t_two_sided,
    without_rounding,
)
from rilievo.core.compare.question import FITS, FitKind
from rilievo.core.errors import ComparisonError

# Up to so many values all their orders are counted out.
_MOST_ORDERS = 8
_NAMES: dict[FitKind, tuple[str, ...]] = {
    "line": ("a", "b"),
    "decay": ("a", "b", "τ"),
    "saturation": ("a", "b", "h"),
}


@dataclass(frozen=True, eq=False)
class Fit:
    """A least-squares curve y(x).

    parameters, errors : in the order of `names`; the errors are standard errors from the scatter
    about the curve. origin : x from which a decay or a saturation counts. residuals : y − curve,
    in the order of the values. spread : their standard deviation, n − parameters. r2 : share of
    the variance that the curve explains; NaN where the values do not vary.
    """

    kind: FitKind
    names: tuple[str, ...]
    parameters: tuple[float, ...]
    errors: tuple[float, ...]
    x: Values
    residuals: Values
    spread: float
    r2: float
    origin: float = 0.0

    @property
    def formula(self) -> str:
        """The curve as it is written, with its origin where that is not 0."""
        text = FITS[self.kind][1]
        if not self.origin:
            return text
        away = f"(x − {self.origin:.12g})".replace("− -", "+ ")
        return text.replace("x/(h + x)", f"{away}/(h + {away})").replace("x/τ", f"{away}/τ")

    def at(self, x: Values) -> Values:
        """Return the curve."""
        third = self.parameters[2] if len(self.parameters) > 2 else 1.0
        shape = _shape(self.kind, x - self.origin, third)
        return np.asarray(self.parameters[0] + self.parameters[1] * shape, dtype=np.float64)


def _shape(kind: FitKind, x: Values, third: float) -> Values:
    """What b is multiplied by."""
    with np.errstate(over="ignore", divide="ignore", invalid="ignore"):
        if kind == "decay":
            return np.asarray(np.exp(-x / third))
        return np.asarray(x / (third + x)) if kind == "saturation" else x


def _by_third(kind: FitKind, x: Values, third: float) -> Values:
    """Derivative of the shape by its third parameter."""
    if kind == "decay":
        return np.asarray(np.exp(-x / third) * x / third**2)
    return np.asarray(-x / (third + x) ** 2)


def _origin(kind: FitKind, x: Values) -> float:
    """Where a curve that has a beginning begins: 0 where that is near, else the lowest x.

    Years and Julian dates have their zero so far away that nothing of the curve is left there.
    """
    low, reach = float(x.min()), float(np.ptp(x))
    near = 0 <= low <= reach
    return 0.0 if kind == "line" or near else low


def fit_curve(kind: FitKind, x: Values, y: Values) -> Fit:
    """Return the least-squares curve through (x, y), the same wherever x has its zero.

    a and b follow by linear least squares for each τ or h, which is searched for (variable
    projection: Golub & Pereyra 1973, SIAM J. Numer. Anal. 10, 413). A line is worked out about
    the middle of x. Raises ComparisonError where there are too few values, or they do not tell the
    curve.
    """
    good = np.isfinite(x) & np.isfinite(y)
    x, y = x[good], y[good]
    names = _NAMES[kind]
    points = np.unique(x).size
    if points < len(names):
        raise ComparisonError(
            f"A curve of {len(names)} parameters needs values at {len(names)} different points of "
            f"the axis at least, and there are {points}; measure at more points, or choose a curve "
            "with fewer parameters."
        )
    origin = _origin(kind, x)
    away = x - origin
    third = None if kind == "line" else _third(kind, away, y)
    shape = away if third is None else _shape(kind, away, third)
    (a, b), residuals = _linear(shape, y)
    middle = float(shape.mean())
    columns = [np.ones(x.size), shape - middle]
    if third is not None:
        columns.append(b * _by_third(kind, away, third))
    freedom = x.size - len(names)
    squares = float((residuals**2).sum())
    spread = math.sqrt(squares / freedom) if freedom > 0 else math.nan
    total = float(((y - y.mean()) ** 2).sum()) if float(np.ptp(y)) > 0 else 0.0
    return Fit(
        kind=kind,
        names=names,
        parameters=(a, b) if third is None else (a, b, third),
        errors=_errors(np.stack(columns, axis=1), middle, spread),
        x=x,
        residuals=residuals,
        spread=spread,
        r2=1 - squares / total if total > 0 else math.nan,
        origin=origin,
    )


def _linear(shape: Values, y: Values) -> tuple[tuple[float, float], Values]:
    middle, mean = float(shape.mean()), float(y.mean())
    away = shape - middle
    weight = float((away**2).sum())
    b = float((away * (y - mean)).sum()) / weight if weight > 0 else 0.0
    a = mean - b * middle
    return (a, b), np.asarray(y - a - b * shape, dtype=np.float64)


def _errors(jacobian: NDArray[np.float64], middle: float, spread: float) -> tuple[float, ...]:
    """Standard errors: spread · √ of the diagonal of (JᵀJ)⁻¹, columns scaled to be well posed.

    The shape that b multiplies is taken about its middle, by which the first parameter is
    carried back to a.
    """
    size = np.linalg.norm(jacobian, axis=0)
    size[size == 0] = 1
    scaled = jacobian / size
    covariance = np.linalg.pinv(scaled.T @ scaled) / np.outer(size, size)
    back = np.eye(size.size)
    back[0, 1] = -middle
    variances = np.maximum(np.diag(back @ covariance @ back.T), 0)
    return tuple(float(e) for e in spread * np.sqrt(variances))


def _third(kind: FitKind, x: Values, y: Values) -> float:
    from scipy.optimize import minimize_scalar  # noqa: PLC0415 (slow to import)

    reach = float(np.ptp(x)) or 1.0

    def lack(log: float) -> float:
        return float((_linear(_shape(kind, x, math.exp(log)), y)[1] ** 2).sum())

    logs = np.linspace(math.log(reach / 200), math.log(reach * 50), 160)
    lacks = np.array([lack(float(one)) for one in logs])
    k = int(lacks.argmin())
    if k in (0, logs.size - 1):
        what = "bend too little" if k else "bend too sharply"
        raise ComparisonError(
            f"The values {what} to tell the {_NAMES[kind][2]} of the curve; choose a straight "
            "line, or measure at more points of the axis."
        )
    found = minimize_scalar(
        lack, bounds=(logs[k - 1], logs[k + 1]), method="bounded", options={"xatol": 1e-12}
    )
    return math.exp(float(found.x))


@dataclass(frozen=True)
class Correlation:
    """How two quantities go together: Pearson's r with 95 % interval, Spearman's ρ, two-sided p."""

    n: int
    r: float
    interval: tuple[float, float]
    p: float
    rho: float
    rho_p: float


def correlate(x: Values, y: Values) -> Correlation:
    """Return the correlation of values that belong together; NaN below 3 or without spread.

    The interval is by Fisher's transform (Fisher 1921, Metron 1, 3); p from Student's t with
    n − 2 degrees of freedom, of ranks counted out over all orders up to 8 values.
    """
    good = np.isfinite(x) & np.isfinite(y)
    x, y = x[good], y[good]
    n, nan = int(x.size), math.nan
    x, y = without_rounding([x])[0], without_rounding([y])[0]
    if n < 3 or np.ptp(x) == 0 or np.ptp(y) == 0:
        return Correlation(n, nan, (nan, nan), nan, nan, nan)
    r, rho = _pearson(x, y), _pearson(ranks(x), ranks(y))
    half = 1.959963984540054 / math.sqrt(n - 3) if n > 3 else math.inf
    ends = (nan, nan)
    if abs(r) < 1 and math.isfinite(half):
        ends = (math.tanh(math.atanh(r) - half), math.tanh(math.atanh(r) + half))
    rho_p = _p_of_ranks(rho, ranks(x), ranks(y)) if n <= _MOST_ORDERS else _p_of(rho, n)
    return Correlation(n, r, ends, _p_of(r, n), rho, rho_p)


def _pearson(x: Values, y: Values) -> float:
    a, b = x - x.mean(), y - y.mean()
    r = float((a * b).sum() / math.sqrt(float((a**2).sum()) * float((b**2).sum())))
    return min(1.0, max(-1.0, r))


@functools.lru_cache(maxsize=8)
def _orders(n: int) -> NDArray[np.intp]:
    """All orders of n values, shape (n!, n)."""
    return np.array(list(itertools.permutations(range(n))), dtype=np.intp)


def _p_of_ranks(rho: float, x: Values, y: Values) -> float:
    """The share of all orders of y with a rank correlation at least as far from 0."""
    a, b = x - x.mean(), y - y.mean()
    found = b[_orders(y.size)] @ a / math.sqrt(float((a**2).sum()) * float((b**2).sum()))
    return float(np.mean(np.abs(found) >= abs(rho) - 1e-9))


def _p_of(r: float, n: int) -> float:
    if abs(r) >= 1:
        return 0.0
    return t_two_sided(r * math.sqrt((n - 2) / (1 - r * r)), n - 2)


def interval_of(fit: Fit, k: int) -> tuple[float, float]:
    """Return the 95 % interval of a parameter, from Student's t."""
    freedom = fit.x.size - len(fit.names)
    if freedom < 1:
        return math.nan, math.nan
    half = t_quantile(0.975, freedom) * fit.errors[k]
    return fit.parameters[k] - half, fit.parameters[k] + half

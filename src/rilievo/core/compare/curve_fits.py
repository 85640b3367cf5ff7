"""Curves through a series, and the correlation of two quantities."""

from __future__ import annotations

import functools
import itertools
import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare import dose_response
from rilievo.core.compare.distributions import (
    Values,
    ranks,
    t_quantile,
    t_two_sided,
    without_rounding,
)
from rilievo.core.compare.question import FITS, FitKind
from rilievo.core.compare.two_decays import jacobian, shapes, two_decays
from rilievo.core.compare.variable_projection import squares_left
from rilievo.core.errors import ComparisonError

# So many values of curves are tried together.
_AT_ONCE = 100_000
# Up to so many values all their orders are counted out.
_MOST_ORDERS = 8
_NAMES: dict[FitKind, tuple[str, ...]] = {
    "line": ("a", "b"),
    "decay": ("a", "b", "τ"),
    "two_decays": ("a", "b", "τ₁", "c", "τ₂"),
    "recovery": ("a", "b", "τ"),
    "saturation": ("a", "b", "h"),
    "dose": ("a", "b", "s", "EC50"),
}


@dataclass(frozen=True, eq=False)
class Fit:
    """A least-squares curve y(x).

    parameters, errors : in the order of `names`; the errors are standard errors from the scatter
    about the curve. origin : x from which a decay or a saturation counts. residuals : y − curve,
    in the order of the values. spread : their standard deviation, n − parameters. r2 : share of
    the variance that the curve explains; NaN where the values do not vary. recovered : of a
    recovery, how much of what was lost came back, and its standard error; None where nothing was
    measured before. It is (y(∞) − a) / (mean before − a).
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
    recovered: tuple[float, float] | None = None

    @property
    def formula(self) -> str:
        """The curve as it is written, with its origin where that is not 0."""
        text = FITS[self.kind][1]
        if not self.origin:
            return text
        away = f"(x − {self.origin:.12g})".replace("− -", "+ ")
        return text.replace("x/(h + x)", f"{away}/(h + {away})").replace("x/τ", f"{away}/τ")

    @property
    def half_time(self) -> tuple[float, float] | None:
        """When half of a decay or recovery is over, and its standard error; None for others."""
        if self.kind not in ("decay", "recovery"):
            return None
        return math.log(2) * self.parameters[2], math.log(2) * self.errors[2]

    def at(self, x: Values) -> Values:
        """Return the curve."""
        if self.kind == "two_decays":
            a, b, first, c, second = self.parameters
            return np.asarray(shapes(x - self.origin, first, second) @ (a, b, c), np.float64)
        if self.kind == "dose":
            a, b, slope, half = self.parameters
            return np.asarray(a + b * dose_response.shape(x, slope, half), np.float64)
        third = self.parameters[2] if len(self.parameters) > 2 else 1.0
        shape = _shape(self.kind, x - self.origin, third)
        return np.asarray(self.parameters[0] + self.parameters[1] * shape, dtype=np.float64)


def _shape(kind: FitKind, x: Values, third: float | Values) -> Values:
    """What b is multiplied by."""
    with np.errstate(over="ignore", divide="ignore", invalid="ignore"):
        if kind == "decay":
            return np.asarray(np.exp(-x / third))
        if kind == "recovery":
            return np.asarray(-np.expm1(-x / third))
        return np.asarray(x / (third + x)) if kind == "saturation" else x


def _by_third(kind: FitKind, x: Values, third: float) -> Values:
    """Derivative of the shape by its third parameter."""
    if kind == "decay":
        return np.asarray(np.exp(-x / third) * x / third**2)
    if kind == "recovery":
        return np.asarray(-np.exp(-x / third) * x / third**2)
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
    if kind == "two_decays":
        return _two(x, y)
    if kind == "dose":
        parameters = dose_response.dose_response(x, y)
        inverse = _covariance(dose_response.jacobian(x, parameters), 0.0)
        residuals = y - parameters[0] - parameters[1] * dose_response.shape(x, *parameters[2:])
        return _made(kind, parameters, x, y, residuals, inverse, 0.0, np.zeros(0))
    before = np.zeros(0)
    if kind == "recovery":
        # It begins where the values are lowest; what was before tells what there was to recover.
        begins = _lowest(x, y)
        before, x, y = y[x < begins], x[x >= begins], y[x >= begins]
        if np.unique(x).size < len(names):
            raise ComparisonError(
                "Nothing comes back after the lowest value; choose another curve, or measure for "
                "longer after bleaching."
            )
    origin = float(x.min()) if kind == "recovery" else _origin(kind, x)
    away = x - origin
    third = None if kind == "line" else _third(kind, away, y)
    shape = away if third is None else _shape(kind, away, third)
    (a, b), residuals = _linear(shape, y)
    middle = float(shape.mean())
    columns = [np.ones(x.size), shape - middle]
    if third is not None:
        columns.append(b * _by_third(kind, away, third))
    return _made(
        kind,
        (a, b) if third is None else (a, b, third),
        x,
        y,
        residuals,
        _covariance(np.stack(columns, axis=1), middle),
        origin,
        before,
    )


def _made(
    kind: FitKind,
    parameters: tuple[float, ...],
    x: Values,
    y: Values,
    residuals: Values,
    inverse: NDArray[np.float64],
    origin: float,
    before: Values,
) -> Fit:
    """The fit, with errors from the scatter.

    inverse : (JᵀJ)⁻¹. before : values before a recovery.
    """
    names = _NAMES[kind]
    squares, freedom = float((residuals**2).sum()), x.size - len(names)
    spread = math.sqrt(squares / freedom) if freedom > 0 else math.nan
    total = float(((y - y.mean()) ** 2).sum()) if float(np.ptp(y)) > 0 else 0.0
    covariance = inverse * spread**2
    return Fit(
        kind=kind,
        names=names,
        parameters=parameters,
        errors=tuple(float(e) for e in np.sqrt(np.maximum(np.diag(covariance), 0))),
        x=x,
        residuals=residuals,
        spread=spread,
        r2=1 - squares / total if total > 0 else math.nan,
        origin=origin,
        recovered=_recovered(parameters, covariance, before) if before.size else None,
    )


def _two(x: Values, y: Values) -> Fit:
    """The decay of two components."""
    origin = _origin("two_decays", x)
    away = x - origin
    parameters = two_decays(away, y)
    a, b, first, c, second = parameters
    residuals = y - shapes(away, first, second) @ (a, b, c)
    inverse = _covariance(jacobian(away, parameters), 0.0)
    return _made("two_decays", parameters, x, y, residuals, inverse, origin, np.zeros(0))


def _lowest(x: Values, y: Values) -> float:
    """The place of the axis at which the mean of the values is lowest."""
    places, where = np.unique(x, return_inverse=True)
    means = np.bincount(where, y) / np.bincount(where)
    return float(places[int(means.argmin())])


def _recovered(
    parameters: tuple[float, ...], covariance: NDArray[np.float64], before: Values
) -> tuple[float, float] | None:
    """How much of the loss came back, with its standard error from a, b and the values before."""
    a, b = parameters[:2]
    lost = float(before.mean()) - a
    if not lost > 0:
        return None
    share = b / lost
    slopes = np.array([share / lost, 1 / lost])
    variance = float(slopes @ covariance[:2, :2] @ slopes)
    if before.size > 1:
        variance += (share / lost) ** 2 * float(before.var(ddof=1)) / before.size
    return share, math.sqrt(variance) if variance >= 0 else math.nan


def _linear(shape: Values, y: Values) -> tuple[tuple[float, float], Values]:
    middle, mean = float(shape.mean()), float(y.mean())
    away = shape - middle
    weight = float((away**2).sum())
    b = float((away * (y - mean)).sum()) / weight if weight > 0 else 0.0
    a = mean - b * middle
    return (a, b), np.asarray(y - a - b * shape, dtype=np.float64)


def _covariance(columns: NDArray[np.float64], middle: float) -> NDArray[np.float64]:
    """(JᵀJ)⁻¹ of the derivatives, whose columns are scaled to be well posed.

    The shape that b multiplies is taken about its middle, by which the first parameter is
    carried back to a.
    """
    size = np.linalg.norm(columns, axis=0)
    size[size == 0] = 1
    scaled = columns / size
    covariance = np.linalg.pinv(scaled.T @ scaled) / np.outer(size, size)
    back = np.eye(size.size)
    back[0, 1] = -middle
    return np.asarray(back @ covariance @ back.T)


def _third(kind: FitKind, x: Values, y: Values) -> float:
    from scipy.optimize import minimize_scalar  # noqa: PLC0415 (slow to import)

    reach = float(np.ptp(x)) or 1.0

    def lack(log: float) -> float:
        return float((_linear(_shape(kind, x, math.exp(log)), y)[1] ** 2).sum())

    logs = np.linspace(math.log(reach / 200), math.log(reach * 50), 160)
    lacks = _lacks(kind, x, y, np.exp(logs))
    k = int(lacks.argmin())
    if k in (0, logs.size - 1):
        what = "bend too little" if k else "bend too sharply"
        raise ComparisonError(
            f"The values {what} to tell the {_NAMES[kind][2]} of the curve; choose a straight "
            "line, or measure at more points of the axis."
        )
    minimum = minimize_scalar(
        lack, bounds=(logs[k - 1], logs[k + 1]), method="bounded", options={"xatol": 1e-12}
    )
    return math.exp(float(minimum.x))


def _lacks(kind: FitKind, x: Values, y: Values, thirds: Values) -> Values:
    """The squares that each third parameter leaves, shape of `thirds`; a part of them at a time."""
    residuals, rows = np.empty(thirds.size), max(1, _AT_ONCE // x.size)
    for begin in range(0, thirds.size, rows):
        some = slice(begin, begin + rows)
        residuals[some] = squares_left(_shape(kind, x, thirds[some, None]), y)
    return residuals


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
    correlations = b[_orders(y.size)] @ a / math.sqrt(float((a**2).sum()) * float((b**2).sum()))
    return float(np.mean(np.abs(correlations) >= abs(rho) - 1e-9))


def _p_of(r: float, n: int) -> float:
    if abs(r) >= 1:
        return 0.0
    return t_two_sided(r * math.sqrt((n - 2) / (1 - r * r)), n - 2)


def interval_of(fit: Fit, k: int) -> tuple[float, float]:
    """Return the 95 % interval of a parameter, from Student's t; of an EC50 by its logarithm."""
    freedom = fit.x.size - len(fit.names)
    if freedom < 1:
        return math.nan, math.nan
    half = t_quantile(0.975, freedom) * fit.errors[k]
    if fit.names[k] == "EC50":
        factor = math.exp(half / fit.parameters[k])
        return fit.parameters[k] / factor, fit.parameters[k] * factor
    return fit.parameters[k] - half, fit.parameters[k] + half

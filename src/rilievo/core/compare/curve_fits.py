"""Curves through a series, and the correlation of two quantities."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.distributions import Values, ranks, t_quantile, t_two_sided
from rilievo.core.compare.question import FITS, FitKind
from rilievo.core.errors import ComparisonError

_NAMES: dict[FitKind, tuple[str, ...]] = {
    "line": ("a", "b"),
    "decay": ("a", "b", "τ"),
    "saturation": ("a", "b", "h"),
}


@dataclass(frozen=True, eq=False)
class Fit:
    """A least-squares curve y(x).

    parameters, errors : in the order of `names`; the errors are standard errors from the scatter
    about the curve. residuals : y − curve, in the order of the values. spread : their standard
    deviation, n − parameters. r2 : share of the variance that the curve explains.
    """

    kind: FitKind
    names: tuple[str, ...]
    parameters: tuple[float, ...]
    errors: tuple[float, ...]
    x: Values
    residuals: Values
    spread: float
    r2: float

    @property
    def formula(self) -> str:
        """The curve as it is written."""
        return FITS[self.kind][1]

    def at(self, x: Values) -> Values:
        """Return the curve."""
        shape = _shape(self.kind, x, self.parameters[2] if len(self.parameters) > 2 else 1.0)
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


def fit_curve(kind: FitKind, x: Values, y: Values) -> Fit:
    """Return the least-squares curve through (x, y).

    a and b follow by linear least squares for each τ or h, which is searched for (variable
    projection: Golub & Pereyra 1973, SIAM J. Numer. Anal. 10, 413). Raises ComparisonError where
    there are too few values, or they do not tell the curve.
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
    if kind == "saturation" and x.min() < 0:
        raise ComparisonError("A saturation starts at 0; there are values left of it.")
    third = None if kind == "line" else _third(kind, x, y)
    shape = x if third is None else _shape(kind, x, third)
    (a, b), residuals = _linear(shape, y)
    columns = [np.ones(x.size), shape]
    if third is not None:
        columns.append(b * _by_third(kind, x, third))
    freedom = x.size - len(names)
    spread = math.sqrt(float((residuals**2).sum()) / freedom) if freedom > 0 else math.nan
    total = float(((y - y.mean()) ** 2).sum())
    return Fit(
        kind=kind,
        names=names,
        parameters=(a, b) if third is None else (a, b, third),
        errors=_errors(np.stack(columns, axis=1), spread),
        x=x,
        residuals=residuals,
        spread=spread,
        r2=1 - float((residuals**2).sum()) / total if total > 0 else math.nan,
    )


def _linear(shape: Values, y: Values) -> tuple[tuple[float, float], Values]:
    middle, mean = float(shape.mean()), float(y.mean())
    away = shape - middle
    weight = float((away**2).sum())
    b = float((away * (y - mean)).sum()) / weight if weight > 0 else 0.0
    a = mean - b * middle
    return (a, b), np.asarray(y - a - b * shape, dtype=np.float64)


def _errors(jacobian: NDArray[np.float64], spread: float) -> tuple[float, ...]:
    """Standard errors: spread · √ of the diagonal of (JᵀJ)⁻¹, columns scaled to be well posed."""
    size = np.linalg.norm(jacobian, axis=0)
    size[size == 0] = 1
    scaled = jacobian / size
    inverse = np.linalg.pinv(scaled.T @ scaled)
    return tuple(float(e) for e in spread * np.sqrt(np.maximum(np.diag(inverse), 0)) / size)


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
    n − 2 degrees of freedom.
    """
    good = np.isfinite(x) & np.isfinite(y)
    x, y = x[good], y[good]
    n, nan = int(x.size), math.nan
    if n < 3 or np.ptp(x) == 0 or np.ptp(y) == 0:
        return Correlation(n, nan, (nan, nan), nan, nan, nan)
    r, rho = _pearson(x, y), _pearson(ranks(x), ranks(y))
    half = 1.959963984540054 / math.sqrt(n - 3) if n > 3 else math.inf
    ends = (nan, nan)
    if abs(r) < 1 and math.isfinite(half):
        ends = (math.tanh(math.atanh(r) - half), math.tanh(math.atanh(r) + half))
    return Correlation(n, r, ends, _p_of(r, n), rho, _p_of(rho, n))


def _pearson(x: Values, y: Values) -> float:
    a, b = x - x.mean(), y - y.mean()
    r = float((a * b).sum() / math.sqrt(float((a**2).sum()) * float((b**2).sum())))
    return min(1.0, max(-1.0, r))


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

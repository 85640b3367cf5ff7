"""A decay of two components: both time constants searched for, the rest by linear least squares."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.distributions import Values
from rilievo.core.errors import ComparisonError

# Places of the grid over both time constants, and how far these lie apart at least.
_PLACES, _LEAST_RATIO = 48, 1.5


def two_decays(x: Values, y: Values) -> tuple[float, float, float, float, float]:
    """Return a, b, τ₁, c, τ₂ of y = a + b·exp(−x/τ₁) + c·exp(−x/τ₂) with τ₁ < τ₂.

    By variable projection (Golub & Pereyra 1973, SIAM J. Numer. Anal. 10, 413) from the best place
    of a grid. x : 0 and above. Raises ComparisonError where two components cannot be told.
    """
    from scipy.optimize import least_squares  # noqa: PLC0415 (slow to import)

    reach = float(np.ptp(x)) or 1.0
    logs = np.linspace(math.log(reach / 200), math.log(reach * 5), _PLACES)
    best, start = math.inf, (0, 0)
    for i in range(_PLACES):
        for j in range(i + 1, _PLACES):
            lack = float((_projected(np.array([logs[i], logs[j]]), x, y)[1] ** 2).sum())
            if lack < best:
                best, start = lack, (i, j)
    fit = least_squares(
        lambda both: _projected(both, x, y)[1],
        [logs[start[0]], logs[start[1]]],
        xtol=1e-14, ftol=1e-14, gtol=1e-14,
    )  # fmt: skip
    short, long = sorted(fit.x)
    (a, b, c), _ = _projected(np.array([short, long]), x, y)
    distinct = logs[0] < short and long < logs[-1] and long - short > math.log(_LEAST_RATIO)
    if not distinct:
        raise ComparisonError(
            "The values do not tell two components of a decay from one; choose “Exponential "
            "decay”, or measure at more and later points of the axis."
        )
    return float(a), float(b), math.exp(short), float(c), math.exp(long)


def shapes(x: Values, first: float, second: float) -> NDArray[np.float64]:
    """Return what a, b and c are multiplied by, shape (n, 3)."""
    with np.errstate(over="ignore"):
        return np.stack([np.ones_like(x), np.exp(-x / first), np.exp(-x / second)], axis=1)


def jacobian(x: Values, parameters: tuple[float, ...]) -> NDArray[np.float64]:
    """Return the derivatives by a, b, τ₁, c, τ₂, shape (n, 5)."""
    _, b, first, c, second = parameters
    constant, short, long = shapes(x, first, second).T
    return np.stack(
        [constant, short, b * short * x / first**2, long, c * long * x / second**2], axis=1
    )


def _projected(both: NDArray[np.float64], x: Values, y: Values) -> tuple[Values, Values]:
    """The best a, b, c for two time constants given by their logarithms, and what they leave."""
    columns = shapes(x, math.exp(both[0]), math.exp(both[1]))
    coefficients = np.linalg.lstsq(columns, y, rcond=None)[0]
    return np.asarray(coefficients, np.float64), np.asarray(y - columns @ coefficients, np.float64)

"""A dose–response curve of four parameters: half dose and slope searched for, the rest linear."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.distributions import Values
from rilievo.core.compare.variable_projection import squares_left
from rilievo.core.errors import ComparisonError

# Places of the grid over half dose and slope; slopes beyond these are a step or nothing.
_PLACES, _LEAST_SLOPE, _MOST_SLOPE = 40, 0.1, 30.0
_BEYOND = 10.0


def dose_response(x: Values, y: Values) -> tuple[float, float, float, float]:
    """Return a, b, s, EC50 of y = a + b/(1 + (EC50/x)^s), s above 0.

    a is the response without a dose, a + b that at the highest, EC50 the dose halfway. By variable
    projection (Golub & Pereyra 1973, SIAM J. Numer. Anal. 10, 413) from the best place of a grid.
    x : doses, 0 and above. Raises ComparisonError where the values do not tell the curve.
    """
    from scipy.optimize import least_squares  # noqa: PLC0415 (slow to import)

    some = x[x > 0]
    if (x < 0).any() or some.size == 0:
        raise ComparisonError("A dose–response curve needs doses of 0 and above.")
    low, high = math.log(float(some.min()) / _BEYOND), math.log(float(some.max()) * _BEYOND)
    halves = np.linspace(low, high, _PLACES)
    slopes = np.linspace(math.log(_LEAST_SLOPE), math.log(_MOST_SLOPE), _PLACES)
    lacks = [
        squares_left(shape(x, np.exp(slopes)[:, None], math.exp(half)), y)
        for half in halves.tolist()
    ]
    best = np.unravel_index(int(np.argmin(lacks)), (_PLACES, _PLACES))
    half, slope = float(halves[best[0]]), float(slopes[best[1]])
    fit = least_squares(
        lambda both: _projected(both, x, y)[1], [half, slope], xtol=1e-14, ftol=1e-14, gtol=1e-14
    )
    half, slope = (float(parameter) for parameter in fit.x)
    if not (low < half < high and slopes[0] < slope < slopes[-1]):
        raise ComparisonError(
            "The values do not tell the half dose and the slope; measure at more doses, with some "
            "below and some above the half."
        )
    (a, b), _ = _projected(np.array([half, slope]), x, y)
    return float(a), float(b), math.exp(slope), math.exp(half)


def shape(x: Values, slope: float | Values, half: float) -> Values:
    """Return 1/(1 + (half/x)^slope); 0 without a dose."""
    with np.errstate(divide="ignore", over="ignore"):
        return np.asarray(1 / (1 + np.exp(slope * (math.log(half) - np.log(x)))))


def jacobian(x: Values, parameters: tuple[float, ...]) -> NDArray[np.float64]:
    """Return the derivatives by a, b, s, EC50, shape (n, 4)."""
    _, b, slope, half = parameters
    part = shape(x, slope, half)
    away = np.log(np.where(x > 0, x, half) / half)
    bend = part * (1 - part)
    return np.stack([np.ones_like(x), part, b * bend * away, -b * bend * slope / half], axis=1)


def _projected(both: NDArray[np.float64], x: Values, y: Values) -> tuple[Values, Values]:
    """The best a and b for a half dose and a slope given by logarithms, and what they leave."""
    columns = np.stack([np.ones_like(x), shape(x, math.exp(both[1]), math.exp(both[0]))], axis=1)
    coefficients = np.linalg.lstsq(columns, y, rcond=None)[0]
    return np.asarray(coefficients, np.float64), np.asarray(y - columns @ coefficients, np.float64)

"""How a picture answers to light, from the patches of a card, and how sure that is."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.image.image import CurveError, Plane
from rilievo.core.robust_statistics import median_and_mad_sigma
from rilievo.core.signal.cards import PlacedCard

ResponseKind = Literal["line", "parabola", "power"]
Values = NDArray[np.float64]
_PARAMETERS: dict[ResponseKind, int] = {"line": 2, "parabola": 3, "power": 2}
_BEYOND = 3.0
# Ranks of what patches show and reflect go together at least so well (Spearman's ρ).
_LEAST_RISE = 0.8
# Places at which the error of a curve is kept; between them it is interpolated.
_PLACES = 1025


def patch_values(plane: Plane, card: PlacedCard, inner: float) -> Values:
    """Return the mean of the middle of each patch, shape (n,).

    Pixels farther than three robust standard deviations from a patch's median (dust, scratches)
    are left out. NaN for a patch that is not in the picture, or partly saturated.
    """
    saturated = plane.saturated()
    means = []
    for rows, columns, mask in card.patches(plane.shape, inner):
        values = plane.pixels[rows, columns][mask].astype(np.float64)
        clipped = saturated is not None and bool(saturated[rows, columns][mask].any())
        values = values[np.isfinite(values)]
        if clipped or not values.size:
            means.append(math.nan)
            continue
        middle, sigma = median_and_mad_sigma(values)
        near_middle = values[np.abs(values - middle) <= _BEYOND * sigma] if sigma > 0 else values
        means.append(float(near_middle.mean()))
    return np.array(means)


@dataclass(frozen=True, eq=False)
class Response:
    """A curve from values to reflectance.

    coefficients : of powers of the value, or of the logarithm. residuals : of each patch, known −
    curve; NaN for one that was not used. spread : standard deviation of the residuals as shares
    of what is known. covariance : of the coefficients. span : lowest and highest value used.
    """

    kind: ResponseKind
    coefficients: Values
    covariance: Values
    residuals: Values
    spread: float
    span: tuple[float, float]

    @property
    def used(self) -> int:
        """How many patches it goes through."""
        return int(np.isfinite(self.residuals).sum())

    def of(self, values: NDArray[Any]) -> NDArray[Any]:
        """Return the reflectance of values; NaN where the curve has none."""
        if self.kind == "power":
            with np.errstate(divide="ignore", invalid="ignore"):
                logs = np.log(np.where(values > 0, values, np.nan))
            return np.asarray(np.exp(self.coefficients[0] + self.coefficients[1] * logs))
        values_fitted: NDArray[Any] = np.polynomial.polynomial.polyval(values, self.coefficients)
        return values_fitted

    def error(self, values: Values) -> Values:
        """Return the standard error of the curve at values."""
        if self.kind == "power":
            columns = np.stack([np.ones(values.shape), np.log(values)])
            return np.asarray(_length(columns, self.covariance) * self.of(values))
        powers = np.stack([values**k for k in range(self.coefficients.size)])
        return _length(powers, self.covariance)

    def errors_of_result(self, *, density: bool) -> CurveError:
        """Return the standard error by the result, reflectance or optical density."""
        low, high = self.span
        reach = (high - low) / 2
        first = max(low - reach, low / 4) if self.kind == "power" else low - reach
        values = np.linspace(first, high + reach, _PLACES)
        result, errors = self.of(values), self.error(values)
        good = np.isfinite(result) & (result > 0)
        result, errors = result[good], errors[good]
        if density:
            errors = errors / (result * math.log(10))
            result = -np.log10(result)
        order = np.argsort(result)
        return CurveError(result[order], errors[order])


def _length(columns: Values, covariance: Values) -> Values:
    return np.asarray(
        np.sqrt(np.maximum(np.einsum("kn,kl,ln->n", columns, covariance, columns), 0))
    )


def _ranks(values: Values) -> NDArray[np.intp]:
    return np.argsort(np.argsort(values))


def fit_response(kind: ResponseKind, values: Values, known: Values) -> Response:
    """Return the curve whose deviations, as shares of what is known, are least squares.

    values, known : of each patch, shape (n,); NaN in either leaves a patch out. A power law is
    fitted as a line of the logarithms. Raises StepError for too few patches, or values that do not
    rise with what is known.
    """
    good = np.isfinite(values) & np.isfinite(known) & (known > 0)
    if kind == "power":
        good &= values > 0
    x, y = values[good], known[good]
    needed = _PARAMETERS[kind]
    if np.unique(y).size <= needed or np.unique(x).size <= needed:
        raise StepError(
            f"{x.size} patches of the card can be used, of {np.unique(x).size} different values, "
            f"and the curve needs {needed + 1}: patches that are saturated, outside of the picture "
            "or of unknown value do not count. Expose less, or mark the card again."
        )
    if np.corrcoef(_ranks(x), _ranks(y))[0, 1] < _LEAST_RISE:
        raise StepError(
            "What the patches show does not rise with what they reflect; click the corners of the "
            "card again, beginning at its first patch and going along its first row."
        )
    argument = np.log(x) if kind == "power" else x
    target, weight = (np.log(y), np.ones(y.size)) if kind == "power" else (y, 1 / y)
    powers = range(needed if kind != "power" else 2)
    columns = np.stack([argument**k for k in powers], axis=1) * weight[:, None]
    scale = np.linalg.norm(columns, axis=0)
    scaled = columns / scale
    solved, *_ = np.linalg.lstsq(scaled, target * weight, rcond=None)
    off = target * weight - scaled @ solved
    freedom = x.size - needed
    spread = math.sqrt(float((off**2).sum()) / freedom)
    covariance = np.linalg.inv(scaled.T @ scaled) * spread**2 / np.outer(scale, scale)
    made = Response(
        kind, solved / scale, covariance, np.zeros(0), spread, (float(x.min()), float(x.max()))
    )
    residuals = np.full(values.shape, np.nan)
    residuals[good] = y - made.of(x)
    return Response(kind, made.coefficients, covariance, residuals, spread, made.span)

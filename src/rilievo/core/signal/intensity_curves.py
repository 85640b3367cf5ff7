"""Curves from intensity to a physical quantity, fitted to points that are known."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.parameters import Parameters

CurveKind = Literal["linear", "quadratic", "cubic", "log_linear", "optical_density"]
Values = NDArray[Any]


class CalibrationPoint(Parameters):
    """An intensity and what it stands for."""

    intensity: float = Field(
        title="Intensity",
        json_schema_extra={"unit": "counts"},
        description="mean intensity that was read, in counts",
    )
    value: float = Field(
        title="Stands for", description="the known value that this intensity stands for"
    )
    label: str = Field(
        "", max_length=200, title="Label", description="what was measured there, for people"
    )


@dataclass(frozen=True)
class Curve:
    """A kind of curve. needs : points that fix it. formula : as it is written."""

    title: str
    needs: int
    formula: str
    unit: str = ""


CURVES: dict[CurveKind, Curve] = {
    "linear": Curve("Straight line", 2, "a + b·v"),
    "quadratic": Curve("Parabola", 3, "a + b·v + c·v²"),
    "cubic": Curve("Cubic", 4, "a + b·v + c·v² + d·v³"),
    "log_linear": Curve("Logarithm", 2, "a + b·lg v"),
    "optical_density": Curve("Optical density", 0, "lg (white / v)", "OD"),
}
_DEGREES: dict[CurveKind, int] = {"linear": 1, "quadratic": 2, "cubic": 3, "log_linear": 1}


@dataclass(frozen=True, eq=False)
class FittedCurve:
    """A curve with its numbers.

    coefficients : a, b, … of the formula in the intensity, or in its decimal logarithm. residuals :
    of each point, value − curve. span : lowest and highest intensity of the points.
    """

    kind: CurveKind
    coefficients: tuple[float, ...]
    white: float | None
    residuals: tuple[float, ...]
    r_squared: float
    span: tuple[float, float]

    @property
    def largest_residual(self) -> float:
        """The largest deviation of a point from the curve."""
        return max((abs(r) for r in self.residuals), default=math.nan)

    def of(self, intensities: Values) -> Values:
        """Return what intensities stand for; NaN where the curve has no value."""
        values = np.asarray(intensities)
        with np.errstate(invalid="ignore", divide="ignore"):
            if self.kind == "optical_density":
                return np.where(values > 0, np.log10((self.white or math.nan) / values), np.nan)
            x = np.log10(np.where(values > 0, values, np.nan)) if self._is_log else values
            values_fitted: Values = np.polynomial.polynomial.polyval(x, np.array(self.coefficients))
            return values_fitted

    @property
    def _is_log(self) -> bool:
        return self.kind == "log_linear"

    def text(self) -> str:
        """Return the formula with its numbers put in."""
        formula = CURVES[self.kind].formula
        if self.kind == "optical_density":
            return formula.replace("white", f"{self.white:.6g}")
        for name, number in zip("abcd", self.coefficients, strict=False):
            formula = formula.replace(name, f"{number:.6g}", 1)
        return formula.replace("+ -", "− ").replace("-", "−")


def fit_curve(
    kind: CurveKind, points: Sequence[CalibrationPoint], white: float | None = None
) -> FittedCurve:
    """Return the curve of a kind with the least squared deviations from the points.

    white : intensity without absorption, for the optical density. Raises StepError where the
    points do not fix the curve.
    """
    curve = CURVES[kind]
    x = np.array([point.intensity for point in points], np.float64)
    y = np.array([point.value for point in points], np.float64)
    span = (float(x.min()), float(x.max())) if x.size else (-math.inf, math.inf)
    if kind == "optical_density":
        if white is None:
            raise StepError("Optical density needs the intensity of white; type it or take a pick.")
        fitted = FittedCurve(kind, (), white, (), math.nan, span)
        return _with_residuals(fitted, x, y)
    if kind == "log_linear" and (x <= 0).any():
        raise StepError("A logarithm needs intensities above 0; remove the points at 0 or below.")
    if np.unique(x).size < curve.needs:
        raise StepError(
            f"“{curve.title}” needs at least {curve.needs} points of different intensity. Got "
            f"{np.unique(x).size}."
        )
    argument = np.log10(x) if kind == "log_linear" else x
    # Fitted about the middle and in units of the span, so that high powers keep their digits.
    poly = np.polynomial.Polynomial.fit(argument, y, _DEGREES[kind]).convert()
    coefficients = np.zeros(_DEGREES[kind] + 1)
    coefficients[: poly.coef.size] = poly.coef
    return _with_residuals(
        FittedCurve(kind, tuple(coefficients.tolist()), None, (), math.nan, span), x, y
    )


def _with_residuals(fitted: FittedCurve, x: Values, y: Values) -> FittedCurve:
    if not x.size:
        return fitted
    off = y - fitted.of(x)
    total = float(((y - y.mean()) ** 2).sum())
    r_squared = 1 - float((off**2).sum()) / total if total > 0 else math.nan
    return FittedCurve(
        fitted.kind,
        fitted.coefficients,
        fitted.white,
        tuple(off.tolist()),
        r_squared,
        fitted.span,
    )

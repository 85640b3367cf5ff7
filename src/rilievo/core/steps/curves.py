"""Curves that are not linear in intensity: log, power, equalising, local contrast."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image import Plane
from rilievo.core.pieces import by_pixel
from rilievo.core.smoothing import mean
from rilievo.core.steps.step import StepContext, StepParameters, step, without_infinities


class Logarithm(StepParameters):
    """Take the logarithm; what is 0 or less becomes undefined."""

    kind: Literal["log", "log10", "log1p"] = Field(
        "log10", title="Logarithm", description="natural, of base 10, or log(1 + v)"
    )


class Power(StepParameters):
    """Raise to a power; 0.5 is the square root, 1 / gamma undoes a gamma."""

    exponent: float = Field(0.5, ge=-10, le=10, title="Exponent", json_schema_extra={"step": 0.1})
    white: float | None = Field(
        None,
        gt=0,
        title="White stays",
        description="this value keeps its place; empty for a plain power",
        json_schema_extra={"unit": "counts"},
    )


class Equalised(StepParameters):
    """Replace each value by the share of pixels at or below it."""


class LocalContrast(StepParameters):
    """Show how far each pixel is from its surroundings, in their standard deviations."""

    size: int = Field(
        51,
        ge=3,
        le=501,
        title="Surroundings",
        description="side of the square; made odd",
        json_schema_extra={"unit": "px", "step": 2, "scales": "odd", "odd": True},
    )


@step(
    "curve.log",
    title="Logarithm",
    family="Curves",
    parameters=Logarithm,
    linear=False,
    reach=0,
)
def logarithm(plane: Plane, parameters: Logarithm, context: StepContext) -> Plane:  # noqa: ARG001
    """Return ln v, log10 v or ln(1 + v); undefined where that has no value."""
    work = {"log": np.log, "log10": np.log10, "log1p": np.log1p}[parameters.kind]

    def curve(values: NDArray[Any]) -> NDArray[Any]:
        with np.errstate(all="ignore"):
            return np.asarray(work(values))

    return plane.with_pixels(without_infinities(by_pixel(curve, plane.as_float())), None)


@step(
    "curve.power",
    title="Power, root or gamma",
    family="Curves",
    parameters=Power,
    linear=False,
    reach=0,
)
def power(plane: Plane, parameters: Power, context: StepContext) -> Plane:  # noqa: ARG001
    """Return vᵖ, or white · (v / white)ᵖ; a negative value has a power only if p is whole."""
    values = plane.as_float()
    white = values.dtype.type(1.0 if parameters.white is None else parameters.white)
    exponent = values.dtype.type(parameters.exponent)

    def curve(part: NDArray[Any]) -> NDArray[Any]:
        with np.errstate(all="ignore"):
            return np.asarray(white * np.power(part / white, exponent))

    return plane.with_pixels(without_infinities(by_pixel(curve, values)), None)


@step(
    "curve.equalise",
    title="Equalised values",
    family="Curves",
    parameters=Equalised,
    linear=False,
    reach=None,
)
def equalise(plane: Plane, parameters: Equalised, context: StepContext) -> Plane:  # noqa: ARG001
    """Return the share of defined pixels that are at or below each value, 0 to 1."""
    values = plane.as_float()
    defined = np.isfinite(values)
    flat = values[defined]
    order = np.argsort(flat)
    ordered = flat[order]
    # Equal values share the place of the last of them.
    last = np.append(ordered[1:] != ordered[:-1], True) if ordered.size else np.zeros(0, np.bool_)
    ends = np.flatnonzero(last) + 1
    shares = np.empty(flat.size, values.dtype)
    shares[order] = np.repeat(ends / max(flat.size, 1), np.diff(ends, prepend=0))
    result = np.full(values.shape, np.nan, values.dtype)
    result[defined] = shares
    return plane.with_pixels(result, None)


@step(
    "curve.local_contrast",
    title="Local contrast",
    family="Curves",
    parameters=LocalContrast,
    linear=False,
    reach=lambda p: p.size // 2 + 1,
)
def local_contrast(plane: Plane, parameters: LocalContrast, context: StepContext) -> Plane:  # noqa: ARG001
    """Return (v − m) / s, mean and population sd of the square around; undefined where s is 0."""
    values = plane.as_float().astype(np.float64)
    finite = values[np.isfinite(values)]
    # About its own level a plane with a large offset keeps the digits of its spread.
    values = values - (finite.mean() if finite.size else 0.0)
    size = parameters.size | 1
    middle = mean(values, size)
    spread = np.sqrt(np.maximum(mean(values**2, size) - middle**2, 0))
    top = np.abs(values).max(initial=0.0, where=np.isfinite(values))
    with np.errstate(all="ignore"):
        result = np.where(spread > 1e-7 * top, (values - middle) / spread, np.nan)
    return plane.with_pixels(result.astype(plane.as_float().dtype), None)

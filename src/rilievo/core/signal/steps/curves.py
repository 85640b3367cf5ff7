"""Curves that are not linear in intensity: log, power, equalising, local contrast."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.image.image import FloatPixels
from rilievo.core.signal.smoothing import mean
from rilievo.core.signal.steps.fields import side
from rilievo.core.signal.steps.step import StepParameters, on_values, step
from rilievo.core.tiled_map import by_pixel, in_pieces

_ROWS = 64


class Logarithm(StepParameters):
    """Take the logarithm; what is 0 or less becomes undefined."""

    in_words: ClassVar[str] = "The logarithm ({kind}) of every value was taken"

    kind: Literal["log", "log10", "log1p"] = Field(
        "log10", title="Logarithm", description="natural, of base 10, or log(1 + v)"
    )


class Power(StepParameters):
    """Raise to a power; 0.5 is the square root, 1 / gamma undoes a gamma."""

    in_words: ClassVar[str] = "Every value was raised to the power {exponent} (white at {white})"

    exponent: float = Field(
        0.5,
        ge=-10,
        le=10,
        title="Exponent",
        json_schema_extra={"step": 0.1},
        description="1/2 is the square root",
    )
    white: float | None = Field(
        None,
        gt=0,
        title="White stays",
        description="this value keeps its place; empty for a plain power",
        json_schema_extra={"unit": "counts"},
    )


class Equalised(StepParameters):
    """Replace each value by the share of pixels at or below it."""

    in_words: ClassVar[str] = "Values were equalised"


class LocalContrast(StepParameters):
    """Show how far each pixel is from its surroundings, in their standard deviations."""

    in_words: ClassVar[str] = "Local contrast was evened out over {size} px"

    size: int = side(51, "Surroundings", "side of the square; made odd", least=3, most=501)


@step(
    "curve.log",
    title="Logarithm",
    family="Curves",
    parameters=Logarithm,
    linear=False,
    reach=0,
    order=160,
)
@on_values
def logarithm(values: FloatPixels, parameters: Logarithm) -> FloatPixels:
    """Return ln v, log10 v or ln(1 + v); undefined where that has no value."""
    work = {"log": np.log, "log10": np.log10, "log1p": np.log1p}[parameters.kind]
    return by_pixel(work, values)


@step(
    "curve.power",
    title="Power, root or gamma",
    family="Curves",
    parameters=Power,
    linear=False,
    reach=0,
    order=170,
)
@on_values
def power(values: FloatPixels, parameters: Power) -> FloatPixels:
    """Return vᵖ, or white · (v / white)ᵖ; a negative value has a power only if p is whole."""
    white = values.dtype.type(1.0 if parameters.white is None else parameters.white)
    exponent = values.dtype.type(parameters.exponent)

    return by_pixel(lambda part: white * np.power(part / white, exponent), values)


@step(
    "curve.equalise",
    title="Equalised values",
    family="Curves",
    parameters=Equalised,
    linear=False,
    reach=None,
    order=180,
)
@on_values
def equalise(values: FloatPixels, parameters: Equalised) -> FloatPixels:  # noqa: ARG001 (one form)
    """Return the share of defined pixels that are at or below each value, 0 to 1."""
    from rilievo.core.rank_kernels import shares_below, starts_of_steps  # noqa: PLC0415

    defined = np.isfinite(values)
    ordered = np.sort(values, axis=None) if defined.all() else np.sort(values[defined])
    result = np.full(values.shape, np.nan, values.dtype)
    if ordered.size == 0:
        return result
    starts = starts_of_steps(ordered)

    def work(top: int) -> None:
        rows = slice(top, top + _ROWS)
        shares_below(values[rows], ordered, starts, result[rows])

    in_pieces(work, range(0, values.shape[0], _ROWS), values=values.size)
    return result


@step(
    "curve.local_contrast",
    title="Local contrast",
    family="Curves",
    parameters=LocalContrast,
    linear=False,
    reach=lambda p: p.size // 2 + 1,
    order=190,
)
@on_values
def local_contrast(values: FloatPixels, parameters: LocalContrast) -> FloatPixels:
    """Return (v − m) / s, mean and population sd of the square around; undefined where s is 0."""
    values = values.astype(np.float64)
    finite = values[np.isfinite(values)]
    # About its own level a plane with a large offset keeps the digits of its spread.
    values = values - (finite.mean() if finite.size else 0.0)
    size = parameters.size | 1
    middle = mean(values, size)
    spread = np.sqrt(np.maximum(mean(values**2, size) - middle**2, 0))
    top = np.abs(values).max(initial=0.0, where=np.isfinite(values))
    return np.where(spread > 1e-7 * top, (values - middle) / spread, np.nan)

"""Arithmetic with a number, limits, the absolute value, the negative."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from rilievo.core.image.image import FloatPixels, Lattice, Plane
from rilievo.core.parameters import LARGEST
from rilievo.core.signal.steps.step import (
    StepContext,
    StepParameters,
    on_values,
    step,
    without_infinities,
)

Operation = Literal["add", "subtract", "multiply", "divide"]


class WithNumber(StepParameters):
    """Add, subtract, multiply or divide by a number."""

    in_words: ClassVar[str] = "A number was applied to every value ({operation} {number})"

    operation: Operation = Field(
        "multiply", title="Operation", description="add, subtract, multiply or divide by the number"
    )
    number: float = Field(1.0, ge=-LARGEST, le=LARGEST, title="Number", description="the number")


def _number_factor(parameters: WithNumber) -> float | None:
    if parameters.operation == "multiply":
        return parameters.number
    if parameters.operation == "divide":
        return 1 / parameters.number if parameters.number else None
    return 1.0


@step(
    "arithmetic.number",
    title="Arithmetic with a number",
    family="Arithmetic",
    parameters=WithNumber,
    linear=True,
    reach=0,
    constant=_number_factor,
    order=10,
)
def with_number(plane: Plane, parameters: WithNumber, context: StepContext) -> Plane:  # noqa: ARG001
    """Return v + n, v − n, v · n or v / n; dividing by 0 leaves everything undefined."""
    values = plane.as_float()
    number, lattice = values.dtype.type(parameters.number), plane.lattice
    with np.errstate(all="ignore"):
        if parameters.operation == "add":
            result = values + number
            lattice = lattice and Lattice(lattice.origin + parameters.number, lattice.spacing)
        elif parameters.operation == "subtract":
            result = values - number
            lattice = lattice and Lattice(lattice.origin - parameters.number, lattice.spacing)
        elif parameters.operation == "multiply":
            result, lattice = values * number, None
        else:
            result = values / number if number else np.full_like(values, np.nan)
            lattice = None
    return plane.with_pixels(without_infinities(result), lattice)


class Limits(StepParameters):
    """Raise what is below a limit to it, and lower what is above another."""

    in_words: ClassVar[str] = "Values were limited to the range from {lowest} to {highest}"

    lowest: float | None = Field(
        0.0,
        ge=-LARGEST,
        le=LARGEST,
        title="At least",
        description="empty for no limit",
        json_schema_extra={"unit": "counts"},
    )
    highest: float | None = Field(
        None,
        ge=-LARGEST,
        le=LARGEST,
        title="At most",
        description="empty for no limit",
        json_schema_extra={"unit": "counts"},
    )

    @model_validator(mode="after")
    def _ordered(self) -> Limits:
        if self.lowest is not None and self.highest is not None and self.lowest > self.highest:
            raise ValueError("has a lower limit above its upper one")
        return self


@step(
    "arithmetic.limits",
    title="Limits",
    family="Arithmetic",
    parameters=Limits,
    linear=False,
    reach=0,
    order=20,
)
def limit(plane: Plane, parameters: Limits, context: StepContext) -> Plane:
    """Return min(max(v, lowest), highest); a limit that is None does nothing."""
    values = plane.as_float()
    low, high = parameters.lowest, parameters.highest
    if low is None and high is None:
        return plane
    with np.errstate(invalid="ignore"):
        count = 0 if low is None else np.count_nonzero(values < low)
        count += 0 if high is None else np.count_nonzero(values > high)
    context.record(limited=count)
    return plane.with_pixels(np.clip(values, low, high), None)


class AbsoluteValue(StepParameters):
    """Take the absolute value."""

    in_words: ClassVar[str] = "The absolute value was taken"


@step(
    "arithmetic.absolute",
    title="Absolute value",
    family="Arithmetic",
    parameters=AbsoluteValue,
    linear=False,
    reach=0,
    order=30,
)
@on_values
def absolute(values: FloatPixels, parameters: AbsoluteValue) -> FloatPixels:  # noqa: ARG001
    """Return |v|."""
    return np.abs(values)


class Negative(StepParameters):
    """Turn dark into bright: white minus the value."""

    in_words: ClassVar[str] = "The negative was formed (white at {white})"

    white: float | None = Field(
        None,
        ge=-LARGEST,
        le=LARGEST,
        title="White",
        description="becomes 0; empty for the highest value of the file's number type",
        json_schema_extra={"unit": "counts"},
    )


@step(
    "arithmetic.negative",
    title="Negative",
    family="Arithmetic",
    parameters=Negative,
    linear=True,
    reach=0,
    constant=-1.0,
    order=40,
)
def negative(plane: Plane, parameters: Negative, context: StepContext) -> Plane:
    """Return white − v; without a white, floats are negated about 0."""
    values = plane.as_float()
    white = parameters.white
    if white is None:
        white = plane.type_range[1] if plane.type_range is not None else 0.0
    context.record(white=white)
    lattice = plane.lattice and Lattice(white - plane.lattice.origin, plane.lattice.spacing)
    return plane.with_pixels(values.dtype.type(white) - values, lattice)

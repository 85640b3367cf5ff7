"""A step that multiplies every value."""

from __future__ import annotations

from typing import ClassVar

from pydantic import Field

from rilievo.core.image.image import Plane
from rilievo.core.signal.steps.step import StepContext, StepParameters, step


class Scale(StepParameters):
    """Multiply every value by a factor."""

    in_words: ClassVar[str] = "Values were multiplied by {factor}"

    factor: float = Field(2.0, gt=0, title="Factor", description="every value is multiplied by it")


@step(
    "MODULE.scale",
    title="Scale",
    family="Arithmetic",
    parameters=Scale,
    linear=True,
    reach=0,
    constant=lambda parameters: parameters.factor,
)
def scale(plane: Plane, parameters: Scale, context: StepContext) -> Plane:
    """Return the plane times the factor; undefined pixels stay undefined."""
    values = plane.as_float()
    context.record(factor=parameters.factor)
    return plane.with_pixels(values * values.dtype.type(parameters.factor), lattice=None)

"""A formula over the channels of a sample."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from pydantic import Field, field_validator

from rilievo.core.errors import StepError
from rilievo.core.formula import LONGEST, THIS, parsed
from rilievo.core.image.image import Plane
from rilievo.core.signal.steps.step import StepContext, StepParameters, step, without_infinities


class FormulaStep(StepParameters):
    """Work a formula out over the channels, for each pixel."""

    in_words: ClassVar[str] = "Values were computed by the formula “{formula}”"

    formula: str = Field(
        THIS,
        max_length=LONGEST,
        title="Formula",
        description="channel names, numbers, + − × ÷ ^, < > =, min max log sqrt abs mean median; "
        "“this” is the channel itself",
        json_schema_extra={"lines": 3, "formula": True},
    )

    @field_validator("formula")
    @classmethod
    def _readable(cls, text: str) -> str:
        parsed(text)
        return text

    def channels_read(self) -> tuple[str, ...]:
        """Return the channels in the formula."""
        return parsed(self.formula).names


@step(
    "arithmetic.formula",
    title="Formula",
    family="Arithmetic",
    parameters=FormulaStep,
    linear=False,
    reach=None,
    order=50,
)
def work_out(plane: Plane, parameters: FormulaStep, context: StepContext) -> Plane:
    """Return the formula's value at each pixel; other channels as they stand before this step.

    What has no value (log of 0 or less, division by 0) is undefined, and so is a pixel that is
    undefined here. Raises StepError for a channel that the sample lacks or of another size.
    """
    values = plane.as_float()
    formula = parsed(parameters.formula)
    channels: dict[str, Any] = {}
    for name in formula.names:
        if name in (THIS, context.channel) and not (name == THIS and THIS in context.channels):
            channels[name] = values
            continue
        other = context.sources.channel(name)
        if other.shape != plane.shape:
            raise StepError(f"The channel “{name}” in the formula has another size; leave it out.")
        channels[name] = other.as_float()
    result = np.broadcast_to(np.asarray(formula.value(channels)), plane.shape)
    result = np.where(np.isnan(values), np.nan, result).astype(values.dtype)
    return plane.with_pixels(without_infinities(result), None)

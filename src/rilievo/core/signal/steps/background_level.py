"""Background as one typed level."""

from __future__ import annotations

from typing import ClassVar

from pydantic import Field

from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.parameters import LARGEST
from rilievo.core.signal.steps.background import BackgroundParameters, background_step, level_of
from rilievo.core.signal.steps.step import StepContext


class LevelBackground(BackgroundParameters):
    """Subtract one level that you type or set in the Ridges."""

    in_words: ClassVar[str] = (
        "A constant level of {level} counts was taken as background and {result}"
    )

    level: float = Field(
        0.0,
        ge=-LARGEST,
        le=LARGEST,
        title="Level",
        json_schema_extra={"unit": "counts"},
        description="the value that is subtracted",
    )


@background_step(
    "background.level", title="Background level", parameters=LevelBackground, reach=0, order=90
)
def typed_level(
    plane: Plane,
    parameters: LevelBackground,
    context: StepContext,  # noqa: ARG001 (every step has this form)
) -> FloatPixels:
    """Return the typed level b for all pixels.

        out[y, x] = plane[y, x] − b

    plane : shape (height, width), native units; never changed; NaN stays NaN.
    """
    return level_of(parameters.level, plane)

"""Background by grayscale opening: a body rolled under the image reaches what is wide enough."""

from __future__ import annotations

from typing import ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.signal.opening import Form, opened
from rilievo.core.signal.smoothing import gaussian
from rilievo.core.signal.steps.background import BackgroundParameters, Objects, background_step
from rilievo.core.signal.steps.beside_objects import BesideObjects
from rilievo.core.signal.steps.fields import length
from rilievo.core.signal.steps.step import StepContext

# An automatic radius in half widths of the objects, the smallest, and that without any objects.
_RADII, _LEAST_RADIUS, _RADIUS_WITHOUT = 1.5, 12.0, 50.0
# The Gaussian before an automatic opening, as a share of its radius.
_SMOOTHED = 0.6


class OpeningBackground(BackgroundParameters):
    """Subtract what a paraboloid, ball or disc reaches that is rolled under the image."""

    in_words: ClassVar[str] = (
        "Background was estimated by a grayscale opening with a {form} of radius {radius} "
        "{radius_in} after smoothing by {smooth_before} px, and {result}"
    )

    form: Form = Field(
        "paraboloid",
        title="Body",
        description="a paraboloid is exact and fast at any radius; a disc is flat on top",
    )
    radius: float | None = length(
        None,
        "Radius",
        "empty follows from the objects, which are left out; else larger than they are, smaller "
        "than the unevenness of the background",
        least=1,
        most=5000,
        step=5,
    )
    radius_in: Literal["px", "unit"] = Field(
        "px", title="Radius in", description="pixels, or the calibrated unit of each sample"
    )
    objects: Objects = Field(
        "bright",
        title="Objects are",
        description="whether objects are brighter or darker than the background",
    )
    smooth_before: float = length(
        1.0,
        "Smooth before",
        "Gaussian sigma; without it the background follows the darkest noise",
        most=100,
    )
    height_scale: float = Field(
        1.0,
        gt=0,
        le=1e6,
        title="Counts per pixel",
        description="how many counts the body is high for each pixel of its width",
        json_schema_extra={"unit": "counts/px", "step": 0.5},
    )

    def shrunk(self, factor: float) -> Self:
        """As for any step; a calibrated radius stays, and the body stays as high."""
        small = super().shrunk(factor)
        changed: dict[str, object] = {"height_scale": self.height_scale * factor}
        if self.radius_in == "unit" and self.radius is not None:
            changed["radius"] = self.radius
        return small.model_copy(update=changed)


def radius_in_pixels(plane: Plane, parameters: OpeningBackground, context: StepContext) -> float:
    """Return a typed radius in pixels of the plane. Raises StepError without a calibration."""
    if parameters.radius is None:
        raise ValueError("The radius is automatic.")
    if parameters.radius_in == "px":
        return parameters.radius
    return parameters.radius / plane.calibration.square_side("The radius", context.sample_name)


@background_step(
    "background.opening", title="Background by opening", parameters=OpeningBackground, order=110
)
def opening(plane: Plane, parameters: OpeningBackground, context: StepContext) -> FloatPixels:
    """Return the opening of the smoothed plane; for dark objects the closing.

        opening(f) = (f ⊖ h) ⊕ h, closing(f) = −opening(−f)

    Sources: Sternberg 1983 (ball); van den Boomgaard 1992 (paraboloid); see `core.opening`.
    plane : shape (height, width); undefined pixels are ignored.
    Raises StepError when the radius is in a unit and the sample has no pixel size.
    """
    automatic = parameters.radius is None
    typed = None if automatic else radius_in_pixels(plane, parameters, context)
    beside = BesideObjects(plane.as_float(), context, parameters.objects, automatic=automatic)
    radius = beside.length(typed, _RADII, _LEAST_RADIUS, _RADIUS_WITHOUT)
    # Without objects in the way the noise, whose lowest an opening follows, is smoothed off.
    before = max(parameters.smooth_before, _SMOOTHED * radius if automatic else 0.0)
    values = gaussian(beside.values, before)
    sign = values.dtype.type(-1 if parameters.objects == "dark" else 1)
    values = values * sign if sign < 0 else values
    result = opened(values, parameters.form, max(radius, 0.5), parameters.height_scale)
    return beside.told(np.asarray(result * sign if sign < 0 else result))

"""The same light on every picture: a lamp that fades, bleaches or flickers drops out."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.image import Plane
from rilievo.core.parameters import LARGEST, Rectangle
from rilievo.core.signal.steps.background_patch import values_inside
from rilievo.core.signal.steps.fields import drawn
from rilievo.core.signal.steps.step import (
    CanvasTool,
    StepContext,
    StepParameters,
    step,
    without_infinities,
)


class NoLight(StepError):
    """The level that is to become the same is not above zero, or nothing of it is defined."""


class SameLight(StepParameters):
    """Scale each picture so that a reference in it has one level on all of them."""

    regions_field: ClassVar[str] = "inside"
    canvas_tool: ClassVar[CanvasTool | None] = CanvasTool("patches", "rectangles", "reference")

    in_words: ClassVar[str] = (
        "Values were scaled so that the {statistic} of the reference became {level} on every "
        "picture"
    )

    statistic: Literal["median", "mean"] = Field(
        "median",
        title="Level from",
        description="the median withstands objects that fill less than half of the reference",
    )
    patches: tuple[Rectangle, ...] = drawn("Reference", "none is the whole picture")
    inside: str = Field(
        "",
        max_length=80,
        title="Inside of",
        description="a region class in place of what is drawn, found before the light is the "
        "same: in another channel, or by an automatic threshold",
        json_schema_extra={"region_class": True},
    )
    level: float = Field(
        1.0, gt=0, le=LARGEST, title="Becomes", description="level of the reference afterwards"
    )

    def signal_unit(self) -> str:
        """What the signal is counted in afterwards."""
        return "× reference" if self.level == 1 else f"of a reference of {self.level:g}"


@step(
    "arithmetic.light",
    title="Same light",
    family="Arithmetic",
    parameters=SameLight,
    # Within a picture values stay proportional; from picture to picture they are relative.
    linear=False,
    reach=None,
    order=15,
)
def same_light(plane: Plane, parameters: SameLight, context: StepContext) -> Plane:
    """Return v · level / r, with r the median or mean of the reference in this plane.

    The reference is a region class, what was drawn, or the whole picture.
    What is left of a camera's offset must be taken off before, or the scale is wrong.
    plane : shape (height, width); NaN stays NaN. Raises NoLight.
    """
    if context.inside is not None:
        pixels = plane.as_float()[context.inside]
        values = pixels[np.isfinite(pixels)].astype(np.float64)
        if not values.size and np.isfinite(plane.pixels).any():
            raise NoLight(
                f"Sample “{context.sample_name}” has no region “{parameters.inside}” whose light "
                "could be made the same; find it by a lower level, or draw the reference."
            )
    else:
        whole = Rectangle(x=0, y=0, width=plane.shape[1], height=plane.shape[0])
        values = values_inside(plane, parameters.patches or (whole,))
    if not np.isfinite(plane.pixels).any():
        return plane.with_pixels(np.full_like(plane.as_float(), np.nan), None)
    level = np.median if parameters.statistic == "median" else np.mean
    measured_level = float(level(values)) if values.size else 0.0
    if not measured_level > 0:
        raise NoLight(
            f"The reference has the level {measured_level:g} in sample “{context.sample_name}”, "
            "which no scale makes the same as others; draw it where there is light, and take "
            "nothing but the camera's offset off before."
        )
    factor = parameters.level / measured_level
    context.record(light=measured_level, factor=factor)
    pixels = plane.as_float()
    scaled = without_infinities(pixels.astype(np.float64) * factor)
    return plane.with_pixels(scaled.astype(pixels.dtype), None)

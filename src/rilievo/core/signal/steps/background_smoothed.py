"""Background as the image itself, smoothed so widely that no object is left."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.signal.medians import median_going_on
from rilievo.core.signal.resampling import block_means, enlarged
from rilievo.core.signal.smoothing import gaussian
from rilievo.core.signal.steps.background import BackgroundParameters, background_step
from rilievo.core.signal.steps.beside_objects import BesideObjects
from rilievo.core.signal.steps.fields import length
from rilievo.core.signal.steps.step import StepContext

# The image is shrunken until the width is at most this many pixels.
_WIDTH = {"gaussian": 6.0, "median": 12.0}
# An automatic width in half widths of the objects, the smallest, and that without any objects.
_RADII, _LEAST_WIDTH, _WIDTH_WITHOUT = 1.0, 16.0, 100.0


class SmoothedBackground(BackgroundParameters):
    """Subtract the image smoothed very widely."""

    in_words: ClassVar[str] = "Background was estimated by a {way} over {width} px and {result}"

    way: Literal["gaussian", "median"] = Field(
        "median",
        title="Smoothed by",
        description="a median leaves out objects that cover less than half of its square",
    )
    width: float | None = length(
        None,
        "Width",
        "empty follows from the objects, which are left out; else sigma of the Gaussian, or half "
        "the side of the median's square",
        least=2,
        most=5000,
        step=10,
    )


def shrinking(way: str, width: float) -> int:
    """Return how many pixels a side are averaged before smoothing; 1 is none."""
    return max(1, int(width / _WIDTH[way]))


@background_step(
    "background.smoothed",
    title="Background by smoothing",
    parameters=SmoothedBackground,
    order=130,
)
def smoothed(
    plane: Plane,
    parameters: SmoothedBackground,
    context: StepContext,
) -> FloatPixels:
    """Return the smoothed plane, worked out on blocks that are small against the width.

    Without a typed width objects are found first, and the background beside them stands in their
    place.
    plane : shape (height, width); undefined pixels are left out.
    """
    beside = BesideObjects(plane.as_float(), context, "either", automatic=parameters.width is None)
    values = beside.values
    wide = beside.length(parameters.width, _RADII, _LEAST_WIDTH, _WIDTH_WITHOUT)
    factor = shrinking(parameters.way, wide)
    small = block_means(values, factor) if factor > 1 else values
    width = wide / factor
    if parameters.way == "gaussian":
        field = gaussian(small, width)
    else:
        # Beyond the border the image goes on as it is inside, so that a tilt stays a tilt.
        field = median_going_on(small, 2 * round(width) + 1)
    finite = np.isfinite(field)
    if not finite.all() and finite.any():
        field = np.where(finite, field, np.median(field[finite]))
    return beside.told(field if factor == 1 else enlarged(field, plane.shape, factor))

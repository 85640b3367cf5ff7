"""Background as one level estimated from patches without objects."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.parameters import Rectangle
from rilievo.core.signal.steps.background import BackgroundParameters, background_step, level_of
from rilievo.core.signal.steps.fields import drawn
from rilievo.core.signal.steps.step import CanvasTool, StepContext


class PatchMissing(StepError):
    """The step has no patch yet."""


class EmptyPatch(StepError):
    """The patches hold no finite pixel of this sample."""


class PatchBackground(BackgroundParameters):
    """Subtract one level, estimated from one or more patches without objects."""

    canvas_tool: ClassVar[CanvasTool | None] = CanvasTool("patches", "rectangles", "patch")

    in_words: ClassVar[str] = (
        "Background was estimated as the {statistic} of the values in drawn patches and {result}"
    )

    statistic: Literal["mean", "median", "mode"] = Field(
        "mean",
        title="Level from",
        description="median and mode withstand a few bright specks; mean is more precise without",
    )
    patches: tuple[Rectangle, ...] = drawn("Patches", "can be moved for one sample")


def values_inside(plane: Plane, patches: Sequence[Rectangle]) -> NDArray[np.float64]:
    """Return the finite values inside rectangles, 1-D; each pixel counts once."""
    if len(patches) == 1:
        part = plane.pixels[patches[0].slices(plane.shape)]
    else:
        inside = np.zeros(plane.shape, np.bool_)
        for patch in patches:
            inside[patch.slices(plane.shape)] = True
        part = plane.pixels[inside]
    values = np.asarray(part, np.float64).ravel()
    return values[np.isfinite(values)]


def patch_values(
    plane: Plane, parameters: PatchBackground, context: StepContext
) -> NDArray[np.float64]:
    """Return the finite values inside the patches, 1-D, native units; each pixel counts once.

    Raises PatchMissing when there is no patch, EmptyPatch when no finite pixel lies in any.
    """
    if not parameters.patches:
        raise PatchMissing(
            "The background has no patch yet; drag a rectangle over an empty part of the picture."
        )
    values = values_inside(plane, parameters.patches)
    if values.size == 0:
        raise EmptyPatch(
            f"The background patch holds no pixel of sample “{context.sample_name}”; "
            "move it onto the picture for this sample."
        )
    return values


@background_step(
    "background.patch", title="Background from patches", parameters=PatchBackground, order=120
)
def patch_level(plane: Plane, parameters: PatchBackground, context: StepContext) -> FloatPixels:
    """Return the level b of the patches for all pixels; tell its standard error.

        out[y, x] = plane[y, x] − b

    The standard error is sd / √n for the mean and √(π/2) sd / √n for the median, as if the
    pixels were independent and normal; a mode has none here.
    plane : shape (height, width), native units; never changed; NaN stays NaN.
    Raises PatchMissing when there is no patch, EmptyPatch when it holds no finite pixel.
    """
    from rilievo.core.image.mode_kernels import (  # noqa: PLC0415 (compiled on first use)
        half_sample_mode,
        most_frequent,
    )

    values = patch_values(plane, parameters, context)
    count = values.size
    error = float("nan") if count < 2 else float(values.std(ddof=1)) / float(np.sqrt(count))
    if parameters.statistic == "median":
        level, error = float(np.median(values)), float(np.sqrt(np.pi / 2)) * error
    elif parameters.statistic == "mode":
        ordered = np.sort(values)
        find = half_sample_mode if plane.lattice is None else most_frequent
        level = find(ordered)
        error = float("nan")
    else:
        # The mean about the first value keeps its digits on data with a large offset.
        level = float(values[0] + (values - values[0]).mean())
    context.record(standard_error=error, pixels=count)
    return level_of(level, plane)

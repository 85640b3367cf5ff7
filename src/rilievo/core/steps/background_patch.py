"""Background as one level estimated from a patch without objects."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image import FloatPixels, Plane
from rilievo.core.parameters import Rectangle
from rilievo.core.steps.background_level import subtract_constant
from rilievo.core.steps.step import StepContext, StepParameters, step


class PatchMissing(StepError):
    """The step has no patch yet."""


class EmptyPatch(StepError):
    """The patch holds no finite pixel of this sample."""


class PatchBackground(StepParameters):
    """Subtract one level, estimated from a patch without objects."""

    statistic: Literal["mean", "median"] = Field(
        "mean",
        title="Level from",
        description="median withstands a few bright specks; mean is more precise without them",
    )
    patch: Rectangle | None = Field(
        None, title="Patch", description="drawn on the picture; can be moved for one sample"
    )


def patch_values(plane: Plane, parameters: PatchBackground, context: StepContext) -> FloatPixels:
    """Return the finite values inside the patch, 1-D, native units.

    Raises PatchMissing when there is no patch, EmptyPatch when no finite pixel lies in it.
    """
    if parameters.patch is None:
        raise PatchMissing(
            "The background has no patch yet; drag a rectangle over an empty part of the picture."
        )
    part = plane.pixels[parameters.patch.slices(plane.shape)]
    values = np.asarray(part, np.float64).ravel()
    values = values[np.isfinite(values)]
    if values.size == 0:
        raise EmptyPatch(
            f"The background patch holds no pixel of sample “{context.sample_name}”; "
            "move it onto the picture for this sample."
        )
    return values


def patch_report(
    plane: Plane, parameters: PatchBackground, context: StepContext
) -> Mapping[str, float]:
    """Return `level`, its `standard_error` and the number of `pixels`.

    The standard error is sd / √n for the mean and √(π/2) sd / √n for the median, as if the
    pixels were independent and normal. It is undefined for one pixel.
    """
    values = patch_values(plane, parameters, context)
    count = values.size
    error = np.nan if count < 2 else float(values.std(ddof=1)) / np.sqrt(count)
    if parameters.statistic == "median":
        return {
            "level": float(np.median(values)),
            "standard_error": float(np.sqrt(np.pi / 2) * error),
            "pixels": float(count),
        }
    # The mean about the first value keeps its digits on data with a large offset.
    level = float(values[0] + (values - values[0]).mean())
    return {"level": level, "standard_error": float(error), "pixels": float(count)}


@step(
    "background.patch",
    title="Background from a patch",
    parameters=PatchBackground,
    linear=True,
    reach=None,
    report=patch_report,
)
def subtract_patch(plane: Plane, parameters: PatchBackground, context: StepContext) -> Plane:
    """Return `plane` minus the level b of the patch.

        out[y, x] = plane[y, x] − b

    plane : shape (height, width), native units; never changed; NaN stays NaN.
    Raises PatchMissing when there is no patch, EmptyPatch when it holds no finite pixel.
    """
    return subtract_constant(plane, patch_report(plane, parameters, context)["level"])

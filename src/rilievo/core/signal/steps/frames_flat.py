"""Flat field: how bright the camera shows an even field."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.calibration_frames import Frames
from rilievo.core.image.image import Plane
from rilievo.core.signal.steps.step import StepContext, StepParameters, step


class FlatField(StepParameters):
    """Divide by a flat field, made even at mean 1, so that counts stay counts."""

    in_words: ClassVar[str] = (
        "Values were divided by flat frames ({flat}; their darks: {flat_dark}) of mean 1"
    )

    flat: Frames = Field(
        default_factory=Frames,
        title="Flat frames",
        description="frames of even light, which are combined and divided by",
    )
    flat_dark: Frames = Field(
        default_factory=Frames,
        title="Darks of the flat",
        description="dark frames of the flat's own exposure; may be left out",
    )


@step(
    "frames.flat",
    title="Flat field",
    family="Frames",
    parameters=FlatField,
    linear=True,
    reach=0,
    constant=None,
    order=210,
)
def divide_flat(plane: Plane, parameters: FlatField, context: StepContext) -> Plane:
    """Return `plane` divided by the normalised flat.

        out = plane / ((flat − flat dark) / mean(flat − flat dark))

    plane : shape (height, width), native units. Where the flat is 0 or less the result is
    undefined. Raises FramesMissing, FrameMismatch, StepError for a flat without light.
    """
    values = plane.as_float()
    flat = context.sources.frames(parameters.flat, "flat frame", plane).as_float()
    if parameters.flat_dark.files:
        flat = flat - context.sources.frames(parameters.flat_dark, "dark of the flat", plane).pixels
    finite = np.isfinite(flat)
    mean = float(flat[finite].mean(dtype=np.float64)) if finite.any() else 0.0
    if not mean > 0:
        raise StepError(
            "The flat frame has no light once its dark is taken off; choose another flat or dark."
        )
    even = flat / flat.dtype.type(mean)
    lit = even > 0
    context.record(
        flat_mean=mean, lowest=float(even[finite].min()), highest=float(even[finite].max())
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        result = np.where(lit, values / even, values.dtype.type(np.nan))
    return plane.with_pixels(result.astype(values.dtype), None)

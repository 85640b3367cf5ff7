"""Dark frames: what the camera shows without light."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.calibration_frames import Frames
from rilievo.core.image.image import Plane
from rilievo.core.signal.steps.step import StepContext, StepParameters, step

Scaling = Literal["one", "exposure"]


class DarkFrame(StepParameters):
    """Subtract a dark frame, averaged from one or more files."""

    in_words: ClassVar[str] = "Dark frames ({dark}) were subtracted, factor: {factor}"

    dark: Frames = Field(
        default_factory=Frames,
        title="Dark frames",
        description="frames without light, which are combined and subtracted",
    )
    factor: Scaling = Field(
        "one",
        title="Factor",
        description="one, or the exposure of the sample by that of the frames",
    )


def exposure_ratio(context: StepContext, frames: Frames, role: str) -> float:
    """Return the sample's exposure by that of frames. Raises StepError when one is not stated."""
    if not context.exposure:
        raise StepError(
            f"Sample “{context.sample_name}” states no exposure, so the {role} cannot be scaled "
            "by it; use the factor 1."
        )
    return context.exposure / context.sources.exposure(frames, role)


@step(
    "frames.dark",
    title="Dark frame",
    family="Frames",
    parameters=DarkFrame,
    linear=True,
    reach=0,
    order=200,
)
def subtract_dark(plane: Plane, parameters: DarkFrame, context: StepContext) -> Plane:
    """Return `plane` minus the dark frame.

        out[y, x] = plane[y, x] − factor · dark[y, x]

    plane : shape (height, width), native units; a pixel undefined in either is undefined.
    Raises FramesMissing, FrameMismatch (which frame, which size or depth), StepError.
    """
    dark = context.sources.frames(parameters.dark, "dark frame", plane)
    factor = 1.0
    if parameters.factor == "exposure":
        factor = exposure_ratio(context, parameters.dark, "dark frame")
    values = plane.as_float()
    context.record(factor=factor, frames=len(parameters.dark.files))
    return plane.with_pixels(values - values.dtype.type(factor) * dark.pixels, None)

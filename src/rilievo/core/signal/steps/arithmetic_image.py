"""Arithmetic with another image: a channel of the sample, or files; several into one; matching."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.calibration_frames import Frames, ImageFile, combined
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.robust_statistics import median_and_mad_sigma, some_of
from rilievo.core.signal.steps.step import StepContext, StepParameters, step, without_infinities


class WithImage(StepParameters):
    """Add, subtract, multiply or divide by another channel, sample or frame."""

    in_words: ClassVar[str] = (
        "Another image, times {factor}, was applied ({operation}; channel {other_channel}, "
        "files {files})"
    )

    operation: Literal["add", "subtract", "multiply", "divide", "minimum", "maximum"] = Field(
        "subtract",
        title="Operation",
        description="add, subtract, multiply or divide by the other image",
    )
    other_channel: str | None = Field(
        None,
        max_length=200,
        title="Channel",
        description="of the same sample, as it stands before this step",
        json_schema_extra={"channel": True},
    )
    files: Frames = Field(
        default_factory=Frames,
        title="Or files",
        description="samples or frames as they stand in their files, when no channel is chosen",
    )
    factor: float = Field(
        1.0,
        title="Times",
        json_schema_extra={"step": 0.1},
        description="the other image is multiplied by it before",
    )

    def channels_read(self) -> tuple[str, ...]:
        """Return the other channel."""
        return () if self.other_channel is None else (self.other_channel,)


def _keeps_proportions(parameters: WithImage) -> bool:
    """A frame may multiply or divide; two channels of light multiplied or divided are no light."""
    if parameters.operation in ("multiply", "divide"):
        return parameters.other_channel is None
    return parameters.operation in ("add", "subtract")


@step(
    "arithmetic.image",
    title="Arithmetic with an image",
    family="Arithmetic",
    parameters=WithImage,
    linear=_keeps_proportions,
    reach=0,
    constant=lambda p: 1.0 if p.operation in ("add", "subtract") else None,
    order=60,
)
def with_image(plane: Plane, parameters: WithImage, context: StepContext) -> Plane:
    """Return v + f·o, v − f·o, v · f·o, v / (f·o), or the smaller or larger of v and f·o.

    o is the other image, f the factor; a division by 0 is undefined, and so is a pixel that is
    undefined in either. Raises StepError, FramesMissing, FrameMismatch.
    """
    values = plane.as_float()
    if parameters.other_channel is not None:
        other = context.sources.channel(parameters.other_channel)
        if other.shape != plane.shape:
            raise StepError(
                f"The channel “{parameters.other_channel}” of sample “{context.sample_name}” has "
                "another size; choose another channel."
            )
    else:
        other = context.sources.frames(parameters.files, "image", plane)
    scaled = other.as_float() * values.dtype.type(parameters.factor)
    work = {
        "add": np.add,
        "subtract": np.subtract,
        "multiply": np.multiply,
        "divide": np.true_divide,
        "minimum": np.minimum,
        "maximum": np.maximum,
    }[parameters.operation]
    with np.errstate(all="ignore"):
        result = np.asarray(work(values, scaled))
    return plane.with_pixels(without_infinities(result), None)


class Combination(StepParameters):
    """Put several channels, samples or pages together into one."""

    in_words: ClassVar[str] = (
        "Several images were put together into one by their {way} (channels {channels}, files"
        " {files})"
    )

    way: Literal["mean", "median", "sum"] = Field(
        "mean", title="Put together by", description="how the images become one"
    )
    channels: tuple[str, ...] = Field(
        (),
        max_length=200,
        title="Channels",
        description="of the same sample, with this one",
        json_schema_extra={"channel": True},
    )
    files: Frames = Field(default_factory=Frames, title="Files", description="with this sample")

    def channels_read(self) -> tuple[str, ...]:
        """Return the channels that are put together."""
        return self.channels


@step(
    "arithmetic.combine",
    title="Several images into one",
    family="Arithmetic",
    parameters=Combination,
    linear=True,
    reach=0,
    constant=None,
    order=70,
)
def combine(plane: Plane, parameters: Combination, context: StepContext) -> Plane:
    """Return the mean, median or sum of this plane and the others, pixel by pixel.

    A pixel undefined here stays undefined; one undefined elsewhere is left out there.
    """
    values = plane.as_float()
    planes: list[FloatPixels] = [values]
    for name in parameters.channels:
        if name != context.channel:
            planes.append(_same_size(context.sources.channel(name), plane, name, context))
    for file in parameters.files.files:
        frame = Frames(files=(file,))
        planes.append(context.sources.frames(frame, "image", plane).as_float())
    context.record(images=len(planes))
    result = combined(planes, parameters.way)
    if np.isnan(values).any():
        result = np.where(np.isnan(values), values.dtype.type(np.nan), result)
    return plane.with_pixels(without_infinities(result), None)


def _same_size(other: Plane, plane: Plane, name: str, context: StepContext) -> FloatPixels:
    if other.shape != plane.shape:
        raise StepError(
            f"The channel “{name}” of sample “{context.sample_name}” has another size; leave it "
            "out."
        )
    return other.as_float()


class Matching(StepParameters):
    """Bring level and spread to those of a reference sample."""

    in_words: ClassVar[str] = (
        "Levels were matched to those of {reference} (spread matched too: {spread})"
    )

    reference: ImageFile | None = Field(
        None, title="Reference", description="a sample of the same kind; its steps up to here count"
    )
    spread: bool = Field(
        True, title="Match the spread too", description="otherwise only the level is moved"
    )


@step(
    "arithmetic.match",
    title="Match to a reference sample",
    family="Arithmetic",
    parameters=Matching,
    linear=True,
    reach=None,
    constant=None,
    order=80,
)
def match(plane: Plane, parameters: Matching, context: StepContext) -> Plane:
    """Return factor · v + offset, so that median and robust sigma are those of the reference.

        factor = σ(reference) / σ(plane), offset = median(reference) − factor · median(plane)

    σ is 1.4826 · median absolute deviation. Raises FramesMissing, StepError for a plane without
    spread.
    """
    other = context.sources.reference(parameters.reference, "reference sample")
    values = plane.as_float()
    middle, sigma = median_and_mad_sigma(some_of(values))
    target, wanted_sigma = median_and_mad_sigma(some_of(other.as_float()))
    factor = 1.0
    if parameters.spread:
        if not (sigma > 0 and wanted_sigma > 0):
            raise StepError(
                f"Sample “{context.sample_name}” or its reference has no spread to match; match "
                "the level alone."
            )
        factor = wanted_sigma / sigma
    offset = target - factor * middle
    context.record(factor=factor, offset=offset)
    kind = values.dtype.type
    return plane.with_pixels(values * kind(factor) + kind(offset), None)

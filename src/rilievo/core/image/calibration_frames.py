"""Frames: images beside the samples (dark, flat, reference), named by file and averaged."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.parameters import Parameters
from rilievo.core.tiled_map import in_pieces

MOST_FRAMES = 200
Combine = Literal["mean", "median", "clipped"]
# What is further from the median of the frames than this is left out of a clipped mean.
_CLIP = 3.0
_ROWS = 64


class FramesMissing(StepError):
    """The step has no frames yet."""


class FrameMismatch(StepError):
    """A frame does not fit the picture: another size, depth or channel."""


class ImageFile(Parameters):
    """An image in a file. Method files give the path relative to their own folder.

    image : which image of a file that holds several of different size.
    """

    file: str = Field(
        min_length=1,
        max_length=4000,
        pattern=r"^[^\x00]*$",
        title="File",
        description="path, relative to the method file",
    )
    image: int = Field(0, ge=0, title="Image", description="which image of the file, from 0")


class Frames(Parameters):
    """Files that are averaged pixel by pixel into one frame."""

    files: tuple[ImageFile, ...] = Field(
        (),
        max_length=MOST_FRAMES,
        title="Files",
        description="the image files; several are combined",
    )
    combine: Combine = Field(
        "median",
        title="Averaged by",
        description="clipped is the mean without what is over 3 robust sigmas from the median",
    )


def combined(planes: Sequence[NDArray[Any]], how: Combine | Literal["sum"]) -> FloatPixels:
    """Return several planes as one, pixel by pixel; undefined pixels are left out.

    planes : float arrays of one shape (height, width). A pixel that is undefined in all stays so.
    how : "clipped" is the mean of what lies within 3 robust sigmas (1.4826 · MAD) of the median,
    "sum" the mean of the defined pixels times the number of planes.
    """
    first = planes[0]
    if len(planes) == 1:
        return np.asarray(first)
    result = np.empty(first.shape, np.result_type(*planes))

    def work(top: int) -> None:
        rows = slice(top, top + _ROWS)
        stack = np.stack([plane[rows] for plane in planes]).astype(np.float64)
        result[rows] = _combined(stack, how)

    in_pieces(work, range(0, first.shape[0], _ROWS), values=first.size)
    return result


def _combined(stack: NDArray[np.float64], how: str) -> NDArray[np.float64]:
    defined = np.isfinite(stack)
    whole = bool(defined.all())
    if how == "median":
        return np.asarray(np.median(stack, axis=0) if whole else _median(stack, defined))
    if how == "clipped":
        middle = np.median(stack, axis=0) if whole else _median(stack, defined)
        away = np.abs(stack - middle)
        sigma = 1.4826 * (np.median(away, axis=0) if whole else _median(away, defined))
        # Frames that agree to the last digit have no spread to judge by.
        defined &= (away <= _CLIP * sigma) | (sigma == 0)
        whole = False
    if whole:
        mean = stack.mean(axis=0)
    else:
        count = defined.sum(axis=0)
        total = np.where(defined, stack, 0).sum(axis=0)
        mean = total / np.where(count, count, np.nan)
    return np.asarray(mean * len(stack) if how == "sum" else mean)


def _median(stack: NDArray[np.float64], defined: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Median over the first axis of what is defined, NaN where nothing is."""
    ordered = np.sort(np.where(defined, stack, np.inf), axis=0)
    count = defined.sum(axis=0)
    low = np.take_along_axis(ordered, np.maximum(count - 1, 0)[None] // 2, axis=0)[0]
    high = np.take_along_axis(ordered, np.minimum(count // 2, len(stack) - 1)[None], axis=0)[0]
    return np.where(count > 0, 0.5 * (low + high), np.nan)


def check_fits(frame: Plane, like: Plane, *, file: str, role: str, sample: str) -> None:
    """Raise FrameMismatch when a frame has another size or depth than the picture."""
    if frame.shape != like.shape:
        raise FrameMismatch(
            f"The {role} “{file}” is {frame.shape[1]}×{frame.shape[0]} pixels, but sample "
            f"“{sample}” is {like.shape[1]}×{like.shape[0]} here; choose frames of the same size, "
            "or put the step before what crops or bins."
        )
    # A camera of 12 bits may be stated in one file and not in the other; both fill 16.
    depths = _stored_bytes(frame), _stored_bytes(like)
    if None not in depths and depths[0] != depths[1]:
        raise FrameMismatch(
            f"The {role} “{file}” has values from {_range(frame)}, but sample “{sample}” from "
            f"{_range(like)}; choose frames of the same depth."
        )


def _stored_bytes(plane: Plane) -> int | None:
    """How many bytes its integers need; None for floats, which fit everything."""
    return None if plane.type_range is None else math.ceil(math.log2(plane.type_range[1] + 1) / 8)


def _range(plane: Plane) -> str:
    low, high = plane.type_range or (0.0, 0.0)
    return f"{low:g} to {high:g}"


def frame_channel(channels: dict[str, Plane], channel: str, *, file: str, role: str) -> Plane:
    """Return the channel of a frame that belongs to a channel of the sample.

    That of the same name, or the only one. Raises FrameMismatch.
    """
    if channel in channels:
        return channels[channel]
    if len(channels) == 1:
        return next(iter(channels.values()))
    raise FrameMismatch(
        f"The {role} “{file}” has no channel “{channel}”, only {', '.join(channels)}; choose "
        "another file, or apply the step to other channels."
    )

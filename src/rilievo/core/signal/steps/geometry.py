"""Moving pixels: crop, bin, turn, flip, shift. Native values and positions follow."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.image import Placement, Plane, working_dtype
from rilievo.core.parameters import Rectangle
from rilievo.core.signal.steps.step import CanvasTool, StepContext, StepParameters, moving_step
from rilievo.core.signal.steps.transform import Pixels, Transform


class Crop(StepParameters):
    """Keep a rectangle of the picture."""

    canvas_tool: ClassVar[CanvasTool | None] = CanvasTool("rectangle", "rectangle", "crop")

    in_words: ClassVar[str] = "Pictures were cropped to {rectangle}"

    rectangle: Rectangle | None = Field(
        None,
        title="Rectangle",
        description="drawn on the picture",
        json_schema_extra={"drawn": True},
    )


@moving_step("geometry.crop", title="Crop", parameters=Crop, resizes=True, order=230)
def crop(plane: Plane, parameters: Crop, context: StepContext) -> Transform:
    """Return the part inside the rectangle; what lies outside the picture is left out.

    Raises StepError when no pixel of the picture lies inside.
    """
    if parameters.rectangle is None:
        return _unmoved()
    rows, columns = parameters.rectangle.slices(plane.shape)
    if rows.stop <= rows.start or columns.stop <= columns.start:
        raise StepError(
            f"The crop lies outside of sample “{context.sample_name}”; move its rectangle onto "
            "the picture."
        )

    def move(pixels: NDArray[Any]) -> NDArray[Any]:
        return pixels[rows, columns]

    return Transform(move, move, (1, 0, -columns.start, 0, 1, -rows.start))


def _unmoved() -> Transform:
    return Transform(lambda pixels: pixels, lambda mask: mask, (1, 0, 0, 0, 1, 0))


class Bin(StepParameters):
    """Take squares of pixels together."""

    in_words: ClassVar[str] = "Squares of {size} × {size} pixels were binned by their {way}"

    size: int = Field(
        2, ge=1, le=64, title="Side", description="of a square", json_schema_extra={"unit": "px"}
    )
    way: Literal["mean", "sum"] = Field(
        "mean",
        title="Take together by",
        description="what a square of pixels becomes: their mean or their sum",
    )


@moving_step("geometry.bin", title="Bin", parameters=Bin, resizes=True, order=240)
def bin_pixels(plane: Plane, parameters: Bin, context: StepContext) -> Transform:
    """Return the mean or sum of n × n pixels; rows and columns that fill no square are left out.

    A square with an undefined pixel: the mean of the others, and for a sum that mean times n².
    A square counts as saturated if any of its pixels is. Raises StepError if none fits.
    """
    n = parameters.size
    height, width = plane.shape[0] // n, plane.shape[1] // n
    if not height or not width:
        raise StepError(
            f"Sample “{context.sample_name}” is smaller than {n}×{n} pixels; bin fewer."
        )

    def squares(pixels: NDArray[Any]) -> NDArray[Any]:
        return pixels[: height * n, : width * n].reshape(height, n, width, n)

    def move(pixels: Pixels) -> Pixels:
        kind = working_dtype(pixels.dtype)
        blocks = squares(pixels).astype(kind, copy=False)
        factor = n * n if parameters.way == "sum" else 1
        if pixels.dtype.kind != "f" or np.isfinite(blocks).all():
            return np.asarray(blocks.mean(axis=(1, 3), dtype=np.float64) * factor, dtype=kind)
        defined = np.isfinite(blocks)
        total = np.where(defined, blocks, 0).sum(axis=(1, 3), dtype=np.float64)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(total / defined.sum(axis=(1, 3)) * factor, dtype=kind)

    middle = (1 - n) / (2 * n)
    return Transform(
        move,
        lambda mask: np.asarray(squares(mask).any(axis=(1, 3))),
        (1 / n, 0, middle, 0, 1 / n, middle),
        pixel_scale=n,
        value_scale=n * n if parameters.way == "sum" else 1,
        keeps_values=n == 1,
    )


class Turn(StepParameters):
    """Turn by quarters."""

    in_words: ClassVar[str] = "Pictures were turned by {quarters} quarter turns"

    quarters: Literal[1, 2, 3] = Field(
        1, title="Quarter turns", description="clockwise as the rows are stored"
    )


@moving_step("geometry.turn", title="Turn", parameters=Turn, resizes=True, order=250)
def turn(plane: Plane, parameters: Turn, context: StepContext) -> Transform:  # noqa: ARG001
    """Return the plane turned clockwise, rows counted downwards."""
    height, width = plane.shape
    placement: Placement = {
        1: (0, -1, height - 1, 1, 0, 0),
        2: (-1, 0, width - 1, 0, -1, height - 1),
        3: (0, 1, 0, -1, 0, width - 1),
    }[parameters.quarters]

    def move(pixels: NDArray[Any]) -> NDArray[Any]:
        return np.ascontiguousarray(np.rot90(pixels, -parameters.quarters))

    return Transform(move, move, placement)


class Flip(StepParameters):
    """Mirror left to right or top to bottom."""

    in_words: ClassVar[str] = "Pictures were flipped {way}"

    way: Literal["left to right", "top to bottom"] = Field(
        "left to right",
        title="Mirror",
        description="left and right, or top and bottom, change places",
    )


@moving_step("geometry.flip", title="Flip", parameters=Flip, resizes=False, order=260)
def flip(plane: Plane, parameters: Flip, context: StepContext) -> Transform:  # noqa: ARG001
    """Return the mirrored plane."""
    height, width = plane.shape
    across = parameters.way == "left to right"

    def move(pixels: NDArray[Any]) -> NDArray[Any]:
        return np.ascontiguousarray(pixels[:, ::-1] if across else pixels[::-1])

    return Transform(
        move, move, (-1, 0, width - 1, 0, 1, 0) if across else (1, 0, 0, 0, -1, height - 1)
    )


class Shift(StepParameters):
    """Shift by whole pixels; what is uncovered becomes undefined."""

    in_words: ClassVar[str] = "Pictures were shifted by {right} px to the right and {down} px down"

    right: int = Field(
        0,
        ge=-100_000,
        le=100_000,
        title="To the right",
        json_schema_extra={"unit": "px"},
        description="columns by which the image moves; below 0 to the left",
    )
    down: int = Field(
        0,
        ge=-100_000,
        le=100_000,
        title="Down",
        json_schema_extra={"unit": "px"},
        description="rows by which the image moves; below 0 upwards",
    )


def shifted_pixels(pixels: NDArray[Any], down: int, right: int) -> NDArray[Any]:
    """Return an array moved by whole pixels; NaN (False for a mask) where nothing came."""
    height, width = pixels.shape
    mask = pixels.dtype == np.bool_
    kind = pixels.dtype if mask else working_dtype(pixels.dtype)
    result = np.full(pixels.shape, False if mask else np.nan, kind)
    if abs(down) >= height or abs(right) >= width:
        return result
    rows = slice(max(down, 0), height + min(down, 0))
    columns = slice(max(right, 0), width + min(right, 0))
    from_rows = slice(max(-down, 0), height - max(down, 0))
    from_columns = slice(max(-right, 0), width - max(right, 0))
    result[rows, columns] = pixels[from_rows, from_columns]
    return result


def whole_shift(down: int, right: int) -> Transform:
    """Return a shift by whole pixels."""
    if not down and not right:
        return _unmoved()

    def move(pixels: NDArray[Any]) -> NDArray[Any]:
        return shifted_pixels(pixels, down, right)

    return Transform(move, move, (1, 0, right, 0, 1, down))


@moving_step("geometry.shift", title="Shift", parameters=Shift, resizes=False, order=270)
def shift(plane: Plane, parameters: Shift, context: StepContext) -> Transform:  # noqa: ARG001
    """Return the plane with v[y, x] at [y + down, x + right]."""
    return whole_shift(parameters.down, parameters.right)

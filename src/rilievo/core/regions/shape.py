"""What a drawn shape is, in positions of the file, and which pixels of a picture it covers.

A shape covers a pixel if the pixel's centre lies inside it; of the boundary the left and top
edges count as inside. x grows to the right, y downwards, (0, 0) is the centre of the first pixel.
"""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image.image import UNMOVED, Placement, placed, unplaced
from rilievo.core.parameters import Parameters

Floats = NDArray[np.float64]
Mask = NDArray[np.bool_]
Point = tuple[float, float]
Box = tuple[float, float, float, float]

MOST_POINTS = 100_000
Length = Annotated[float, Field(gt=0, le=1e6)]
Position = Annotated[float, Field(ge=-1e7, le=1e7)]


class Shape(Parameters):
    """Base of all shapes."""

    def contains(self, x: Floats, y: Floats) -> Mask:
        """Return which positions of the file lie inside."""
        raise NotImplementedError

    def box(self) -> Box:
        """Return left, top, right, bottom of the shape."""
        raise NotImplementedError

    def moved(self, right: float, down: float) -> Shape:
        """Return the shape shifted by pixels."""
        raise NotImplementedError

    def grown(self, by: float) -> Shape:
        """Return the shape larger by so many pixels on each side; smaller for a negative number."""
        raise NotImplementedError

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> Shape:
        """Return the shape mirrored at x = middle (left to right), or at y = middle."""
        raise NotImplementedError

    @property
    def centre(self) -> Point:
        """The middle of its box."""
        left, top, right, bottom = self.box()
        return (left + right) / 2, (top + bottom) / 2


class TurnedShape(Shape):
    """A shape with a centre, a width and a height, turned counter-clockwise as seen on screen."""

    x: Position = Field(title="x", description="centre, px", json_schema_extra={"unit": "px"})
    y: Position = Field(title="y", description="centre, px", json_schema_extra={"unit": "px"})
    width: Length = Field(
        title="Width", description="whole width, px", json_schema_extra={"unit": "px"}
    )
    height: Length = Field(
        title="Height", description="whole height, px", json_schema_extra={"unit": "px"}
    )
    angle: float = Field(
        0.0,
        ge=-360,
        le=360,
        title="Angle",
        description="counter-clockwise",
        json_schema_extra={"unit": "°"},
    )

    def _own(self, x: Floats, y: Floats) -> tuple[Floats, Floats]:
        """Positions along width and height, from the centre."""
        turn = math.radians(self.angle)
        right, down = x - self.x, y - self.y
        cos, sin = math.cos(turn), math.sin(turn)
        return right * cos - down * sin, right * sin + down * cos

    def corners(self) -> list[Point]:
        """Return the corners of the turned box, in order."""
        turn = math.radians(self.angle)
        cos, sin = math.cos(turn), math.sin(turn)
        half = self.width / 2, self.height / 2
        return [
            (self.x + u * cos + v * sin, self.y - u * sin + v * cos)
            for u, v in (
                (-half[0], -half[1]),
                (half[0], -half[1]),
                (half[0], half[1]),
                (-half[0], half[1]),
            )
        ]

    def box(self) -> Box:
        return box_of(self.corners())

    def moved(self, right: float, down: float) -> TurnedShape:
        return self.model_copy(update={"x": self.x + right, "y": self.y + down})

    def grown(self, by: float) -> TurnedShape:
        width, height = max(self.width + 2 * by, 1e-3), max(self.height + 2 * by, 1e-3)
        return self.model_copy(update={"width": width, "height": height})

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> TurnedShape:
        there = {"x": 2 * middle - self.x} if axis == "x" else {"y": 2 * middle - self.y}
        return self.model_copy(update={**there, "angle": -self.angle})


def box_of(points: Any) -> Box:
    """Return left, top, right, bottom of points (x, y)."""
    xs, ys = [p[0] for p in points], [p[1] for p in points]
    return min(xs), min(ys), max(xs), max(ys)


def covered(
    shape: Shape, size: tuple[int, int], placement: Placement = UNMOVED
) -> tuple[slice, slice, Mask]:
    """Return which pixels of a picture a shape covers: rows, columns, and the mask of that part.

    size : height and width of the picture. placement : how positions of the file become positions
    of the picture; a pixel is covered where its centre, taken back to the file, lies inside.
    """
    left, top, right, bottom = shape.box()
    corners = [placed(placement, x, y) for x in (left, right) for y in (top, bottom)]
    low_x, low_y, high_x, high_y = box_of(corners)
    columns = _within(low_x, high_x, size[1])
    rows = _within(low_y, high_y, size[0])
    if columns.stop <= columns.start or rows.stop <= rows.start:
        return slice(0, 0), slice(0, 0), np.zeros((0, 0), np.bool_)
    x = np.arange(columns.start, columns.stop, dtype=np.float64)[None, :]
    y = np.arange(rows.start, rows.stop, dtype=np.float64)[:, None]
    if placement != UNMOVED:
        x, y = unplaced(placement, x, y)  # type: ignore[arg-type, assignment]
    part = rows.stop - rows.start, columns.stop - columns.start
    return rows, columns, np.broadcast_to(shape.contains(x, y), part)


def _within(low: float, high: float, size: int) -> slice:
    return slice(min(max(math.floor(low), 0), size), max(min(math.ceil(high) + 1, size), 0))

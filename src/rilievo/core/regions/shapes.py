"""Shapes with an outline: rectangle, ellipse, polygon, line, ring, and a grid of cells."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from rilievo.core.regions.pixel_shapes import FloodShape, StencilShape
from rilievo.core.regions.shape import (
    MOST_POINTS,
    Box,
    Floats,
    Length,
    Mask,
    Position,
    Shape,
    TurnedShape,
    box_of,
)


class RectangleShape(TurnedShape):
    """A rectangle, possibly turned."""

    kind: Literal["rectangle"] = Field("rectangle", description="names the shape")

    def contains(self, x: Floats, y: Floats) -> Mask:
        u, v = self._own(x, y)
        wide, high = self.width / 2, self.height / 2
        return np.asarray((u >= -wide) & (u < wide) & (v >= -high) & (v < high))


class EllipseShape(TurnedShape):
    """An ellipse or a circle, possibly turned."""

    kind: Literal["ellipse"] = Field("ellipse", description="names the shape")

    def contains(self, x: Floats, y: Floats) -> Mask:
        u, v = self._own(x, y)
        away = (2 * u / self.width) ** 2 + (2 * v / self.height) ** 2
        edge = (u < 0) | ((u == 0) & (v < 0))
        return np.asarray((away < 1) | ((away == 1) & edge))


class PolygonShape(Shape):
    """A closed line through points, by the even–odd rule; also an outline drawn freely."""

    kind: Literal["polygon"] = Field("polygon", description="names the shape")
    points: tuple[tuple[Position, Position], ...] = Field(
        min_length=3, max_length=MOST_POINTS, description="corners, px"
    )

    def contains(self, x: Floats, y: Floats) -> Mask:
        inside = np.zeros(np.broadcast(x, y).shape, np.bool_)
        ends = (*self.points[1:], self.points[0])
        for (x0, y0), (x1, y1) in zip(self.points, ends, strict=True):
            if y0 == y1:
                continue
            spans = (min(y0, y1) <= y) & (y < max(y0, y1))
            inside ^= spans & (x < x0 + (y - y0) / (y1 - y0) * (x1 - x0))
        return inside

    def box(self) -> Box:
        return box_of(self.points)

    def moved(self, right: float, down: float) -> PolygonShape:
        return PolygonShape(points=tuple((x + right, y + down) for x, y in self.points))

    def grown(self, by: float) -> PolygonShape:
        """Move each point outwards along the middle of its two edges' normals."""
        points = np.array(self.points)
        after, before = np.roll(points, -1, axis=0), np.roll(points, 1, axis=0)
        area = float(np.sum(points[:, 0] * after[:, 1] - after[:, 0] * points[:, 1]))
        edges = [after - points, points - before]
        normals = sum(
            np.stack([e[:, 1], -e[:, 0]], axis=1)
            / np.maximum(np.hypot(e[:, 0], e[:, 1]), 1e-12)[:, None]
            for e in edges
        )
        square = np.maximum((normals**2).sum(axis=1), 1e-6)
        # Both edges move by the same distance; at sharp points not farther than thrice that.
        step = normals * np.minimum(2.0 / square, 3.0)[:, None]
        moved = points + step * math.copysign(by, by * area)
        return PolygonShape(points=tuple((float(x), float(y)) for x, y in moved))

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> PolygonShape:
        flipped = [
            (2 * middle - x, y) if axis == "x" else (x, 2 * middle - y) for x, y in self.points
        ]
        return PolygonShape(points=tuple(flipped))


class LineShape(Shape):
    """A straight line with a width; its ends cover the pixels whose centres they are."""

    kind: Literal["line"] = Field("line", description="names the shape")
    x0: Position = Field(title="From x", json_schema_extra={"unit": "px"}, description="start, px")
    y0: Position = Field(title="From y", json_schema_extra={"unit": "px"}, description="start, px")
    x1: Position = Field(title="To x", json_schema_extra={"unit": "px"}, description="end, px")
    y1: Position = Field(title="To y", json_schema_extra={"unit": "px"}, description="end, px")
    width: Length = Field(
        1.0,
        title="Width",
        json_schema_extra={"unit": "px"},
        description="width across the line, px",
    )

    @property
    def length(self) -> float:
        """From end to end."""
        return math.hypot(self.x1 - self.x0, self.y1 - self.y0)

    def as_rectangle(self) -> RectangleShape:
        """Return the rectangle it covers: half a pixel longer at both ends."""
        right, down = self.x1 - self.x0, self.y1 - self.y0
        return RectangleShape(
            x=(self.x0 + self.x1) / 2,
            y=(self.y0 + self.y1) / 2,
            width=self.length + 1,
            height=self.width,
            angle=-math.degrees(math.atan2(down, right)),
        )

    def contains(self, x: Floats, y: Floats) -> Mask:
        return self.as_rectangle().contains(x, y)

    def box(self) -> Box:
        return self.as_rectangle().box()

    def moved(self, right: float, down: float) -> LineShape:
        return self.model_copy(
            update={
                "x0": self.x0 + right,
                "x1": self.x1 + right,
                "y0": self.y0 + down,
                "y1": self.y1 + down,
            }
        )

    def grown(self, by: float) -> LineShape:
        return self.model_copy(update={"width": max(self.width + 2 * by, 1e-3)})

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> LineShape:
        names = ("x0", "x1") if axis == "x" else ("y0", "y1")
        return self.model_copy(update={n: 2 * middle - getattr(self, n) for n in names})


class RingShape(Shape):
    """What lies between two circles; a point with a radius where the inner one is 0."""

    kind: Literal["ring"] = Field("ring", description="names the shape")
    x: Position = Field(title="x", json_schema_extra={"unit": "px"}, description="centre, px")
    y: Position = Field(title="y", json_schema_extra={"unit": "px"}, description="centre, px")
    inner: float = Field(
        0.0,
        ge=0,
        le=1e6,
        title="Inner radius",
        json_schema_extra={"unit": "px"},
        description="px; 0 makes a disc",
    )
    outer: Length = Field(title="Outer radius", json_schema_extra={"unit": "px"}, description="px")

    @model_validator(mode="after")
    def _ordered(self) -> RingShape:
        if self.inner >= self.outer:
            raise ValueError("has an inner radius that is not below its outer radius")
        return self

    def contains(self, x: Floats, y: Floats) -> Mask:
        away = (x - self.x) ** 2 + (y - self.y) ** 2
        return np.asarray((away >= self.inner**2) & (away < self.outer**2))

    def box(self) -> Box:
        r = self.outer
        return self.x - r, self.y - r, self.x + r, self.y + r

    def moved(self, right: float, down: float) -> RingShape:
        return self.model_copy(update={"x": self.x + right, "y": self.y + down})

    def grown(self, by: float) -> RingShape:
        outer = max(self.outer + by, 1e-3)
        return self.model_copy(update={"outer": outer, "inner": min(self.inner, outer * 0.999)})

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> RingShape:
        there = {"x": 2 * middle - self.x} if axis == "x" else {"y": 2 * middle - self.y}
        return self.model_copy(update=there)


class GridShape(Shape):
    """Rows and columns of equal circles or rectangles, placed by the centres of three corners.

    first is the first cell, across the last of the first row, down the first of the last row.
    names : one a cell, row by row. shifts : index of the cell from 0 → how far it is moved.
    """

    kind: Literal["grid"] = Field("grid", description="names the shape")
    rows: int = Field(ge=1, le=500, title="Rows", description="number of rows")
    columns: int = Field(ge=1, le=500, title="Columns", description="number of columns")
    first: tuple[Position, Position] = Field(
        title="First cell", description="centre of the first cell"
    )
    across: tuple[Position, Position] = Field(
        title="Last of the first row", description="centre of the last cell of the first row"
    )
    down: tuple[Position, Position] = Field(
        title="First of the last row", description="centre of the first cell of the last row"
    )
    cell: Literal["ellipse", "rectangle"] = Field(
        "ellipse", title="Cells", description="form of each cell"
    )
    width: Length = Field(
        title="Cell width",
        json_schema_extra={"unit": "px"},
        description="whole width of a cell, px",
    )
    height: Length = Field(
        title="Cell height",
        json_schema_extra={"unit": "px"},
        description="whole height of a cell, px",
    )
    names: tuple[str, ...] = Field(
        (), max_length=250_000, title="Names", description="names of the cells, row by row"
    )
    shifts: dict[int, tuple[Position, Position]] = Field(
        default_factory=dict, description="cells that were moved, by their number from 0"
    )

    def cells(self) -> list[RectangleShape | EllipseShape]:
        """Return all cells, row by row."""
        make = EllipseShape if self.cell == "ellipse" else RectangleShape
        right = [b - a for a, b in zip(self.first, self.across, strict=True)]
        down = [b - a for a, b in zip(self.first, self.down, strict=True)]
        angle = -math.degrees(math.atan2(right[1], right[0])) if self.columns > 1 else 0.0
        result = []
        for position in range(self.rows * self.columns):
            row, column = divmod(position, self.columns)
            i, k = row / max(self.rows - 1, 1), column / max(self.columns - 1, 1)
            dx, dy = self.shifts.get(position, (0.0, 0.0))
            result.append(
                make(
                    x=self.first[0] + k * right[0] + i * down[0] + dx,
                    y=self.first[1] + k * right[1] + i * down[1] + dy,
                    width=self.width,
                    height=self.height,
                    angle=angle,
                )
            )
        return result

    def name_of(self, position: int) -> str:
        """Return the name of a cell, by default row letter and column number."""
        if position < len(self.names) and self.names[position]:
            return self.names[position]
        row, column = divmod(position, self.columns)
        letters = ""
        while row >= 0:
            letters = chr(ord("A") + row % 26) + letters
            row = row // 26 - 1
        return f"{letters}{column + 1}"

    def contains(self, x: Floats, y: Floats) -> Mask:
        inside = np.zeros(np.broadcast(x, y).shape, np.bool_)
        for one in self.cells():
            inside |= one.contains(x, y)
        return inside

    def box(self) -> Box:
        boxes = np.array([one.box() for one in self.cells()])
        low, high = boxes.min(axis=0), boxes.max(axis=0)
        return float(low[0]), float(low[1]), float(high[2]), float(high[3])

    def moved(self, right: float, down: float) -> GridShape:
        return self._with_corners(lambda p: (p[0] + right, p[1] + down))

    def grown(self, by: float) -> GridShape:
        width, height = max(self.width + 2 * by, 1e-3), max(self.height + 2 * by, 1e-3)
        return self.model_copy(update={"width": width, "height": height})

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> GridShape:
        if axis == "x":
            return self._with_corners(lambda p: (2 * middle - p[0], p[1]))
        return self._with_corners(lambda p: (p[0], 2 * middle - p[1]))

    def _with_corners(self, change: Any) -> GridShape:
        corners = {name: change(getattr(self, name)) for name in ("first", "across", "down")}
        return self.model_copy(update=corners)


AnyShape = Annotated[
    RectangleShape
    | EllipseShape
    | PolygonShape
    | LineShape
    | RingShape
    | StencilShape
    | FloodShape
    | GridShape,
    Field(discriminator="kind"),
]

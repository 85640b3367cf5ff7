"""Drawn shapes in positions of the file: which pixels they cover, and how they are changed.

A shape covers a pixel if the pixel's centre lies inside it; of the boundary the left and top
edges count as inside. x grows to the right, y downwards, (0, 0) is the centre of the first pixel.
"""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator, model_validator

from rilievo.core.image.image import UNMOVED, Placement, placed, unplaced
from rilievo.core.parameters import Parameters

Floats = NDArray[np.float64]
Mask = NDArray[np.bool_]
Point = tuple[float, float]
Box = tuple[float, float, float, float]

MOST_POINTS = 100_000
_MOST_PIXELS = 1_000_000_000
_Length = Annotated[float, Field(gt=0, le=1e6)]
_Position = Annotated[float, Field(ge=-1e7, le=1e7)]


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


class _Turned(Shape):
    """A shape with a centre, a width and a height, turned counter-clockwise as seen on screen."""

    x: _Position = Field(title="x", description="centre, px", json_schema_extra={"unit": "px"})
    y: _Position = Field(title="y", description="centre, px", json_schema_extra={"unit": "px"})
    width: _Length = Field(
        title="Width", description="whole width, px", json_schema_extra={"unit": "px"}
    )
    height: _Length = Field(
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
        return _box_of(self.corners())

    def moved(self, right: float, down: float) -> _Turned:
        return self.model_copy(update={"x": self.x + right, "y": self.y + down})

    def grown(self, by: float) -> _Turned:
        width, height = max(self.width + 2 * by, 1e-3), max(self.height + 2 * by, 1e-3)
        return self.model_copy(update={"width": width, "height": height})

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> _Turned:
        there = {"x": 2 * middle - self.x} if axis == "x" else {"y": 2 * middle - self.y}
        return self.model_copy(update={**there, "angle": -self.angle})


class RectangleShape(_Turned):
    """A rectangle, possibly turned."""

    kind: Literal["rectangle"] = Field("rectangle", description="names the shape")

    def contains(self, x: Floats, y: Floats) -> Mask:
        u, v = self._own(x, y)
        wide, high = self.width / 2, self.height / 2
        return np.asarray((u >= -wide) & (u < wide) & (v >= -high) & (v < high))


class EllipseShape(_Turned):
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
    points: tuple[tuple[_Position, _Position], ...] = Field(
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
        return _box_of(self.points)

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
    x0: _Position = Field(title="From x", json_schema_extra={"unit": "px"}, description="start, px")
    y0: _Position = Field(title="From y", json_schema_extra={"unit": "px"}, description="start, px")
    x1: _Position = Field(title="To x", json_schema_extra={"unit": "px"}, description="end, px")
    y1: _Position = Field(title="To y", json_schema_extra={"unit": "px"}, description="end, px")
    width: _Length = Field(
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
    x: _Position = Field(title="x", json_schema_extra={"unit": "px"}, description="centre, px")
    y: _Position = Field(title="y", json_schema_extra={"unit": "px"}, description="centre, px")
    inner: float = Field(
        0.0,
        ge=0,
        le=1e6,
        title="Inner radius",
        json_schema_extra={"unit": "px"},
        description="px; 0 makes a disc",
    )
    outer: _Length = Field(title="Outer radius", json_schema_extra={"unit": "px"}, description="px")

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


class StencilShape(Shape):
    """Any set of pixels, row by row: painted with a brush, or a region as it was."""

    kind: Literal["stencil"] = Field("stencil", description="names the shape")
    rows: tuple[tuple[int, int, int], ...] = Field(
        min_length=1, max_length=MOST_POINTS, description="y, first x, last x of each stretch"
    )

    @field_validator("rows")
    @classmethod
    def _not_too_far(
        cls, rows: tuple[tuple[int, int, int], ...]
    ) -> tuple[tuple[int, int, int], ...]:
        if any(first > last for _, first, last in rows):
            raise ValueError("has a stretch that ends before it begins")
        wide = max(row[2] for row in rows) - min(row[1] for row in rows) + 1
        high = max(row[0] for row in rows) - min(row[0] for row in rows) + 1
        if wide * high > _MOST_PIXELS:
            raise ValueError(f"reaches over {wide} × {high} pixels, more than a picture has")
        return rows

    @classmethod
    def of(cls, mask: Mask, x: int = 0, y: int = 0) -> StencilShape:
        """Return the pixels of a mask whose first pixel lies at (x, y); it must have some."""
        padded = np.zeros((mask.shape[0], mask.shape[1] + 2), np.int8)
        padded[:, 1:-1] = mask
        steps = np.diff(padded, axis=1)
        rows, starts = np.nonzero(steps == 1)
        ends = np.nonzero(steps == -1)[1] - 1
        return cls(
            rows=tuple(
                (int(r) + y, int(a) + x, int(b) + x)
                for r, a, b in zip(rows, starts, ends, strict=True)
            )
        )

    def mask(self) -> tuple[Mask, int, int]:
        """Return its pixels as a mask, with the position of the mask's first pixel."""
        left = min(row[1] for row in self.rows)
        top = min(row[0] for row in self.rows)
        wide = max(row[2] for row in self.rows) - left + 1
        mask = np.zeros((max(row[0] for row in self.rows) - top + 1, wide), np.bool_)
        for y, first, last in self.rows:
            mask[y - top, first - left : last - left + 1] = True
        return mask, left, top

    @property
    def area(self) -> int:
        """Number of pixels."""
        return sum(last - first + 1 for _, first, last in self.rows)

    def contains(self, x: Floats, y: Floats) -> Mask:
        mask, left, top = self.mask()
        columns = np.floor(x + 0.5).astype(np.int64) - left
        rows = np.floor(y + 0.5).astype(np.int64) - top
        columns, rows = np.broadcast_arrays(columns, rows)
        within = (columns >= 0) & (rows >= 0)
        within &= (columns < mask.shape[1]) & (rows < mask.shape[0])
        result = np.zeros(columns.shape, np.bool_)
        result[within] = mask[rows[within], columns[within]]
        return result

    def box(self) -> Box:
        rows = np.array(self.rows)
        low, high = rows.min(axis=0), rows.max(axis=0)
        return low[1] - 0.5, low[0] - 0.5, high[2] + 0.5, high[0] + 0.5

    def moved(self, right: float, down: float) -> StencilShape:
        dx, dy = round(right), round(down)
        return StencilShape(rows=tuple((y + dy, a + dx, b + dx) for y, a, b in self.rows))

    def grown(self, by: float) -> StencilShape:
        from rilievo.core.regions.binary_morphology import eroded, grown  # noqa: PLC0415 (imports this)

        mask, left, top = self.mask()
        room = max(1, math.ceil(abs(by)))
        labels = np.pad(mask, room).astype(np.int32)
        changed = grown(labels, by) if by >= 0 else eroded(labels, -by)
        return StencilShape.of(changed > 0, left - room, top - room) if changed.any() else self

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> StencilShape:
        twice = round(2 * middle)
        rows = [
            (y, twice - b, twice - a) if axis == "x" else (twice - y, a, b) for y, a, b in self.rows
        ]
        return StencilShape(rows=tuple(sorted(rows)))


class FloodShape(Shape):
    """Pixels like a clicked one: what it covers depends on the picture, see `drawn`."""

    kind: Literal["flood"] = Field("flood", description="names the shape")
    x: int = Field(title="x", json_schema_extra={"unit": "px"}, description="first pixel")
    y: int = Field(title="y", json_schema_extra={"unit": "px"}, description="first pixel")
    tolerance: float = Field(
        ge=0,
        title="Tolerance",
        json_schema_extra={"unit": "signal"},
        description="largest difference from the value of the first pixel",
    )
    connected: bool = Field(
        True,
        title="Connected only",
        description="whether only pixels that hang together with the first are taken",
    )

    def contains(self, x: Floats, y: Floats) -> Mask:
        return np.asarray((np.round(x) == self.x) & (np.round(y) == self.y))

    def box(self) -> Box:
        return self.x - 0.5, self.y - 0.5, self.x + 0.5, self.y + 0.5

    def moved(self, right: float, down: float) -> FloodShape:
        return self.model_copy(update={"x": self.x + round(right), "y": self.y + round(down)})

    def grown(self, by: float) -> FloodShape:
        return self.model_copy(update={"tolerance": max(self.tolerance + by, 0.0)})

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> FloodShape:
        there = {"x": round(2 * middle) - self.x} if axis == "x" else {
            "y": round(2 * middle) - self.y
        }  # fmt: skip
        return self.model_copy(update=there)


class GridShape(Shape):
    """Rows and columns of equal circles or rectangles, placed by the centres of three corners.

    first is the first cell, across the last of the first row, down the first of the last row.
    names : one a cell, row by row. shifts : index of the cell from 0 → how far it is moved.
    """

    kind: Literal["grid"] = Field("grid", description="names the shape")
    rows: int = Field(ge=1, le=500, title="Rows", description="number of rows")
    columns: int = Field(ge=1, le=500, title="Columns", description="number of columns")
    first: tuple[_Position, _Position] = Field(
        title="First cell", description="centre of the first cell"
    )
    across: tuple[_Position, _Position] = Field(
        title="Last of the first row", description="centre of the last cell of the first row"
    )
    down: tuple[_Position, _Position] = Field(
        title="First of the last row", description="centre of the first cell of the last row"
    )
    cell: Literal["ellipse", "rectangle"] = Field(
        "ellipse", title="Cells", description="form of each cell"
    )
    width: _Length = Field(
        title="Cell width",
        json_schema_extra={"unit": "px"},
        description="whole width of a cell, px",
    )
    height: _Length = Field(
        title="Cell height",
        json_schema_extra={"unit": "px"},
        description="whole height of a cell, px",
    )
    names: tuple[str, ...] = Field(
        (), max_length=250_000, title="Names", description="names of the cells, row by row"
    )
    shifts: dict[int, tuple[_Position, _Position]] = Field(
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


def _box_of(points: Any) -> Box:
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
    low_x, low_y, high_x, high_y = _box_of(corners)
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

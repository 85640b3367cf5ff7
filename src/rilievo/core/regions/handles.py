"""Points by which a drawn shape is taken hold of, what dragging one does, and its outline."""

from __future__ import annotations

import math
from collections.abc import Sequence

from rilievo.core.regions.contours import mask_outlines
from rilievo.core.regions.pixel_shapes import StencilShape
from rilievo.core.regions.shape import Point, Shape
from rilievo.core.regions.shapes import (
    EllipseShape,
    GridShape,
    LineShape,
    PolygonShape,
    RectangleShape,
    RingShape,
)

Handle = tuple[str, Point]
# So many corners can be dragged; more are an outline drawn freely, which is moved or redrawn.
MOST_CORNERS = 60
_TURN_BY = 12.0
_LEAST = 1.0


def handles(shape: Shape, away: float = _TURN_BY) -> list[Handle]:
    """Return the name and position of each handle. away : of the one that turns, from the edge."""
    if isinstance(shape, RectangleShape | EllipseShape):
        corners = shape.corners()
        middle = [(a + b) / 2 for a, b in zip(corners[0], corners[1], strict=True)]
        turn = math.radians(shape.angle)
        up = middle[0] - away * math.sin(turn), middle[1] - away * math.cos(turn)
        return [*((f"corner {k}", at) for k, at in enumerate(corners)), ("turn", up)]
    if isinstance(shape, PolygonShape):
        few = len(shape.points) <= MOST_CORNERS
        return [(f"point {k}", at) for k, at in enumerate(shape.points)] if few else []
    if isinstance(shape, LineShape):
        return [("start", (shape.x0, shape.y0)), ("end", (shape.x1, shape.y1))]
    if isinstance(shape, RingShape):
        found = [("outer", (shape.x + shape.outer, shape.y))]
        if shape.inner > 0:
            found.append(("inner", (shape.x + shape.inner, shape.y)))
        return found
    if isinstance(shape, GridShape):
        found = [("first", shape.first)]
        if shape.columns > 1:
            found.append(("across", shape.across))
        if shape.rows > 1:
            found.append(("down", shape.down))
        return found
    return []


def dragged(shape: Shape, handle: str, to: Point) -> Shape:  # noqa: PLR0911 (one a shape)
    """Return the shape after a handle was dragged; sides stay at least a pixel long."""
    if isinstance(shape, RectangleShape | EllipseShape):
        return _turned(shape, to) if handle == "turn" else _corner(shape, handle, to)
    if isinstance(shape, PolygonShape):
        points = list(shape.points)
        points[int(handle.removeprefix("point "))] = to
        return PolygonShape(points=tuple(points))
    if isinstance(shape, LineShape):
        names = ("x0", "y0") if handle == "start" else ("x1", "y1")
        return shape.model_copy(update=dict(zip(names, to, strict=True)))
    if isinstance(shape, RingShape):
        away = math.hypot(to[0] - shape.x, to[1] - shape.y)
        if handle == "inner":
            return shape.model_copy(update={"inner": min(away, shape.outer - 0.5)})
        return shape.model_copy(update={"outer": max(away, shape.inner + 0.5)})
    if isinstance(shape, GridShape):
        return shape.model_copy(update={handle: to})
    return shape


def _corner(
    shape: RectangleShape | EllipseShape, handle: str, to: Point
) -> RectangleShape | EllipseShape:
    """The opposite corner stays where it is."""
    fixed = shape.corners()[(int(handle.removeprefix("corner ")) + 2) % 4]
    turn = math.radians(shape.angle)
    right, down = to[0] - fixed[0], to[1] - fixed[1]
    along = right * math.cos(turn) - down * math.sin(turn)
    across = right * math.sin(turn) + down * math.cos(turn)
    return shape.model_copy(
        update={
            "x": (to[0] + fixed[0]) / 2,
            "y": (to[1] + fixed[1]) / 2,
            "width": max(abs(along), _LEAST),
            "height": max(abs(across), _LEAST),
        }
    )


def _turned(shape: RectangleShape | EllipseShape, to: Point) -> RectangleShape | EllipseShape:
    angle = -math.degrees(math.atan2(to[0] - shape.x, shape.y - to[1]))
    return shape.model_copy(update={"angle": angle})


def shifted_cell(grid: GridShape, cell: int, right: float, down: float) -> GridShape:
    """Return the grid with one cell moved by itself."""
    dx, dy = grid.shifts.get(cell, (0.0, 0.0))
    return grid.model_copy(update={"shifts": {**grid.shifts, cell: (dx + right, dy + down)}})


def outline_points(shape: Shape) -> list[Sequence[Point]]:  # noqa: PLR0911 (one a shape)
    """Return the shape's closed outlines as points, for drawing; a flood has none."""
    if isinstance(shape, EllipseShape):
        return [_around(shape)]
    if isinstance(shape, RectangleShape):
        return [shape.corners()]
    if isinstance(shape, PolygonShape):
        return [shape.points]
    if isinstance(shape, LineShape):
        return [shape.as_rectangle().corners()]
    if isinstance(shape, RingShape):
        radii = [shape.outer, *([shape.inner] if shape.inner > 0 else [])]
        return [
            _around(EllipseShape(x=shape.x, y=shape.y, width=2 * r, height=2 * r)) for r in radii
        ]
    if isinstance(shape, GridShape):
        return [points for cell in shape.cells() for points in outline_points(cell)]
    if isinstance(shape, StencilShape):
        mask, left, top = shape.mask()
        return list(mask_outlines(mask, left, top))
    return []


def _around(shape: EllipseShape, steps: int = 72) -> list[Point]:
    turn = math.radians(shape.angle)
    cos, sin = math.cos(turn), math.sin(turn)
    points = []
    for k in range(steps):
        t = 2 * math.pi * k / steps
        u, v = shape.width / 2 * math.cos(t), shape.height / 2 * math.sin(t)
        points.append((shape.x + u * cos + v * sin, shape.y - u * sin + v * cos))
    return points

"""The tools that draw regions, cut them, and pick pixels for a threshold.

Each builds a shape in positions of the file and hands it over to the region editor.
"""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter

from rilievo.core.image.image import placed, unplaced
from rilievo.core.regions.handles import dragged, handles, shifted_cell
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
from rilievo.ui.canvas.canvas_context import CanvasContext
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.shape_painting import paint_handles, paint_shape
from rilievo.ui.canvas.tools import PictureTool

_NEAR = 9.0
_LEAST_SIDE = 1.0
# Points of an outline drawn freely lie at least so far apart, in image pixels.
_POINT_EVERY = 0.7


class _ShapeTool(PictureTool):
    """Keeps the shape that is under way, and where the drag began."""

    name = ""

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self.start: Point | None = None
        self.shape: Shape | None = None

    def position(self, geometry: Geometry, at: QPointF) -> Point:
        """Return the position of the file under the pointer."""
        image = geometry.to_image(at)
        return self.canvas.editor.drawn.to_file(image.x(), image.y())

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self.start = self.position(geometry, at)

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self.start is not None:
            even = bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
            self.shape = self.made(self.start, self.position(geometry, at), even)

    def release(self, geometry: Geometry, at: QPointF) -> None:
        shape, self.shape, self.start = self.shape, None, None
        if shape is not None:
            self.canvas.editor.take(self.name, shape)

    def made(self, start: Point, end: Point, even: bool) -> Shape | None:
        """Return the shape of a drag; `even` makes it a square, a circle, or straight."""
        return None

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        if self.shape is not None:
            paint_shape(painter, geometry, self.shape, self.canvas.editor.drawn.placement)


def _boxed(start: Point, end: Point, even: bool) -> dict[str, float] | None:
    right, down = end[0] - start[0], end[1] - start[1]
    if even:
        side = max(abs(right), abs(down))
        right, down = math.copysign(side, right), math.copysign(side, down)
    if abs(right) < _LEAST_SIDE or abs(down) < _LEAST_SIDE:
        return None
    return {
        "x": start[0] + right / 2,
        "y": start[1] + down / 2,
        "width": abs(right),
        "height": abs(down),
    }


class RectangleTool(_ShapeTool):
    """Drags a rectangle from corner to corner; its edges lie between pixels."""

    name = "rectangle"

    def made(self, start: Point, end: Point, even: bool) -> Shape | None:
        # Edges on the border of pixels: what is drawn covers whole pixels.
        edges = [(round(p[0] + 0.5) - 0.5, round(p[1] + 0.5) - 0.5) for p in (start, end)]
        box = _boxed(edges[0], edges[1], even)
        return RectangleShape(**box) if box is not None else None


class EllipseTool(_ShapeTool):
    """Drags an ellipse within a box; with Shift a circle."""

    name = "ellipse"

    def made(self, start: Point, end: Point, even: bool) -> Shape | None:
        box = _boxed(start, end, even)
        return EllipseShape(**box) if box is not None else None


class TurnedTool(_ShapeTool):
    """Drags the middle line of a turned rectangle; its width is set by the handles."""

    name = "turned"

    def made(self, start: Point, end: Point, even: bool) -> Shape | None:
        length = math.hypot(end[0] - start[0], end[1] - start[1])
        if length < _LEAST_SIDE:
            return None
        return RectangleShape(
            x=(start[0] + end[0]) / 2,
            y=(start[1] + end[1]) / 2,
            width=length,
            height=max(length / 3, 3.0),
            angle=-math.degrees(math.atan2(end[1] - start[1], end[0] - start[0])),
        )


class LineRegionTool(_ShapeTool):
    """Drags a line, with the width of the numbers beside it."""

    name = "band line"

    def made(self, start: Point, end: Point, even: bool) -> Shape | None:
        if math.hypot(end[0] - start[0], end[1] - start[1]) < _LEAST_SIDE:
            return None
        return LineShape(
            x0=start[0],
            y0=start[1],
            x1=end[0],
            y1=end[1],
            width=self.canvas.editor.drawn.line_width,
        )


class CutTool(LineRegionTool):
    """Drags a line across regions, which parts them."""

    name = "cut"


class PointTool(_ShapeTool):
    """Sets a disc of the set radius where one clicks; a drag gives it another radius."""

    name = "disc"
    inner = 0.0

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        super().press(geometry, at, modifiers)
        if self.start is not None:
            self.shape = self._round(self.start, self.canvas.editor.drawn.radius)

    def _round(self, centre: Point, radius: float) -> Shape:
        centre = (round(centre[0]), round(centre[1]))
        return RingShape(
            x=centre[0], y=centre[1], outer=max(radius, 0.6), inner=self.inner * max(radius, 0.6)
        )

    def made(self, start: Point, end: Point, even: bool) -> Shape | None:
        away = math.hypot(end[0] - start[0], end[1] - start[1])
        return self._round(start, away if away >= 2 else self.canvas.editor.drawn.radius)


class RingTool(PointTool):
    """Sets a ring, its inner radius 0.7 of the outer; handles and numbers change both."""

    name = "ring"
    inner = 0.7


class StampTool(_ShapeTool):
    """Sets the last shape down again where one clicks."""

    name = "stamp"

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        super().press(geometry, at, modifiers)
        stamp = self.canvas.editor.drawn.stamp
        if stamp is not None and self.start is not None:
            x, y = stamp.centre
            self.shape = stamp.moved(round(self.start[0] - x), round(self.start[1] - y))


class FreehandTool(_ShapeTool):
    """Draws an outline freely; it closes itself."""

    name = "freehand"

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self._points: list[Point] = []

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        super().press(geometry, at, modifiers)
        self._points = [self.position(geometry, at)]

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self.start is None:
            return
        here = self.position(geometry, at)
        if math.dist(here, self._points[-1]) >= _POINT_EVERY:
            self._points.append(here)
        if len(self._points) > 2:
            self.shape = PolygonShape(points=tuple(self._points))


class RedrawTool(FreehandTool):
    """Draws the outline of the selected region anew."""

    name = "redraw"


class PolygonTool(_ShapeTool):
    """Sets a corner with each click; a click on the first one, or a double click, closes it."""

    name = "polygon"

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self.points: list[Point] = []
        self._here: Point | None = None

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        here = self.position(geometry, at)
        if len(self.points) > 2:
            first = geometry.to_widget(*self.canvas.editor.drawn.from_file(*self.points[0]))
            if math.hypot(first.x() - at.x(), first.y() - at.y()) <= _NEAR:
                self.close()
                return
        self.points.append(here)
        self._here = here

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self._here = self.position(geometry, at)

    hover = move

    def release(self, geometry: Geometry, at: QPointF) -> None:
        """A corner stays until the polygon is closed."""

    def close(self) -> None:
        """Finish the polygon; fewer than three corners are forgotten."""
        points, self.points = self.points, []
        distinct = [p for k, p in enumerate(points) if k == 0 or math.dist(p, points[k - 1]) > 0.01]
        if len(distinct) > 2:
            self.canvas.editor.take(self.name, PolygonShape(points=tuple(distinct)))

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        points = [*self.points, *([self._here] if self._here and self.points else [])]
        if len(points) > 2:
            paint_shape(
                painter,
                geometry,
                PolygonShape(points=tuple(points)),
                self.canvas.editor.drawn.placement,
            )
        paint_handles(
            painter, geometry, [(f"{k}", p) for k, p in enumerate(self.points)],
            self.canvas.editor.drawn.placement,
        )  # fmt: skip


class GridTool(_ShapeTool):
    """Three clicks: the first cell, the last of its row, the first of the last row."""

    name = "grid"

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self.corners: list[Point] = []

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self.corners.append(self.position(geometry, at))
        pattern = self.canvas.editor.drawn.grid
        wanted = 1 + (pattern.columns > 1) + (pattern.rows > 1)
        self.shape = self._grid(self.corners)
        if len(self.corners) >= wanted:
            corners, self.corners, shape = self.corners, [], self.shape
            self.shape = None
            if corners and shape is not None:
                self.canvas.editor.take(self.name, shape)

    def _grid(self, corners: list[Point]) -> GridShape:
        pattern = self.canvas.editor.drawn.grid
        first = corners[0]
        rest = list(corners[1:])
        across = rest.pop(0) if pattern.columns > 1 and rest else first
        down = rest.pop(0) if pattern.rows > 1 and rest else first
        return pattern.model_copy(update={"first": first, "across": across, "down": down})

    def hover(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """Show the grid as it would be with the corner here."""
        if self.corners:
            self.shape = self._grid([*self.corners, self.position(geometry, at)])

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self.hover(geometry, at, modifiers)

    def release(self, geometry: Geometry, at: QPointF) -> None:
        """Corners stay until all are set."""


class BrushTool(_ShapeTool):
    """Paints pixels; with Ctrl it takes them away. Goes on with the selected painted region."""

    name = "brush"

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self._pixels: set[tuple[int, int]] = set()
        self._last: Point | None = None
        self._taking = False

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self.start = self._last = self.position(geometry, at)
        self._taking = bool(modifiers & Qt.KeyboardModifier.ControlModifier)
        painted = self.canvas.editor.drawn.painted
        self._pixels = set()
        if painted is not None:
            self._pixels = {(x, y) for y, a, b in painted.rows for x in range(a, b + 1)}
        self._dab(self.start)

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self._last is None or self.start is None:
            return
        here = self.position(geometry, at)
        steps = max(1, math.ceil(math.dist(here, self._last)))
        for k in range(1, steps + 1):
            share = k / steps
            self._dab(
                (
                    self._last[0] + share * (here[0] - self._last[0]),
                    self._last[1] + share * (here[1] - self._last[1]),
                )
            )
        self._last = here

    def _dab(self, at: Point) -> None:
        radius = self.canvas.editor.drawn.radius
        reach = math.ceil(radius)
        x0, y0 = round(at[0]), round(at[1])
        for y in range(y0 - reach, y0 + reach + 1):
            for x in range(x0 - reach, x0 + reach + 1):
                if (x - at[0]) ** 2 + (y - at[1]) ** 2 <= max(radius, 0.71) ** 2:
                    (self._pixels.discard if self._taking else self._pixels.add)((x, y))
        self.shape = self._stencil()

    def _stencil(self) -> StencilShape | None:
        if not self._pixels:
            return None
        positions = np.array(sorted(self._pixels))
        left, top = positions.min(axis=0)
        wide, high = positions.max(axis=0) - (left, top) + 1
        mask = np.zeros((high, wide), np.bool_)
        mask[positions[:, 1] - top, positions[:, 0] - left] = True
        return StencilShape.of(mask, int(left), int(top))


class _ClickTool(_ShapeTool):
    """Takes the pixel that is clicked."""

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if geometry.to_pixel(at) is not None:
            x, y = self.position(geometry, at)
            self.canvas.editor.click(self.name, round(x), round(y))


class FloodTool(_ClickTool):
    """Floods from the clicked pixel."""

    name = "flood"


class PickInsideTool(_ClickTool):
    """Picks pixels that belong to the objects."""

    name = "pick_inside"


class PickOutsideTool(_ClickTool):
    """Picks pixels that do not belong to them."""

    name = "pick_outside"


class EditTool(_ShapeTool):
    """Takes hold of the selected drawn region: by a handle, or anywhere inside to move it."""

    name = "edit"

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self._handle = ""
        self._cell: int | None = None

    def position(self, geometry: Geometry, at: QPointF) -> Point:
        image = geometry.to_image(at)
        return unplaced(self.canvas.editor.drawn.shape_placement, image.x(), image.y())

    def taken(self, geometry: Geometry, at: QPointF) -> bool:
        """Whether a press here takes hold of the selected shape."""
        found = self.canvas.editor.drawn.selected_shape
        if found is None:
            return False
        shape, self._cell = found
        self._handle = ""
        for name, position in handles(shape, 18 / geometry.scale):
            there = geometry.to_widget(*placed(self.canvas.editor.drawn.shape_placement, *position))
            if math.hypot(there.x() - at.x(), there.y() - at.y()) <= _NEAR:
                self._handle, self._cell = name, None
                return True
        x, y = self.position(geometry, at)
        inside = shape.contains(np.array([[x]]), np.array([[y]]))
        return bool(inside[0, 0])

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        found = self.canvas.editor.drawn.selected_shape
        if found is None or self.start is None:
            return
        shape, here = found[0], self.position(geometry, at)
        right, down = here[0] - self.start[0], here[1] - self.start[1]
        if self._handle:
            self.shape = dragged(shape, self._handle, here)
        elif (
            isinstance(shape, GridShape)
            and self._cell is not None
            and not (modifiers & Qt.KeyboardModifier.ShiftModifier)
        ):
            # A cell by itself; with Shift the whole grid.
            self.shape = shifted_cell(shape, self._cell, right, down)
        else:
            self.shape = shape.moved(round(right), round(down))

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        found = self.canvas.editor.drawn.selected_shape
        shape = self.shape or (found[0] if found is not None else None)
        if shape is not None:
            paint_shape(painter, geometry, shape, self.canvas.editor.drawn.shape_placement)
            paint_handles(
                painter,
                geometry,
                handles(shape, 18 / geometry.scale),
                self.canvas.editor.drawn.shape_placement,
            )


DRAWING = {
    tool.name: tool
    for tool in (
        RectangleTool, EllipseTool, TurnedTool, PolygonTool, FreehandTool, BrushTool,
        LineRegionTool, PointTool, RingTool, FloodTool, GridTool, StampTool, CutTool, RedrawTool,
        PickInsideTool, PickOutsideTool,
    )
}  # fmt: skip

"""What the pointer does on the picture: pick, line, length, zoom, repair, background patch.

A tool gets image positions, and says through the canvas's signals what was done with it.
"""

from __future__ import annotations

import math
from typing import ClassVar

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter

from rilievo.core.image.line_profile import Line
from rilievo.core.parameters import Rectangle
from rilievo.ui.canvas.canvas_context import CanvasContext
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.overlays import paint_box, paint_line
from rilievo.ui.session.view_settings import Tool

_NEAR = 9.0
_LARGEST_REPAIR = 51


class PictureTool:
    """Base: nothing happens."""

    cursor: ClassVar[Qt.CursorShape] = Qt.CursorShape.CrossCursor

    def __init__(self, canvas: CanvasContext) -> None:
        self.canvas = canvas

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """The button goes down."""

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """The pointer moves with the button down."""

    def release(self, geometry: Geometry, at: QPointF) -> None:
        """The button comes up."""

    def hover(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """The pointer moves with no button down."""

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        """Draw what is under way."""


class PickTool(PictureTool):
    """Pins a reading where one clicks."""

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        pixel = geometry.to_pixel(at)
        if pixel is not None:
            self.canvas.signals.pick_wanted.emit(*pixel)


class _Dragged(PictureTool):
    """Keeps where a drag began and is."""

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self.start: QPointF | None = None
        self.end: QPointF | None = None

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self.start = self.end = geometry.to_image(at)

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self.start is None:
            return
        self.end = geometry.to_image(at)
        if modifiers & Qt.KeyboardModifier.ShiftModifier:
            self.end = _straightened(self.start, self.end)

    def taken(self) -> tuple[QPointF, QPointF] | None:
        """Return both ends and forget them."""
        start, end, self.start, self.end = self.start, self.end, None, None
        return None if start is None or end is None else (start, end)


class LineTool(_Dragged):
    """Draws the line of the profile, or moves one of its ends, or all of it."""

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self._moved: Line | None = None
        self._fixed: QPointF | None = None

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        super().press(geometry, at, modifiers)
        line = self.canvas.line
        self._moved = self._fixed = None
        if line is None:
            return
        ends = [QPointF(line.x0, line.y0), QPointF(line.x1, line.y1)]
        away = [_distance(geometry.to_widget(e.x(), e.y()), at) for e in ends]
        if min(away) <= _NEAR:
            # The other end stays where it is.
            self._fixed = ends[1 - away.index(min(away))]
        elif _beside(geometry, line, at) <= _NEAR:
            self._moved = line

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self.start is None:
            return
        if self._moved is not None:
            step = geometry.to_image(at) - self.start
            line = self._moved
            self.canvas.signals.line_drawn.emit(
                line.x0 + step.x(), line.y0 + step.y(), line.x1 + step.x(), line.y1 + step.y()
            )
            return
        super().move(geometry, at, modifiers)
        start = self._fixed or self.start
        if self.end is None:
            return
        end = self.end
        if self._fixed is not None and modifiers & Qt.KeyboardModifier.ShiftModifier:
            end = _straightened(self._fixed, geometry.to_image(at))
        if _distance(start, end) >= 1:
            # Ends lie on pixel centres, so that the values at them are pixels' own.
            self.canvas.signals.line_drawn.emit(
                round(start.x()), round(start.y()), round(end.x()), round(end.y())
            )

    def release(self, geometry: Geometry, at: QPointF) -> None:
        self.taken()


class LengthTool(_Dragged):
    """Draws a line over a known length, for the pixel size."""

    def release(self, geometry: Geometry, at: QPointF) -> None:
        taken = self.taken()
        if taken is not None and _distance(*taken) >= 1:
            away = taken[1] - taken[0]
            self.canvas.signals.length_drawn.emit(abs(away.x()), abs(away.y()))

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        if self.start is not None and self.end is not None:
            line = Line(x0=self.start.x(), y0=self.start.y(), x1=self.end.x(), y1=self.end.y())
            paint_line(painter, geometry, line, f"{line.length:.1f} px")


class ZoomTool(_Dragged):
    """Zooms to a box."""

    def release(self, geometry: Geometry, at: QPointF) -> None:
        taken = self.taken()
        if taken is not None:
            box = QRectF(*taken).normalized()
            if box.width() >= 1 and box.height() >= 1:
                self.canvas.zoom_to_box(box)
            self.canvas.signals.tool_done.emit()

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        if self.start is not None and self.end is not None:
            first = geometry.to_widget(self.start.x(), self.start.y())
            last = geometry.to_widget(self.end.x(), self.end.y())
            paint_box(painter, QRectF(first, last).normalized())


class RepairTool(_Dragged):
    """Replaces a pixel, or a small patch that is dragged."""

    def _patch(self, geometry: Geometry) -> Rectangle | None:
        if self.start is None or self.end is None:
            return None
        x0, x1 = sorted((round(self.start.x()), round(self.end.x())))
        y0, y1 = sorted((round(self.start.y()), round(self.end.y())))
        height, width = geometry.shape
        x0, y0, x1, y1 = max(x0, 0), max(y0, 0), min(x1, width - 1), min(y1, height - 1)
        if x1 < x0 or y1 < y0:
            return None
        return Rectangle(
            x=x0,
            y=y0,
            width=min(x1 - x0 + 1, _LARGEST_REPAIR),
            height=min(y1 - y0 + 1, _LARGEST_REPAIR),
        )

    def release(self, geometry: Geometry, at: QPointF) -> None:
        patch = self._patch(geometry)
        self.taken()
        if patch is not None:
            self.canvas.signals.repair_wanted.emit(patch)

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        patch = self._patch(geometry)
        if patch is not None:
            paint_box(painter, geometry.box_of(patch))


class PatchTool(PictureTool):
    """Draws a patch anew from a corner, or with Shift one more; moves one that is taken hold of."""

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        self._corner: tuple[int, int] | None = None
        self._position = -1
        self.drawn: Rectangle | None = None

    def shown(self) -> list[Rectangle]:
        """Return the patches as they would be if the drag ended now."""
        patches = list(self.canvas.patches)
        if self.drawn is None:
            return patches
        if self._position >= 0:
            patches[self._position] = self.drawn
            return patches
        return [*patches, self.drawn] if self._position == -2 else [self.drawn]

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        pixel = geometry.to_pixel(at)
        self._corner = pixel
        self._position = -2 if modifiers & Qt.KeyboardModifier.ShiftModifier else -1
        if pixel is None:
            return
        for position, patch in enumerate(self.canvas.patches):
            inside = (
                patch.x <= pixel[0] < patch.x + patch.width
                and patch.y <= pixel[1] < patch.y + patch.height
            )
            if inside:
                self._position = position

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self._corner is None:
            return
        (x, y), (x0, y0) = geometry.nearest_pixel(at), self._corner
        if self._position < 0:
            self.drawn = Rectangle(
                x=min(x, x0), y=min(y, y0), width=abs(x - x0) + 1, height=abs(y - y0) + 1
            )
            return
        patch, (height, width) = self.canvas.patches[self._position], geometry.shape
        self.drawn = Rectangle(
            x=min(max(patch.x + x - x0, 0), max(width - patch.width, 0)),
            y=min(max(patch.y + y - y0, 0), max(height - patch.height, 0)),
            width=patch.width,
            height=patch.height,
        )

    def release(self, geometry: Geometry, at: QPointF) -> None:
        drawn, self.drawn, self._corner = self.drawn, None, None
        if drawn is not None and drawn.width * drawn.height > 1:
            self.canvas.signals.patch_drawn.emit(drawn, self._position)


TOOLS: dict[Tool, type[PictureTool]] = {
    "pick": PickTool,
    "line": LineTool,
    "length": LengthTool,
    "zoom": ZoomTool,
    "repair": RepairTool,
}


def _distance(a: QPointF, b: QPointF) -> float:
    return math.hypot(a.x() - b.x(), a.y() - b.y())


def _straightened(start: QPointF, end: QPointF) -> QPointF:
    """The end on the nearest of the eight main directions."""
    angle = math.atan2(end.y() - start.y(), end.x() - start.x())
    turned = round(angle / (math.pi / 4)) * math.pi / 4
    length = _distance(start, end) * math.cos(angle - turned)
    return QPointF(start.x() + length * math.cos(turned), start.y() + length * math.sin(turned))


def _beside(geometry: Geometry, line: Line, at: QPointF) -> float:
    """Widget distance of a point from a line segment."""
    a, b = geometry.to_widget(line.x0, line.y0), geometry.to_widget(line.x1, line.y1)
    across, down = b.x() - a.x(), b.y() - a.y()
    square = across * across + down * down
    share = 0.0 if square == 0 else ((at.x() - a.x()) * across + (at.y() - a.y()) * down) / square
    share = min(max(share, 0.0), 1.0)
    return _distance(at, QPointF(a.x() + share * across, a.y() + share * down))

"""Marking a card of known patches: four clicks around it, corners that can be dragged."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter

from rilievo.core.errors import StepError
from rilievo.core.image.image import UNMOVED
from rilievo.core.regions.shapes import PolygonShape
from rilievo.core.signal.cards import place_card
from rilievo.ui.canvas.canvas_context import CanvasContext
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.marked_card import MarkedCard, Point
from rilievo.ui.canvas.shape_painting import paint_handles, paint_shape
from rilievo.ui.canvas.tools import PictureTool

_NEAR = 10.0


class CardTool(PictureTool):
    """Clicks set the corners, one after another; a corner that is there is dragged."""

    def __init__(self, canvas: CanvasContext) -> None:
        super().__init__(canvas)
        # Corners that were clicked so far, and of which card.
        self._clicked: list[Point] = []
        self._of: tuple[str, str] | None = None
        self._held: int | None = None
        self._moved: Point | None = None

    def corners(self) -> tuple[Point, ...]:
        """Return the corners as they would be if the drag ended now."""
        card = self.canvas.card
        if card is None:
            return ()
        clicked = self._clicked if self._of == card.of else []
        found = list(card.corners or clicked)
        if self._held is not None and self._moved is not None:
            found[self._held] = self._moved
        return tuple(found)

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        card = self.canvas.card
        if card is None:
            return
        if card.corners:
            self._clicked = []
            away = [math.dist(_pair(geometry.to_widget(*one)), _pair(at)) for one in card.corners]
            nearest = int(np.argmin(away))
            self._held = nearest if away[nearest] <= _NEAR else None
            return
        if self._of != card.of:
            self._clicked, self._of = [], card.of
        self._clicked.append(_pair(geometry.to_image(at)))
        if len(self._clicked) == 4:
            marked, self._clicked = tuple(self._clicked), []
            self.canvas.signals.card_marked.emit(marked)

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self._held is not None:
            self._moved = _pair(geometry.to_image(at))

    def release(self, geometry: Geometry, at: QPointF) -> None:
        moved, corners = self._moved, self.corners()
        self._held = self._moved = None
        if moved is not None:
            self.canvas.signals.card_marked.emit(corners)

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        card, corners = self.canvas.card, self.corners()
        if card is None or not corners:
            return
        outlines = [corners] if len(corners) > 2 else []
        for points in [*outlines, *_patches(card, corners)]:
            paint_shape(painter, geometry, PolygonShape(points=points), UNMOVED)
        # The first corner, where the first patch lies, is round.
        named = [("turn" if k == 0 else "corner", one) for k, one in enumerate(corners)]
        paint_handles(painter, geometry, named, UNMOVED)


def _patches(card: MarkedCard, corners: tuple[Point, ...]) -> list[tuple[Point, ...]]:
    """The outlines of the middles of all patches; none where the corners are no card."""
    layout = card.layout
    if layout is None or len(corners) < 4:
        return []
    try:
        placed = place_card(layout, corners)
    except StepError:
        return []
    return [
        tuple((x, y) for x, y in placed.outline(row, column, card.inner).tolist())
        for row in range(layout.rows)
        for column in range(layout.columns)
    ]


def _pair(at: QPointF) -> Point:
    return at.x(), at.y()

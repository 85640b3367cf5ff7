"""Drawn shapes, their handles, and picks inside and outside, over the picture."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from rilievo.core.image.image import Placement, placed
from rilievo.core.method.class_definition import OutlinePick
from rilievo.core.regions.handles import Handle, outline_points
from rilievo.core.regions.shape import Shape
from rilievo.ui.canvas.canvas_geometry import Geometry

_LIGHT, _DARK = QColor(255, 190, 120), QColor(20, 24, 22, 190)
_INSIDE, _OUTSIDE = QColor(255, 190, 120), QColor(120, 190, 224)


def paint_shape(painter: QPainter, geometry: Geometry, shape: Shape, placement: Placement) -> None:
    """Draw the true outline of a shape, light inside a dark halo."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for points in outline_points(shape):
        polygon = QPolygonF([geometry.to_widget(*placed(placement, x, y)) for x, y in points])
        for pen in (QPen(_DARK, 3), QPen(_LIGHT, 1.3)):
            painter.setPen(pen)
            painter.drawPolygon(polygon)


def paint_handles(
    painter: QPainter, geometry: Geometry, handles: Sequence[Handle], placement: Placement
) -> None:
    """Draw the points by which a shape is taken hold of; the one that turns it is round."""
    for name, position in handles:
        at = geometry.to_widget(*placed(placement, *position))
        box = QRectF(at.x() - 4, at.y() - 4, 8, 8)
        painter.setPen(QPen(_DARK, 1.5))
        painter.setBrush(_LIGHT)
        if name == "turn":
            painter.drawEllipse(box)
        else:
            painter.drawRect(box)


def paint_outline_picks(
    painter: QPainter, geometry: Geometry, picks: Iterable[OutlinePick], placement: Placement
) -> None:
    """Draw picks inside as full dots and outside as rings."""
    for pick in picks:
        at = geometry.to_widget(*placed(placement, pick.x, pick.y))
        painter.setPen(QPen(_DARK, 4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 4.5, 4.5)
        painter.setPen(QPen(_INSIDE if pick.inside else _OUTSIDE, 2))
        painter.setBrush(_INSIDE if pick.inside else Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(at), 4.0, 4.0)

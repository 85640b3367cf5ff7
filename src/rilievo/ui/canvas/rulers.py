"""Rulers along the top and the left edge, in pixels or calibrated units."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from rilievo.core.image.image import Calibration
from rilievo.ui.canvas.canvas_geometry import Geometry, nice_length
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

THICK = 18
_TICK_PIXELS = 90
_POINTER = QColor(255, 190, 120)


def paint_rulers(
    painter: QPainter,
    geometry: Geometry,
    calibration: Calibration,
    pointer: tuple[int, int] | None,
    theme: Theme,
    *,
    count_from_one: bool = False,
) -> None:
    """Draw both rulers with the position of the pointer on them.

    count_from_one : count pixels from 1, upwards where rows are shown bottom up.
    """
    width, height = geometry.size
    ground, ink = theme.colour("ruler"), theme.colour("over_picture")
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(ground)
    painter.drawRect(QRectF(0, 0, width, THICK))
    painter.drawRect(QRectF(0, 0, THICK, height))
    size, high = calibration.sides or (1.0, 1.0)
    unit = calibration.unit if calibration.pixel_size else "px"
    step = nice_length(_TICK_PIXELS / geometry.scale * size * 1.25)
    first = 1 if count_from_one and not calibration.pixel_size else 0
    painter.setFont(text_font(10))
    painter.setPen(QPen(ink, 1))
    for value in _ticks(geometry, size, step, along=True):
        x = geometry.to_widget(value / size, 0).x()
        if x > THICK:
            painter.drawLine(QPointF(x, THICK - 5), QPointF(x, THICK))
            painter.drawText(QPointF(x + 3, THICK - 5), f"{value + first:g}")
    down = nice_length(_TICK_PIXELS / geometry.scale * high * 1.25)
    for value in _ticks(geometry, high, down, along=False):
        y = geometry.to_widget(0, value / high).y()
        if y > THICK + 24:
            painter.drawLine(QPointF(THICK - 5, y), QPointF(THICK, y))
            painter.save()
            painter.translate(THICK - 6, y - 3)
            painter.rotate(-90)
            painter.drawText(QPointF(0, 0), f"{value + first:g}")
            painter.restore()
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(ground)
    painter.drawRect(QRectF(0, 0, THICK + 12, THICK))
    painter.setPen(ink)
    painter.drawText(QRectF(3, 0, THICK + 12, THICK), int(Qt.AlignmentFlag.AlignVCenter), unit)
    if pointer is not None:
        at = geometry.to_widget(*pointer)
        painter.setPen(QPen(_POINTER, 1))
        painter.drawLine(QPointF(at.x(), 0), QPointF(at.x(), THICK))
        painter.drawLine(QPointF(0, at.y()), QPointF(THICK, at.y()))
    painter.setBrush(Qt.BrushStyle.NoBrush)


def _ticks(geometry: Geometry, size: float, step: float, *, along: bool) -> list[float]:
    """Round positions within the image that the widget shows, calibrated."""
    width, height = geometry.size
    ends = [geometry.to_image(QPointF(0, 0)), geometry.to_image(QPointF(width, height))]
    positions = sorted(p.x() if along else p.y() for p in ends)
    length = geometry.shape[1] if along else geometry.shape[0]
    low, high = max(positions[0], 0.0) * size, min(positions[1], length - 1.0) * size
    first = math.ceil(low / step - 1e-9)
    last = math.floor(high / step + 1e-9)
    return [k * step for k in range(first, min(last, first + 200) + 1)]

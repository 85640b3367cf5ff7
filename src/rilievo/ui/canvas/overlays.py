"""What is drawn over the picture: pixel grid, numbers of regions, patch, scale bar, hints.

Lines are light inside a dark halo, so that they can be read on any picture.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QLineF, QPointF, QRect, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QImage, QPainter, QPainterPath, QPen, QPolygonF

from rilievo.core.image.image import UNMOVED, Calibration, Placement, placed
from rilievo.core.image.line_profile import Line
from rilievo.core.image.neighbourhood import covered
from rilievo.core.image.number_scale import NumberScale
from rilievo.core.method.picks import Pick
from rilievo.core.parameters import Rectangle
from rilievo.core.regions.contours import mask_outlines
from rilievo.core.wording.numbers import MINUS
from rilievo.ui.canvas.canvas_geometry import Geometry, nice_length
from rilievo.ui.canvas.number_positions import Position
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

_CENTRE = int(Qt.AlignmentFlag.AlignCenter)
_LIGHT = QColor(250, 236, 208)
_DARK = QColor(20, 24, 22, 170)
_NUMBER, _CHOSEN_NUMBER = QColor(246, 240, 226), QColor(255, 190, 120)
_DARK_TEXT, _LIGHT_TEXT = QColor(30, 34, 32), QColor(226, 222, 210)
_SCALE_BAR_PIXELS = 110


def paint_hint(painter: QPainter, area: QRect, theme: Theme, title: str, text: str) -> None:
    """Say in the middle why there is no picture."""
    painter.setPen(theme.colour("over_picture"))
    area = area.adjusted(60, 0, -60, 0)
    painter.setFont(text_font(18, QFont.Weight.DemiBold))
    painter.drawText(area.adjusted(0, 0, 0, -40), _CENTRE, title)
    painter.setFont(text_font(13))
    flags = int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap)
    painter.drawText(area.adjusted(0, 40, 0, 40), flags, text)


def paint_grid(painter: QPainter, geometry: Geometry) -> None:
    """Draw the edges of single pixels."""
    width, height = geometry.size
    first = geometry.nearest_pixel(QPointF(0, 0))
    last = geometry.nearest_pixel(QPointF(width, height))
    rows = sorted((first[1], last[1]))
    # Gray, so that it shows on black and on white.
    painter.setPen(QPen(QColor(128, 128, 128, 80), 1))
    corner = geometry.to_widget(-0.5, -0.5)
    end = geometry.to_widget(geometry.shape[1] - 0.5, geometry.shape[0] - 0.5)
    across = [geometry.to_widget(x - 0.5, 0).x() for x in range(first[0], last[0] + 2)]
    down = [geometry.to_widget(0, y - 0.5).y() for y in range(rows[0], rows[1] + 2)]
    lines = [QLineF(x, corner.y(), x, end.y()) for x in across]
    lines += [QLineF(corner.x(), y, end.x(), y) for y in down]
    # At once: each call gives way to the threads that compute.
    painter.drawLines(*lines)


def paint_values(
    image: QImage,
    geometry: Geometry,
    pixels: NDArray[Any],
    display: tuple[float, float],
    scale: NumberScale,
) -> None:
    """Write each pixel's number into the picture, dark on light and light on dark.

    pixels : the plane that is shown, whole; only what is in view is read. All numbers have as
    many decimals as the display range makes sensible.
    """
    painter = QPainter(image)
    painter.scale(geometry.ratio, geometry.ratio)
    span = abs(scale.difference(display[1] - display[0]))
    decimals = min(max(0, 2 - math.floor(math.log10(span))), 4) if span > 0 else 0
    width, height = geometry.size
    first = geometry.nearest_pixel(QPointF(0, 0))
    last = geometry.nearest_pixel(QPointF(width, height))
    rows = sorted((first[1], last[1]))
    middle = sum(display) / 2
    painter.setFont(text_font(10))
    half = geometry.scale / 2
    for y in range(rows[0], rows[1] + 1):
        for x in range(first[0], last[0] + 1):
            value = float(pixels[y, x])
            at = geometry.to_widget(x, y)
            box = QRectF(at.x() - half, at.y() - half, 2 * half, 2 * half)
            painter.setPen(_DARK_TEXT if value > middle else _LIGHT_TEXT)
            # Adding zero turns −0 into 0.
            number = f"{round(scale.value(value), decimals) + 0.0:.{decimals}f}"
            text = "–" if math.isnan(value) else number.replace("-", MINUS)
            painter.drawText(box, _CENTRE, text)
    painter.end()


def paint_numbers(
    painter: QPainter, positions: Sequence[Position], chosen: Collection[int]
) -> None:
    """Write each region's number beside it, on a short leader."""
    painter.setFont(text_font(12, QFont.Weight.Medium))
    for position in positions:
        colour = _CHOSEN_NUMBER if position.region in chosen else _NUMBER
        for pen in (QPen(_DARK, 3), QPen(colour, 1)):
            painter.setPen(pen)
            painter.drawLine(QPointF(position.x0, position.y0), QPointF(position.x1, position.y1))
        box = QRectF(position.left, position.top, position.width, position.height)
        painter.setPen(_DARK)
        for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1)):
            painter.drawText(box.translated(dx, dy), _CENTRE, position.text)
        painter.setPen(colour)
        painter.drawText(box, _CENTRE, position.text)


def paint_mark(painter: QPainter, box: NDArray[np.float64], theme: Theme) -> None:
    """Frame a region's box in the widget (left, top, width, height) as one to look at."""
    frame = QRectF(*(float(v) for v in box)).adjusted(-2, -2, 2, 2)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for pen in (QPen(_DARK, 3), QPen(theme.colour("check"), 1.2, Qt.PenStyle.DashLine)):
        painter.setPen(pen)
        painter.drawRect(frame)


def paint_patch(
    painter: QPainter, geometry: Geometry, patch: Rectangle, theme: Theme, label: str = "patch"
) -> None:
    """Draw a rectangle of the open step along the pixels that it covers; label : what it is."""
    box = geometry.box_of(patch)
    painter.setBrush(theme.colour("water", 60))
    for pen in (QPen(_DARK, 3), QPen(_LIGHT, 1.4, Qt.PenStyle.DashLine)):
        painter.setPen(pen)
        painter.drawRect(box)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setFont(text_font(12, QFont.Weight.Medium))
    position = QRectF(box.left(), box.top() - 20, max(box.width(), 120), 18)
    flags = int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    for colour, shift in ((_DARK, 1), (_LIGHT, 0)):
        painter.setPen(colour)
        painter.drawText(position.translated(shift, shift), flags, label)


def paint_neighbourhood(
    painter: QPainter, geometry: Geometry, part: Rectangle, inside: NDArray[np.bool_] | None
) -> None:
    """Outline the pixels around the pointer that are read; `inside` None means the whole part."""
    if inside is None:
        paint_box(painter, geometry.box_of(part))
        return
    path = QPainterPath()
    for polygon in mask_outlines(inside, part.x, part.y):
        path.addPolygon(QPolygonF([geometry.to_widget(x, y) for x, y in polygon]))
        path.closeSubpath()
    _stroke(painter, path)


def paint_box(painter: QPainter, box: QRectF) -> None:
    """Draw a light rectangle with a dark halo."""
    path = QPainterPath()
    path.addRect(box)
    _stroke(painter, path)


def _stroke(painter: QPainter, path: QPainterPath, colour: QColor = _LIGHT) -> None:
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for pen in (QPen(_DARK, 3), QPen(colour, 1.2)):
        painter.setPen(pen)
        painter.drawPath(path)


def paint_line(
    painter: QPainter, geometry: Geometry, line: Line, label: str = "", cursor: float | None = None
) -> None:
    """Draw the line of a profile with its ends, its width, and the cursor of the plot on it.

    cursor : distance from the start in pixels.
    """
    a, b = geometry.to_widget(line.x0, line.y0), geometry.to_widget(line.x1, line.y1)
    path = QPainterPath(a)
    path.lineTo(b)
    if line.width > 1 and line.length > 0:
        half = line.width / 2 * geometry.scale
        along = (b - a) / math.hypot(b.x() - a.x(), b.y() - a.y())
        aside = QPointF(-along.y() * half, along.x() * half)
        band = QPolygonF([a + aside, b + aside, b - aside, a - aside])
        painter.setPen(QPen(_LIGHT, 1, Qt.PenStyle.DotLine))
        painter.setBrush(QColor(250, 236, 208, 30))
        painter.drawPolygon(band)
    _stroke(painter, path)
    painter.setBrush(_LIGHT)
    painter.setPen(QPen(_DARK, 1))
    for end in (a, b):
        painter.drawEllipse(end, 4, 4)
    if cursor is not None and line.length > 0:
        at = a + (b - a) * (cursor / line.length)
        painter.setBrush(_CHOSEN_NUMBER)
        painter.drawEllipse(at, 5, 5)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if label:
        paint_label(painter, b + QPointF(8, -8), label)


def paint_label(painter: QPainter, at: QPointF, text: str, colour: QColor = _NUMBER) -> None:
    """Write a few words beside a point, legible on any picture."""
    painter.setFont(text_font(12, QFont.Weight.Medium))
    painter.setPen(_DARK)
    for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1)):
        painter.drawText(at + QPointF(dx, dy), text)
    painter.setPen(colour)
    painter.drawText(at, text)


def paint_picks(
    painter: QPainter,
    geometry: Geometry,
    picks: Sequence[Pick],
    chosen: Collection[int],
    placement: Placement = UNMOVED,
) -> None:
    """Outline the pixels of each pick, with its number beside it.

    placement : where positions of the file lie in the picture.
    """
    for pick in picks:
        colour = _CHOSEN_NUMBER if pick.number in chosen else _LIGHT
        x, y = (round(v) for v in placed(placement, pick.x, pick.y))
        if not (0 <= x < geometry.shape[1] and 0 <= y < geometry.shape[0]):
            continue
        part, inside = covered(x, y, pick.size, pick.form, geometry.shape)
        path = QPainterPath()
        if inside is None:
            path.addRect(geometry.box_of(part))
        else:
            for polygon in mask_outlines(inside, part.x, part.y):
                path.addPolygon(QPolygonF([geometry.to_widget(x, y) for x, y in polygon]))
                path.closeSubpath()
        at = geometry.to_widget(x, y)
        box = path.boundingRect()
        if box.width() < 12:
            # Too small to see: a cross marks the position.
            for dx, dy in ((8, 0), (-8, 0), (0, 8), (0, -8)):
                path.moveTo(at + QPointF(dx, dy) / 2.4)
                path.lineTo(at + QPointF(dx, dy))
        _stroke(painter, path, colour)
        paint_label(painter, QPointF(box.right() + 5, box.top() + 2), str(pick.number), colour)


def paint_cross(painter: QPainter, at: QPointF) -> None:
    """Draw a cross with an open middle."""
    path = QPainterPath()
    for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
        path.moveTo(at + QPointF(dx, dy) * 4)
        path.lineTo(at + QPointF(dx, dy) * 12)
    _stroke(painter, path)


def paint_split(painter: QPainter, at: float, height: float, names: tuple[str, str]) -> None:
    """Draw the line between two views, its handle, and what is on either side."""
    path = QPainterPath(QPointF(at, 0))
    path.lineTo(at, height)
    _stroke(painter, path)
    painter.setPen(QPen(_DARK, 1))
    painter.setBrush(_LIGHT)
    middle = height / 2
    painter.drawRoundedRect(QRectF(at - 5, middle - 16, 10, 32), 4, 4)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setFont(text_font(12, QFont.Weight.Medium))
    left = painter.fontMetrics().horizontalAdvance(names[0])
    paint_label(painter, QPointF(at - left - 12, height - 16), names[0])
    paint_label(painter, QPointF(at + 12, height - 16), names[1])


def paint_scale_bar(
    painter: QPainter, geometry: Geometry, calibration: Calibration, left: float = 0.0
) -> None:
    """Draw a bar of a round length in calibrated units, or pixels without a calibration."""
    known = calibration.pixel_size is not None
    scale = geometry.scale / (calibration.pixel_size or 1.0)
    length = nice_length(_SCALE_BAR_PIXELS / scale)
    text = f"{length:g} {calibration.unit if known else 'px'}"
    width, bottom = length * scale, geometry.size[1] - 16.0
    left += 16.0
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(20, 24, 22, 120))
    painter.drawRoundedRect(QRectF(left - 8, bottom - 26, width + 16, 34), 4, 4)
    painter.setBrush(QColor(255, 255, 255))
    painter.drawRect(QRectF(left, bottom - 2, width, 3))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QColor(255, 255, 255))
    painter.setFont(text_font(12, QFont.Weight.Medium))
    painter.drawText(QRectF(left - 8, bottom - 24, width + 16, 20), _CENTRE, text)


def paint_tag(painter: QPainter, width: float, theme: Theme, text: str) -> None:
    """Write a word on a flag at the top."""
    box = QRectF(width / 2 - 40, 12, 80, 24)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("accent"))
    painter.drawRoundedRect(box, 4, 4)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(theme.colour("on_accent"))
    painter.setFont(text_font(12, QFont.Weight.DemiBold))
    painter.drawText(box, _CENTRE, text)

"""The navigator: the whole picture small, with the part that is shown framed; drag the frame."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPen

from rilievo.core.view.sampling import Viewport
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.scene import Scene, paint_later
from rilievo.ui.theme.roles import Theme

_LONGER_SIDE = 150
_MARGIN = 14
# Above this share of the picture in view there is nothing to navigate.
_MOST_SHOWN = 0.9


class Navigator:
    """Where the small picture stands, and what a position in it means."""

    def __init__(self, compute: Compute, theme: Theme, changed: Callable[[], None]) -> None:
        """changed : is told when there is something else to paint."""
        self._compute, self._theme, self._changed = compute, theme, changed
        self._shows: object = None
        self.image: QImage | None = None
        self.dragged = False

    def render(self, scene: Scene, geometry: Geometry) -> None:
        """Ask for the small picture, unless it is not wanted or shows this already."""
        view = self.viewport(geometry.shape, geometry.ratio, geometry.view.bottom_up)
        wanted = (scene.looks_like(), view)
        if wanted == self._shows or not self.is_wanted(geometry):
            return

        def done(image: QImage) -> None:
            self.image, self._shows = image, wanted
            self._changed()

        paint_later(self._compute, "navigator", scene, view, self._theme.looks(), done)

    def viewport(self, shape: tuple[int, int], ratio: float, bottom_up: bool) -> Viewport:
        """Return the viewport that draws the small picture."""
        zoom = _LONGER_SIDE * ratio / max(shape)
        return Viewport(
            left=0.0,
            top=0.0,
            zoom=zoom,
            width=max(1, round(shape[1] * zoom)),
            height=max(1, round(shape[0] * zoom)),
            bottom_up=bottom_up,
        )

    def box(self, geometry: Geometry, right: float) -> QRectF:
        """Return where the small picture stands; `right` is kept free for the key."""
        scale = _LONGER_SIDE / max(geometry.shape)
        width, height = geometry.shape[1] * scale, geometry.shape[0] * scale
        position = geometry.size
        return QRectF(
            position[0] - right - width - _MARGIN, position[1] - height - _MARGIN, width, height
        )

    def is_wanted(self, geometry: Geometry) -> bool:
        """Whether a good part of the picture is out of view."""
        width, height = geometry.size
        seen_x = width / (geometry.shape[1] * geometry.scale)
        seen_y = height / (geometry.shape[0] * geometry.scale)
        return min(seen_x, seen_y) < _MOST_SHOWN

    def centred(self, geometry: Geometry, box: QRectF, at: QPointF) -> Viewport:
        """Return the viewport whose middle is the position in the small picture."""
        view = geometry.view
        x = (at.x() - box.left()) / box.width() * geometry.shape[1]
        row = (at.y() - box.top()) / box.height() * geometry.shape[0]
        return replace(
            view, left=x - view.width / view.zoom / 2, top=row - view.height / view.zoom / 2
        )

    def paint(self, painter: QPainter, geometry: Geometry, box: QRectF) -> None:
        """Draw the small picture and the frame."""
        painter.setPen(QPen(QColor(20, 24, 22, 200), 3))
        painter.setBrush(QColor(120, 120, 114))
        painter.drawRect(box)
        if self.image is not None:
            painter.drawImage(box, self.image)
        view = geometry.view
        scale = box.width() / geometry.shape[1]
        frame = QRectF(
            box.left() + view.left * scale,
            box.top() + view.top * scale,
            view.width / view.zoom * scale,
            view.height / view.zoom * scale,
        ).intersected(box)
        painter.setBrush(QColor(255, 190, 120, 40))
        for pen in (QPen(QColor(20, 24, 22, 190), 3), QPen(QColor(255, 200, 140), 1.4)):
            painter.setPen(pen)
            painter.drawRect(frame)
        painter.setPen(QPen(QColor(246, 240, 226), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)

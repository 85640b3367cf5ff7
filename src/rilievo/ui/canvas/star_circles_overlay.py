"""The circles of the chosen star over the picture: aperture and sky ring, to be dragged."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from rilievo.core.measure.stars.star_settings import StarCircles
from rilievo.core.regions.region_set import class_index
from rilievo.ui.canvas.canvas_context import CanvasContext
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.tools import PictureTool
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.star_circles import set_circle
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import text_font

_NEAR = 5.0
_NAMES = {"radius": "aperture", "sky_inner": "sky from", "sky_outer": "sky to"}
_COLOURS = {
    "radius": QColor(255, 190, 120),
    "sky_inner": QColor(150, 200, 224),
    "sky_outer": QColor(150, 200, 224),
}
_DARK = QColor(20, 24, 22, 170)


class StarCircleTool(PictureTool):
    """Shown in Measure while one star is chosen."""

    def __init__(self, canvas: CanvasContext, session: StudySession, compute: Compute) -> None:
        super().__init__(canvas)
        self._session, self._compute = session, compute
        self._held: str | None = None
        self._preview: StarCircles | None = None

    def _star(self) -> tuple[int, StarCircles, float, float] | None:
        """Place of the class, its settings, and the centre of the chosen star."""
        session, compute = self._session, self._compute
        if session.stage not in ("measure", "outline") or len(session.focus.regions) != 1:
            return None
        region = next(iter(session.focus.regions))
        position = class_index(region)
        outlines = session.state.method.outlines
        if position >= len(outlines) or outlines[position].source != "stars":
            return None
        regions = compute.regions.containing(region)
        k = regions.index_of(region) if regions is not None else None
        if regions is None or k is None:
            return None
        x, y = (float(v) for v in regions.centres[k])
        if self._preview is not None:
            return position, self._preview, x, y
        analysis = compute.store.focused_analysis
        if analysis is None:
            return None
        return position, analysis.of_class(position).star_circles(), x, y

    def taken(self, geometry: Geometry, at: QPointF) -> bool:
        """Whether a circle lies under the pointer, which then holds it."""
        star = self._star()
        self._held = None
        if star is None:
            return False
        _, use, x, y = star
        away = self._away(geometry, at, x, y)
        for name in _NAMES:
            if abs(away - getattr(use, name)) * geometry.scale <= _NEAR:
                self._held = name
                return True
        return False

    @staticmethod
    def _away(geometry: Geometry, at: QPointF, x: float, y: float) -> float:
        image = geometry.to_image(at)
        return math.hypot(image.x() - x, image.y() - y)

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """Hold the circle that was found."""

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        star = self._star()
        if star is not None and self._held is not None:
            _, use, x, y = star
            # Half pixels are fine enough, and what is drawn is what is measured.
            radius = round(2 * self._away(geometry, at, x, y)) / 2
            changed = use.use.with_circle(self._held, radius, use)
            self._preview = changed.resolved(use.width, use.gain, use.read_noise)

    def release(self, geometry: Geometry, at: QPointF) -> None:
        star, held, preview = self._star(), self._held, self._preview
        self._held = self._preview = None
        if star is not None and held is not None and preview is not None:
            set_circle(self._session, star[0], preview.use)

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        star = self._star()
        if star is None:
            return
        _, use, x, y = star
        centre = geometry.to_widget(x, y)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for name in _NAMES:
            radius = getattr(use, name) * geometry.scale
            style = Qt.PenStyle.SolidLine if name == "radius" else Qt.PenStyle.DashLine
            for pen in (QPen(_DARK, 3), QPen(_COLOURS[name], 1.4, style)):
                painter.setPen(pen)
                painter.drawEllipse(centre, radius, radius)
        if self._held is not None:
            painter.setFont(text_font(12))
            text = f"{_NAMES[self._held]} {getattr(use, self._held):g} px"
            at = centre + QPointF(use.sky_outer * geometry.scale + 6, 0)
            painter.setPen(QPen(_DARK, 3))
            painter.drawText(at + QPointF(1, 1), text)
            painter.setPen(_COLOURS[self._held])
            painter.drawText(at, text)

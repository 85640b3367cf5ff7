"""The split line: another sample, or the plain view, on the right of a line that is dragged."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QImage, QPainter

from rilievo.core.image.image import ValueSource
from rilievo.core.view.sampling import Viewport
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.overlays import paint_split
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.scene import Scene, paint_later, plain, scene_of
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme

_NEAR = 8.0


class SplitView:
    """What stands beside the focused picture, and where the line between them is."""

    def __init__(
        self, session: StudySession, compute: Compute, theme: Theme, changed: Callable[[], None]
    ) -> None:
        """changed : is told when there is something else to paint."""
        self._session, self._compute, self._theme, self._changed = session, compute, theme, changed
        self._frame: tuple[QImage, Viewport] | None = None
        # Share of the widget's width that is left of the line.
        self.at = 0.5
        self.held = False

    @property
    def is_shown(self) -> bool:
        """Whether there is a line."""
        return self._frame is not None

    def _scene(self, beside: Scene, before: bool) -> Scene | None:
        other = self._session.view.split
        if other is None:
            return None
        if other == 0:
            source: ValueSource = "native" if beside.method is None else "signal"
            return plain(beside, self._compute.ranges.automatic_range(beside.channel, source))
        if other not in self._compute.store.samples:
            return None
        return scene_of(self._compute, other, before=before)

    def render(self, beside: Scene, view: Viewport, *, before: bool) -> None:
        """Ask for what stands beside a scene, in the same viewport.

        before : as it entered the stage.
        """
        other = self._scene(beside, before)
        if other is None:
            self._frame = None
            return
        placed = replace(view, bottom_up=other.sample.bottom_up)

        def done(image: QImage) -> None:
            self._frame = (image, view)
            self._changed()

        paint_later(self._compute, "picture other", other, placed, self._theme.looks(), done)

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        """Draw the right part over the picture."""
        if self._frame is None:
            return
        image, drawn = self._frame
        width, height = geometry.size
        part = QRectF(self.at * width, 0, width - self.at * width, height)
        painter.save()
        painter.setClipRect(part)
        painter.fillRect(part, self._theme.colour("picture_ground"))
        painter.drawImage(geometry.position_of(image, drawn), image)
        painter.restore()

    def paint_line(self, painter: QPainter, geometry: Geometry) -> None:
        """Draw the line with what is on either side."""
        if self.is_shown:
            paint_split(painter, self.at * geometry.size[0], geometry.size[1], self.names())

    def names(self) -> tuple[str, str]:
        """Return what is on the left and on the right."""
        entry, other = self._session.focus.entry, self._session.view.split
        if other == 0:
            return "this view", "plain view"
        names = {e.id: e.name for e in self._session.state.samples}
        return entry.name if entry else "", names.get(other or -1, "")

    def press(self, at: QPointF, width: int) -> bool:
        """Take hold of the line; return whether it is there."""
        self.held = self.is_shown and abs(at.x() - self.at * width) < _NEAR
        return self.held

    def move(self, at: QPointF, width: int) -> None:
        """Drag the line."""
        self.at = min(max(at.x() / width, 0.02), 0.98)
        self._changed()

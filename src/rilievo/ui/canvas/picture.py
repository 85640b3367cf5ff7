"""The focused picture: drawn in a thread for the pixels of the screen, moved at once.

Wheel zooms at the pointer, with Ctrl it sets the neighbourhood that is read; space-drag or middle
drag pans, double click fits. Holding B shows the picture as it entered the stage. What else the
pointer does is up to the tool in hand.
"""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from rilievo.core.image.line_profile import Line
from rilievo.core.parameters import Rectangle
from rilievo.core.view.sampling import Viewport
from rilievo.ui.canvas.canvas_context import CanvasSignals
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.marked_card import MarkedCard
from rilievo.ui.canvas.navigator import Navigator
from rilievo.ui.canvas.overlay_order import OverlayOrder
from rilievo.ui.canvas.rendering import Rendering
from rilievo.ui.canvas.split import SplitView
from rilievo.ui.canvas.tool_box import ToolBox
from rilievo.ui.canvas.view_frame import ViewFrame
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.compute.scene import scene_of
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme

_ZOOM_STEP = 1.25
_BEFORE_KEY = Qt.Key.Key_B
_WAYS = {
    Qt.Key.Key_Left: "left",
    Qt.Key.Key_Right: "right",
    Qt.Key.Key_Up: "up",
    Qt.Key.Key_Down: "down",
}


class Picture(QWidget):
    """The picture of the focused sample and channel."""

    pointed = pyqtSignal(object)  # (x, y) image pixel under the pointer, or None
    viewed = pyqtSignal()  # zoom or position changed
    before_shown = pyqtSignal(bool)

    def __init__(
        self, session: StudySession, compute: Compute, theme: Theme, editor: RegionEditor
    ) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self._viewing = session.view
        self.signals, self.editor = CanvasSignals(self), editor
        self.frame = ViewFrame(self, self._on_moved, rulers=session.view.rulers)
        self._rendering = Rendering(compute, theme, self._on_image, self.render_soon)
        self._pan_from: QPointF | None = None
        self._space = False
        self._before = False
        self.under: tuple[int, int] | None = None
        self.beside = SplitView(session, compute, theme, self.update)
        self.navigator = Navigator(compute, theme, self.update)
        self.chosen_picks: frozenset[int] = frozenset()
        self.line_cursor: float | None = None
        self.patches: tuple[Rectangle, ...] = ()
        self.patch_label = "patch"
        self.card: MarkedCard | None = None
        # Where chips and key lie over it.
        self.covered: tuple[QRectF, ...] = ()
        # Room at the right that the key takes.
        self.margin = 108.0
        self.tools = ToolBox(self, session, compute)
        self._over = OverlayOrder(self, self.tools, session, compute, theme)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture of the focused sample")
        self.setMinimumSize(320, 200)
        self._follow()

    def _follow(self) -> None:
        """Follow the study and what is computed of it."""
        session, compute, viewing = self._session, self._compute, self._viewing
        session.focus.changed.connect(self._on_focus)
        session.focus.regions_changed.connect(self.render_soon)
        session.focus.class_changed.connect(self.render_soon)
        session.focus.class_changed.connect(self.update)
        session.focus.reach_changed.connect(self.update)
        # A stage or a method may show another size.
        session.stage_changed.connect(lambda _: self._on_focus())
        session.changed.connect(lambda *_: self._on_focus())
        compute.store.loaded.connect(
            lambda i: self._on_focus() if i == session.focus.sample_id else None
        )
        compute.displayed.ends_changed.connect(self.render_soon)
        compute.queue.changed.connect(self._on_summary)
        compute.drag.changed.connect(self.render_soon)
        viewing.changed.connect(self._on_viewing)
        viewing.changed.connect(self.update)
        viewing.line_changed.connect(self.update)
        viewing.tool_changed.connect(lambda _: self.refresh_cursor())

    # -- view

    def sizeHint(self) -> QSize:
        return QSize(880, 540)

    @property
    def viewport(self) -> Viewport | None:
        """What part of the image is shown; None without a picture."""
        return self.frame.view

    @property
    def image(self) -> QImage | None:
        """What is shown under the overlays; None before the first picture."""
        return self._rendering.image

    @property
    def zoom(self) -> float:
        """Screen pixels per image pixel."""
        return self.frame.zoom

    def fit(self, *, fill: bool = False) -> None:
        """Show the whole picture, or fill the room with it."""
        self.frame.fit(fill=fill)
        self.render_soon()

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a point of the widget, by default its middle."""
        self.frame.zoom_by(factor, at)

    def zoom_to(self, zoom: float) -> None:
        """Set the zoom about the middle."""
        self.frame.zoom_by(zoom / self.frame.zoom)

    def zoom_to_box(self, box: QRectF) -> None:
        """Show a box of image positions as large as it fits."""
        self.frame.zoom_to_box(box)

    def centre_on(self, x: float, y: float) -> None:
        """Bring an image position into the middle."""
        self.frame.centre_on(x, y)

    @property
    def line(self) -> Line | None:
        """The line of the profile."""
        return self._viewing.line

    def show_region(self, region: int) -> None:
        """Bring a region into view if it is outside."""
        regions = self._compute.regions.containing(region)
        k = None if regions is None else regions.index_of(region)
        if regions is None or k is None or self.frame.view is None:
            return
        x, y = (float(v) for v in regions.centres[k])
        at = self.to_widget(x, y)
        if not self.rect().adjusted(24, 24, -24, -24).contains(at.toPoint()):
            self.frame.centre_on(x, y)

    def _on_moved(self) -> None:
        self.update()
        self.render_soon()
        self.viewed.emit()

    @property
    def geometry_now(self) -> Geometry | None:
        """Where pixels stand in the widget; None without a picture."""
        return self.frame.geometry

    def to_widget(self, x: float, y: float) -> QPointF:
        """Return the widget position of an image position; (0, 0) is a pixel's centre."""
        return self.frame.to_widget(x, y)

    def to_pixel(self, at: QPointF) -> tuple[int, int] | None:
        """Return the image pixel under a widget position, or None outside the image."""
        geometry = self.geometry_now
        return None if geometry is None else geometry.to_pixel(at)

    # -- drawing

    def _on_focus(self) -> None:
        sample = self._compute.store.focused
        if sample is None:
            self.frame.clear()
            self._rendering.clear()
            self.update()
            self.viewed.emit()
            return
        shape = self._compute.displayed.frame_of(self._session.focus.sample_id or 0).shape
        if self.frame.take_image(shape, bottom_up=sample.bottom_up):
            self._rendering.clear()
            self.frame.refit()
        self.render_soon()

    def _on_viewing(self) -> None:
        if self.frame.rulers != self._viewing.rulers:
            self.frame.rulers = self._viewing.rulers
            self.frame.refit()
        self.render_soon()

    def _on_summary(self, sample_id: int) -> None:
        # Any sample's summary can move the common display range.
        if sample_id == self._session.focus.sample_id or not self._session.state.ranges:
            self.render_soon()

    def render_soon(self) -> None:
        """Ask for the picture; a newer request replaces one that waits."""
        sample_id, geometry = self._session.focus.sample_id, self.geometry_now
        if sample_id not in self._compute.store.samples or geometry is None:
            return
        scene = scene_of(self._compute, sample_id, before=self._before)
        self._rendering.ask(scene, geometry)
        self.beside.render(scene, geometry.view, before=self._before)
        if self._viewing.navigator:
            self.navigator.render(scene, geometry)

    def _on_image(self) -> None:
        self.update()
        sample_id = self._session.focus.sample_id
        # The size of a cropped or binned picture is known once it is computed.
        if (
            sample_id in self._compute.store.samples
            and self.frame.shape != self._compute.displayed.frame_of(sample_id).shape
        ):
            self._on_focus()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        try:
            self._paint(painter)
        finally:
            # A fault in one overlay must not leave the widget in the hands of a painter.
            painter.end()

    def _paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), self._theme.colour("picture_ground"))
        geometry = self.geometry_now
        image, view = self.image, self._rendering.view
        if image is None or view is None or geometry is None:
            self._over.paint_why_not(painter)
            return
        painter.drawImage(geometry.position_of(image, view), image)
        self.beside.paint(painter, geometry)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._over.paint(painter, geometry)
        self.tools.circles.paint(painter, geometry)

    # -- input

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.frame.resize()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None:
            return
        turns = event.angleDelta().y() / 120
        if turns and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._session.focus.set_reach(self._session.focus.reach + (2 if turns > 0 else -2))
        elif turns:
            self.zoom_by(_ZOOM_STEP**turns, event.position())
        event.accept()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if not self.tools.double_click():
            self.fit()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        at = event.position()
        left = event.button() == Qt.MouseButton.LeftButton
        geometry = self.geometry_now
        if left and geometry is not None and self._press_over(geometry, at):
            return
        if event.button() == Qt.MouseButton.MiddleButton or (left and self._space):
            self._pan_from = at
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
            return
        if left and geometry is not None and self.tools.press(geometry, at, event.modifiers()):
            self.update()
            return
        pixel = self.to_pixel(at)
        if left and pixel is not None and self._session.shows_regions:
            self.editor.by_hand.select_at(pixel, event.modifiers())

    def _press_over(self, geometry: Geometry, at: QPointF) -> bool:
        """Take hold of the navigator or of the split line."""
        if self._viewing.navigator and self.navigator.is_wanted(geometry):
            box = self.navigator.box(geometry, self.margin)
            if box.contains(at):
                self.navigator.dragged = True
                self.frame.set_view(self.navigator.centred(geometry, box, at))
                return True
        return self.beside.press(at, self.width())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        geometry = self.geometry_now
        if event is None or geometry is None:
            return
        at = event.position()
        if self._pan_from is not None:
            step = at - self._pan_from
            self._pan_from = at
            self.frame.pan(step.x(), step.y())
            return
        if self.beside.held:
            self.beside.move(at, self.width())
            return
        if self.navigator.dragged:
            box = self.navigator.box(geometry, self.margin)
            self.frame.set_view(self.navigator.centred(geometry, box, at))
            return
        if self.tools.move(geometry, at, event.modifiers()):
            self.update()
        self._point(geometry.to_pixel(at))

    def _point(self, pixel: tuple[int, int] | None) -> None:
        if pixel != self.under and (self._session.focus.reach > 1 or self._viewing.rulers):
            self.update()
        self.under = pixel
        self._viewing.point_at(pixel)
        self.pointed.emit(pixel)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._pan_from = None
        self.beside.held = self.navigator.dragged = False
        self.tools.release(self.geometry_now, None if event is None else event.position())
        self.refresh_cursor()
        self.update()

    def leaveEvent(self, event: object) -> None:
        self._point(None)

    def refresh_cursor(self) -> None:
        """Show by the cursor what a click does."""
        if self._space:
            self.setCursor(Qt.CursorShape.OpenHandCursor)
        elif self.tools.current is not None:
            self.setCursor(Qt.CursorShape.CrossCursor)
        else:
            self.setCursor(Qt.CursorShape.ArrowCursor)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = event.key()
        steps = {
            Qt.Key.Key_Left: (60, 0),
            Qt.Key.Key_Right: (-60, 0),
            Qt.Key.Key_Up: (0, 60),
            Qt.Key.Key_Down: (0, -60),
        }
        if key == Qt.Key.Key_Space and not event.isAutoRepeat():
            self._space = True
            self.setCursor(Qt.CursorShape.OpenHandCursor)
        elif key == _BEFORE_KEY and not event.isAutoRepeat():
            self.show_before(True)
        elif key in _WAYS and self.editor.drawn.selected():
            far = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            self.editor.drawn.transform(_WAYS[Qt.Key(key)], 10.0 if far else 1.0)
        elif key in steps:
            self.frame.pan(*steps[Qt.Key(key)])
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        if event is None or event.isAutoRepeat():
            return
        if event.key() == Qt.Key.Key_Space:
            self._space = False
            self.refresh_cursor()
        elif event.key() == _BEFORE_KEY:
            self.show_before(False)
        else:
            super().keyReleaseEvent(event)

    def focusOutEvent(self, event: object) -> None:
        self._space = False
        self.show_before(False)
        self.update()

    def focusInEvent(self, event: object) -> None:
        self.update()

    @property
    def shows_before(self) -> bool:
        """Whether the picture as it entered the stage is shown."""
        return self._before

    def show_before(self, shown: bool) -> None:
        """Show the picture as it entered the stage, while a key is held."""
        if shown != self._before:
            self._before = shown
            self.before_shown.emit(shown)
            self.render_soon()
            self.update()

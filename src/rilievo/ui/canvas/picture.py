"""The focused picture: drawn in a thread for the pixels of the screen, moved at once.

Wheel zooms at the pointer, with Ctrl it sets the neighbourhood that is read; space-drag or middle
drag pans, double click fits. Holding B shows the picture as it entered the stage. What else the
pointer does is up to the tool in hand.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
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
from rilievo.ui.canvas.drawing import DRAWING, EditTool, PolygonTool
from rilievo.ui.canvas.geometry import Geometry, fit_zoom, fitted, panned, zoomed
from rilievo.ui.canvas.navigator import Navigator
from rilievo.ui.canvas.over import OverPicture
from rilievo.ui.canvas.rendering import Rendering
from rilievo.ui.canvas.rulers import THICK
from rilievo.ui.canvas.split import SplitView
from rilievo.ui.canvas.star_circles import StarCircles
from rilievo.ui.canvas.tools import TOOLS, PatchTool, PictureTool
from rilievo.ui.model import StudyModel
from rilievo.ui.outlining import Outlining
from rilievo.ui.scene import scene_of
from rilievo.ui.theme.roles import Theme
from rilievo.ui.workbench import Workbench

_ZOOM_STEP = 1.25
_MOST_ZOOM = 64.0
_LEAST_SHOWN = 32
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
    patch_drawn = pyqtSignal(object, int)  # Rectangle; which was moved, −1 anew, −2 one more
    before_shown = pyqtSignal(bool)
    pick_wanted = pyqtSignal(int, int)
    line_drawn = pyqtSignal(float, float, float, float)
    length_drawn = pyqtSignal(float)
    repair_wanted = pyqtSignal(object)  # Rectangle
    tool_done = pyqtSignal()

    def __init__(self, model: StudyModel, bench: Workbench, theme: Theme) -> None:
        super().__init__()
        self._model, self._bench, self._theme = model, bench, theme
        self._view: Viewport | None = None
        self._fitted = True
        self._rendering = Rendering(bench, theme, self._on_image, self.render_soon)
        self._shape: tuple[int, int] | None = None
        self._pan_from: QPointF | None = None
        self._space = False
        self._before = False
        self.under: tuple[int, int] | None = None
        self.beside = SplitView(model, bench, theme, self.update)
        self._pressed = False
        self._editing: PictureTool | None = None
        self.circles = StarCircles(self, model, bench)
        self.chosen_picks: frozenset[int] = frozenset()
        self.line_cursor: float | None = None
        self.navigator = Navigator(bench, theme, self.update)
        self.outlining = Outlining(model, bench, self)
        self._tools: dict[str, PictureTool] = {n: make(self) for n, make in TOOLS.items()}
        self._tools |= {n: make(self) for n, make in DRAWING.items()}
        self.edit_tool = EditTool(self)
        self.patch_tool = PatchTool(self)
        self.patches: tuple[Rectangle, ...] = ()
        self.patch_label = "patch"
        self.patch_is_drawable = False
        self._over = OverPicture(self, model, bench, theme)
        # Room at the right that the key takes.
        self.margin = 108.0
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture of the focused sample")
        self.setMinimumSize(320, 200)
        model.focus_changed.connect(self._on_focus)
        model.selection_changed.connect(self.render_soon)
        model.class_changed.connect(self.render_soon)
        model.class_changed.connect(self.update)
        # A stage or a method may show another size.
        model.stage_changed.connect(lambda _: self._on_focus())
        model.changed.connect(lambda *_: self._on_focus())
        bench.loaded.connect(lambda i: self._on_focus() if i == model.sample_id else None)
        bench.seen.ends_changed.connect(self.render_soon)
        bench.facts_changed.connect(self._on_facts)
        bench.drag.changed.connect(self.render_soon)
        model.reach_changed.connect(self.update)
        self._viewing = model.viewing
        self._rulers_shown = self._viewing.rulers
        self._viewing.changed.connect(self._on_viewing)
        self._viewing.changed.connect(self.update)
        self._viewing.line_changed.connect(self.update)
        self._viewing.tool_changed.connect(lambda _: self.refresh_cursor())

    # -- view

    def sizeHint(self) -> QSize:
        return QSize(880, 540)

    @property
    def viewport(self) -> Viewport | None:
        """What part of the image is shown; None without a picture."""
        return self._view

    @property
    def image(self) -> QImage | None:
        """What is shown under the overlays; None before the first picture."""
        return self._rendering.image

    @property
    def zoom(self) -> float:
        """Screen pixels per image pixel."""
        return self._view.zoom if self._view else 1.0

    def fit(self) -> None:
        """Show the whole picture."""
        self._fitted = True
        self._apply_fit()
        self.render_soon()

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a point of the widget, by default its middle."""
        if self._view is None or self._shape is None:
            return
        at = (at or QPointF(self.width() / 2, self.height() / 2)) * self.devicePixelRatioF()
        least = min(_LEAST_SHOWN / max(self._shape), self._fit_zoom())
        zoom = float(np.clip(self._view.zoom * factor, least, _MOST_ZOOM))
        self.set_viewport(zoomed(self._view, zoom, at))

    def zoom_to(self, zoom: float) -> None:
        """Set the zoom about the middle."""
        self.zoom_by(zoom / self.zoom)

    def zoom_to_box(self, box: QRectF) -> None:
        """Show a box of image positions as large as it fits."""
        if self._view is None:
            return
        ratio = self.devicePixelRatioF()
        room = min(self.width() / box.width(), self.height() / box.height()) * ratio
        zoom = float(np.clip(room, 1e-3, _MOST_ZOOM))
        self._view = replace(self._view, zoom=zoom)
        self._fitted = False
        self.centre_on(box.center().x(), box.center().y())

    def centre_on(self, x: float, y: float) -> None:
        """Bring an image position into the middle."""
        at = self.to_widget(x, y)
        self.pan(self.width() / 2 - at.x(), self.height() / 2 - at.y())

    def set_viewport(self, view: Viewport) -> None:
        """Show a part of the image."""
        self._view = view
        self._fitted = False
        self._moved()

    @property
    def line(self) -> Line | None:
        """The line of the profile."""
        return self._viewing.line

    def pan(self, dx: float, dy: float) -> None:
        """Move the picture by widget pixels."""
        if self._view is None:
            return
        ratio = self.devicePixelRatioF()
        self.set_viewport(panned(self._view, dx * ratio, dy * ratio))

    def show_region(self, region: int) -> None:
        """Bring a region into view if it is outside."""
        regions = self._bench.regions_with(region)
        k = None if regions is None else regions.place_of(region)
        if regions is None or k is None or self._view is None:
            return
        x, y = regions.centres[k]
        at = self.to_widget(float(x), float(y))
        if not self.rect().adjusted(24, 24, -24, -24).contains(at.toPoint()):
            self.pan(self.width() / 2 - at.x(), self.height() / 2 - at.y())

    def _fit_zoom(self) -> float:
        if self._shape is None:
            return 1.0
        return fit_zoom(self._device_size(), self._shape, self._ruler)

    def _device_size(self) -> tuple[int, int]:
        """Width and height in device pixels."""
        ratio = self.devicePixelRatioF()
        return round(self.width() * ratio), round(self.height() * ratio)

    @property
    def _ruler(self) -> float:
        """Device pixels that the rulers take on the left and at the top."""
        return THICK * self.devicePixelRatioF() if self._viewing.rulers else 0.0

    def _apply_fit(self) -> None:
        sample = self._bench.focused_sample
        if self._shape is None or sample is None:
            return
        size = self._device_size()
        self._view = fitted(size, self._shape, self._ruler, bottom_up=sample.bottom_up)
        self._moved()

    def _moved(self) -> None:
        self.update()
        self.render_soon()
        self.viewed.emit()

    @property
    def geometry_now(self) -> Geometry | None:
        """Where pixels stand in the widget; None without a picture."""
        if self._view is None or self._shape is None:
            return None
        return Geometry(self._view, self._shape, self.devicePixelRatioF())

    def to_widget(self, x: float, y: float) -> QPointF:
        """Return the widget position of an image position; (0, 0) is a pixel's centre."""
        geometry = self.geometry_now
        return QPointF() if geometry is None else geometry.to_widget(x, y)

    def to_pixel(self, at: QPointF) -> tuple[int, int] | None:
        """Return the image pixel under a widget position, or None outside the image."""
        geometry = self.geometry_now
        return None if geometry is None else geometry.to_pixel(at)

    # -- drawing

    def _on_focus(self) -> None:
        sample = self._bench.focused_sample
        shape = self._bench.seen.frame_of(self._model.sample_id or 0).shape if sample else None
        if sample is None:
            self._shape = self._view = None
            self._rendering.clear()
            self.update()
            self.viewed.emit()
            return
        flipped = self._view is not None and self._view.bottom_up != sample.bottom_up
        if shape != self._shape or self._view is None or flipped:
            self._shape = shape
            self._fitted = True
            self._rendering.clear()
            self._apply_fit()
        self.render_soon()

    def _on_viewing(self) -> None:
        if self._rulers_shown != self._viewing.rulers:
            self._rulers_shown = self._viewing.rulers
            if self._fitted:
                self._apply_fit()
        self.render_soon()

    def _on_facts(self, sample_id: int) -> None:
        # Any sample's facts can move the common display range.
        if sample_id == self._model.sample_id or not self._model.state.ranges:
            self.render_soon()

    def render_soon(self) -> None:
        """Ask for the picture; a newer request replaces one that waits."""
        sample_id, geometry = self._model.sample_id, self.geometry_now
        if sample_id not in self._bench.samples or geometry is None:
            return
        scene = scene_of(self._bench, sample_id, before=self._before)
        self._rendering.ask(scene, geometry)
        self.beside.render(scene, geometry.view, before=self._before)
        if self._viewing.navigator:
            self.navigator.render(scene, geometry)

    def _on_image(self) -> None:
        self.update()
        sample_id = self._model.sample_id
        # The size of a cropped or binned picture is known once it is computed.
        if (
            sample_id in self._bench.samples
            and self._shape != self._bench.seen.frame_of(sample_id).shape
        ):
            self._on_focus()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._theme.colour("picture_ground"))
        geometry = self.geometry_now
        image, view = self.image, self._rendering.view
        if image is None or view is None or geometry is None:
            self._over.paint_why_not(painter)
            return
        painter.drawImage(geometry.place_of(image, view), image)
        self.beside.paint(painter, geometry)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._over.paint(painter, geometry)
        self.circles.paint(painter, geometry)

    # -- input

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        ratio = self.devicePixelRatioF()
        if self._view is not None:
            self._view = replace(
                self._view,
                width=round(self.width() * ratio),
                height=round(self.height() * ratio),
            )
            if self._fitted:
                self._apply_fit()
            else:
                self._moved()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None:
            return
        turns = event.angleDelta().y() / 120
        if turns and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._model.set_reach(self._model.reach + (2 if turns > 0 else -2))
        elif turns:
            self.zoom_by(_ZOOM_STEP**turns, event.position())
        event.accept()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if isinstance(self.tool, PolygonTool):
            self.tool.close()
        else:
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
        pixel = self.to_pixel(at)
        tool = self.tool
        if left and tool is None and geometry is not None and self.outlining.is_drawing:
            self._editing = self.edit_tool if self.edit_tool.taken(geometry, at) else None
            tool = self.tool
        elif left and tool is None and geometry is not None and self.circles.taken(geometry, at):
            self._editing = tool = self.circles
        if left and tool is not None and geometry is not None:
            self._pressed = True
            tool.press(geometry, at, event.modifiers())
            self.update()
            return
        if not left or pixel is None:
            return
        if self._bench.outlines_shown():
            self.outlining.select_at(pixel, event.modifiers())

    @property
    def tool(self) -> PictureTool | None:
        """What the pointer does now, if it does anything but select."""
        tool = self._tools.get(self._viewing.tool)
        if tool is None and self._model.stage == "correct" and self.patch_is_drawable:
            return self.patch_tool
        return tool if tool is not None else self._editing

    def _press_over(self, geometry: Geometry, at: QPointF) -> bool:
        """Take hold of the navigator or of the split line."""
        if self._viewing.navigator and self.navigator.is_wanted(geometry):
            box = self.navigator.box(geometry, self.margin)
            if box.contains(at):
                self.navigator.dragged = True
                self.set_viewport(self.navigator.centred(geometry, box, at))
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
            self.pan(step.x(), step.y())
            return
        if self.beside.held:
            self.beside.move(at, self.width())
            return
        if self.navigator.dragged:
            box = self.navigator.box(geometry, self.margin)
            self.set_viewport(self.navigator.centred(geometry, box, at))
            return
        tool = self.tool
        if tool is not None:
            (tool.move if self._pressed else tool.hover)(geometry, at, event.modifiers())
            self.update()
        self._point(geometry.to_pixel(at))

    def _point(self, pixel: tuple[int, int] | None) -> None:
        if pixel != self.under and (self._model.reach > 1 or self._viewing.rulers):
            self.update()
        self.under = pixel
        self._viewing.point_at(pixel)
        self.pointed.emit(pixel)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._pan_from = None
        self.beside.held = self.navigator.dragged = False
        tool, geometry = self.tool, self.geometry_now
        if self._pressed and tool is not None and geometry is not None and event is not None:
            tool.release(geometry, event.position())
        self._pressed, self._editing = False, None
        self.refresh_cursor()
        self.update()

    def leaveEvent(self, event: object) -> None:
        self._point(None)

    def refresh_cursor(self) -> None:
        """Show by the cursor what a click does."""
        if self._space:
            self.setCursor(Qt.CursorShape.OpenHandCursor)
        elif self.tool is not None:
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
        elif key in _WAYS and self.outlining.selected():
            far = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            self.outlining.transform(_WAYS[Qt.Key(key)], 10.0 if far else 1.0)
        elif key in steps:
            self.pan(*steps[Qt.Key(key)])
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

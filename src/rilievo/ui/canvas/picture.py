"""The focused picture: drawn in a thread for the pixels of the screen, moved at once.

Wheel zooms at the pointer, with Ctrl it sets the neighbourhood that is read; space-drag or middle
drag pans, double click fits. Holding B shows the picture as it entered the stage. What else the
pointer does is up to the tool in hand.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from rilievo.core.neighbourhood import covered
from rilievo.core.parameters import Rectangle
from rilievo.core.profile import Line
from rilievo.core.regions import RegionSet
from rilievo.core.sampling import Viewport
from rilievo.ui.canvas.geometry import Geometry
from rilievo.ui.canvas.navigator import Navigator
from rilievo.ui.canvas.overlays import (
    paint_grid,
    paint_hint,
    paint_line,
    paint_neighbourhood,
    paint_numbers,
    paint_patch,
    paint_picks,
    paint_scale_bar,
    paint_tag,
    paint_values,
)
from rilievo.ui.canvas.places import MOST_NUMBERS, Place, place_numbers
from rilievo.ui.canvas.rulers import THICK, paint_rulers
from rilievo.ui.canvas.split import SplitView
from rilievo.ui.canvas.tools import TOOLS, PatchTool, PictureTool
from rilievo.ui.model import StudyModel
from rilievo.ui.scene import scene_of
from rilievo.ui.theme.roles import Theme
from rilievo.ui.workbench import Workbench

_ZOOM_STEP = 1.25
_MOST_ZOOM = 64.0
_LEAST_SHOWN = 32
_GRID_FROM_ZOOM = 8.0
_VALUES_FROM_ZOOM = 24.0
_BEFORE_KEY = Qt.Key.Key_B


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
        self._frame: QImage | None = None
        self._frame_view: Viewport | None = None
        self._places: tuple[RegionSet | None, Geometry | None, list[Place]] = (None, None, [])
        self._shape: tuple[int, int] | None = None
        self._pan_from: QPointF | None = None
        self._space = False
        self._before = False
        self._refine: Callable[[], None] = lambda: None
        self._sharpen: Callable[[], QImage | None] = lambda: None
        self._under: tuple[int, int] | None = None
        self._beside = SplitView(model, bench, theme, self.update)
        self._pressed = False
        self.chosen_picks: frozenset[int] = frozenset()
        self.line_cursor: float | None = None
        self.navigator = Navigator(bench, theme, self.update)
        self._tools = {name: make(self) for name, make in TOOLS.items()}
        self._patch_tool = PatchTool(self)
        self.patches: tuple[Rectangle, ...] = ()
        self.patch_is_drawable = False
        # Room at the right that the key takes.
        self.margin = 108.0
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture of the focused sample")
        self.setMinimumSize(320, 200)
        model.focus_changed.connect(self._on_focus)
        model.selection_changed.connect(self.render_soon)
        # A stage or a method may show another size.
        model.stage_changed.connect(lambda _: self._on_focus())
        model.changed.connect(lambda *_: self._on_focus())
        bench.loaded.connect(lambda i: self._on_focus() if i == model.sample_id else None)
        bench.seen.ends_changed.connect(self.render_soon)
        bench.facts_changed.connect(self._on_facts)
        bench.preview_changed.connect(self.render_soon)
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
        at = at or QPointF(self.width() / 2, self.height() / 2)
        ratio = self.devicePixelRatioF()
        x, y = at.x() * ratio, at.y() * ratio
        least = min(_LEAST_SHOWN / max(self._shape), self._fit_zoom())
        zoom = float(np.clip(self._view.zoom * factor, least, _MOST_ZOOM))
        view = self._view
        self._view = replace(
            view,
            zoom=zoom,
            left=view.left + x / view.zoom - x / zoom,
            top=view.top + y / view.zoom - y / zoom,
        )
        self._fitted = False
        self._moved()

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
        ratio = self.devicePixelRatioF() / self._view.zoom
        self._view = replace(
            self._view, left=self._view.left - dx * ratio, top=self._view.top - dy * ratio
        )
        self._fitted = False
        self._moved()

    def show_region(self, region: int) -> None:
        """Bring a region into view if it is outside."""
        facts = self._bench.focused_facts
        if facts is None or facts.regions is None or self._view is None:
            return
        k = int(np.searchsorted(facts.regions.ids, region))
        if k >= facts.regions.count or int(facts.regions.ids[k]) != region:
            return
        x, y = facts.regions.centres[k]
        at = self.to_widget(float(x), float(y))
        if not self.rect().adjusted(24, 24, -24, -24).contains(at.toPoint()):
            self.pan(self.width() / 2 - at.x(), self.height() / 2 - at.y())

    def _fit_zoom(self) -> float:
        if self._shape is None:
            return 1.0
        ratio, taken = self.devicePixelRatioF(), self._ruler
        return min(
            max(self.width() - taken, 1) * ratio / self._shape[1],
            max(self.height() - taken, 1) * ratio / self._shape[0],
            32.0,
        )

    @property
    def _ruler(self) -> int:
        """Widget pixels that the rulers take on the left and at the top."""
        return THICK if self._viewing.rulers else 0

    def _apply_fit(self) -> None:
        sample = self._bench.focused_sample
        if self._shape is None or sample is None:
            return
        ratio = self.devicePixelRatioF()
        width, height = round(self.width() * ratio), round(self.height() * ratio)
        zoom, taken = self._fit_zoom(), self._ruler * ratio
        self._view = Viewport(
            left=(self._shape[1] - (width + taken) / zoom) / 2,
            top=(self._shape[0] - (height + taken) / zoom) / 2,
            zoom=zoom,
            width=width,
            height=height,
            bottom_up=sample.bottom_up,
        )
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
            self._shape, self._view, self._frame = None, None, None
            self.update()
            self.viewed.emit()
            return
        flipped = self._view is not None and self._view.bottom_up != sample.bottom_up
        if shape != self._shape or self._view is None or flipped:
            self._shape = shape
            self._fitted = True
            self._frame = None
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
        sample, view = self._bench.focused_sample, self._view
        if sample is None or view is None:
            return
        bench, sample_id = self._bench, self._model.sample_id
        if sample_id is None:
            return
        scene = scene_of(bench, sample_id, before=self._before)
        looks, selected = self._theme.looks(), self._model.regions
        scale = bench.number_scale()

        geometry = self.geometry_now

        def work() -> tuple[QImage, Viewport, bool]:
            sketched = scene.is_sketch(bench.evaluator)
            image = scene.painted(bench.evaluator, view, looks, selected, quick=True)
            if geometry is not None and geometry.scale >= _VALUES_FROM_ZOOM:
                # Hundreds of numbers take too long to write on the interface thread.
                paint_values(image, geometry, scene.values(bench.evaluator), scene.display, scale)
            return image, view, sketched

        bench.jobs.run("picture", work, self._show_frame, lambda _: None, every=True)
        self._beside.render(scene, view, before=self._before)
        if geometry is not None and self._viewing.navigator:
            self.navigator.render(scene, geometry)

        def refine() -> None:
            evaluator = bench.evaluator
            evaluator.pyramid(scene.sample, scene.channel, scene.method)

        self._refine = refine
        self._sharpen = lambda: scene.painted_part(bench.evaluator, view, looks)

    def _show_frame(self, result: tuple[QImage, Viewport, bool]) -> None:
        self._frame, self._frame_view, sketched = result
        self.update()
        sample_id = self._model.sample_id
        if (
            sample_id in self._bench.samples
            and self._shape != self._bench.seen.frame_of(sample_id).shape
        ):
            # The size of a cropped or binned picture is known once it is computed.
            self._on_focus()
        if sketched:
            # What is seen next, the rest after it.
            shown = self._frame
            self._bench.jobs.run(
                "visible", self._sharpen, lambda part: self._show_part(part, shown), lambda _: None
            )
            self._bench.jobs.run(
                "refine", self._refine, lambda _: self.render_soon(), lambda _: self.render_soon()
            )

    def _show_part(self, part: QImage | None, sketch: QImage) -> None:
        """Put the visible part in place of the sketch that it belongs to."""
        if part is not None and self._frame is sketch:
            self._frame = part
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._theme.colour("picture_ground"))
        geometry = self.geometry_now
        if self._frame is None or self._frame_view is None or geometry is None:
            self._paint_why_not(painter)
            return
        painter.drawImage(geometry.place_of(self._frame, self._frame_view), self._frame)
        self._beside.paint(painter, geometry)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_over(painter, geometry)

    def _paint_why_not(self, painter: QPainter) -> None:
        entry = self._model.entry
        if entry is None:
            return
        if entry.id in self._bench.errors:
            title, text = f"{entry.name} cannot be shown", self._bench.errors[entry.id]
        else:
            title, text = "Reading …", entry.path.name
        paint_hint(painter, self.rect(), self._theme, title, text)

    def _paint_over(self, painter: QPainter, geometry: Geometry) -> None:
        sample = self._bench.focused_sample
        if geometry.scale >= _GRID_FROM_ZOOM:
            paint_grid(painter, geometry)
        rests = self._bench.preview_level is None
        if self._bench.outlines_shown() and not self._before and rests:
            paint_numbers(painter, self._number_places(geometry), self._model.regions)
        if self._model.stage == "correct":
            for patch in self._patch_tool.shown():
                paint_patch(painter, geometry, patch, self._theme)
        self._paint_readings(painter, geometry)
        self._beside.paint_line(painter, geometry)
        if sample is not None:
            calibration = self._bench.seen.frame_of(self._model.sample_id or 0).calibration
            rulers = self._viewing.rulers
            paint_scale_bar(painter, geometry, calibration, left=THICK if rulers else 0)
            if rulers:
                paint_rulers(
                    painter,
                    geometry,
                    calibration,
                    self._viewing.pixel,
                    fits_places=self._viewing.fits_places,
                )
        if self._viewing.navigator and self.navigator.is_wanted(geometry):
            self.navigator.paint(painter, geometry, self.navigator.box(geometry, self.margin))
        if self._before:
            paint_tag(painter, self.width(), self._theme, "before")
        if self.hasFocus():
            painter.setPen(QPen(self._theme.colour("accent"), 2))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def _paint_readings(self, painter: QPainter, geometry: Geometry) -> None:
        """Picks, the line of the profile, and the pixels around the pointer."""
        entry = self._model.entry
        if entry is not None and self._model.stage in ("look", "measure"):
            picks = [p for p in self._model.state.method.picks if p.is_in(entry.name)]
            placement = self._bench.seen.frame_of(entry.id).placement
            paint_picks(painter, geometry, picks, self.chosen_picks, placement)
        if self.line is not None and self._model.stage in ("look", "correct"):
            paint_line(painter, geometry, self.line, cursor=self.line_cursor)
        if self._under is not None and self._model.reach > 1:
            part, inside = covered(
                *self._under, self._model.reach, self._viewing.form, geometry.shape
            )
            paint_neighbourhood(painter, geometry, part, inside)
        tool = self._tool
        if tool is not None:
            tool.paint(painter, geometry)

    def _number_places(self, geometry: Geometry) -> list[Place]:
        facts = self._bench.focused_facts
        regions = facts.regions if facts is not None else None
        if regions is None:
            return []
        known_regions, known_geometry, places = self._places
        if known_regions is regions and known_geometry == geometry:
            return places
        ids, boxes = geometry.boxes_of(regions)
        places = []
        if ids.size <= MOST_NUMBERS:
            sizes = [(7.5 * len(str(i)) + 2, 14.0) for i in ids]
            places = place_numbers([int(i) for i in ids], boxes, sizes, geometry.size)
        self._places = (regions, geometry, places)
        return places

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
        tool = self._tool
        if left and tool is not None and geometry is not None:
            self._pressed = True
            tool.press(geometry, at, event.modifiers())
            self.update()
            return
        if not left or pixel is None:
            return
        if self._bench.outlines_shown():
            self._select_at(pixel, event.modifiers())

    @property
    def _tool(self) -> PictureTool | None:
        """What the pointer does now, if it does anything but select."""
        tool = self._tools.get(self._viewing.tool)
        if tool is None and self._model.stage == "correct" and self.patch_is_drawable:
            return self._patch_tool
        return tool

    def _press_over(self, geometry: Geometry, at: QPointF) -> bool:
        """Take hold of the navigator or of the split line."""
        if self._viewing.navigator and self.navigator.is_wanted(geometry):
            box = self.navigator.box(geometry, self.margin)
            if box.contains(at):
                self.navigator.dragged = True
                self.set_viewport(self.navigator.centred(geometry, box, at))
                return True
        return self._beside.press(at, self.width())

    def _select_at(self, pixel: tuple[int, int], modifiers: Qt.KeyboardModifier) -> None:
        facts = self._bench.focused_facts
        region = 0 if facts is None or facts.regions is None else facts.regions.at(*pixel)
        add = modifiers & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        if not add:
            self._model.focus(regions={region} - {0})
        elif region:
            self._model.focus(regions=self._model.regions ^ {region})

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
        if self._beside.held:
            self._beside.move(at, self.width())
            return
        if self.navigator.dragged:
            box = self.navigator.box(geometry, self.margin)
            self.set_viewport(self.navigator.centred(geometry, box, at))
            return
        tool = self._tool
        if self._pressed and tool is not None:
            tool.move(geometry, at, event.modifiers())
            self.update()
        self._point(geometry.to_pixel(at))

    def _point(self, pixel: tuple[int, int] | None) -> None:
        if pixel != self._under and (self._model.reach > 1 or self._viewing.rulers):
            self.update()
        self._under = pixel
        self._viewing.point_at(pixel)
        self.pointed.emit(pixel)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._pan_from = None
        self._beside.held = self.navigator.dragged = False
        tool, geometry = self._tool, self.geometry_now
        if self._pressed and tool is not None and geometry is not None and event is not None:
            tool.release(geometry, event.position())
        self._pressed = False
        self.refresh_cursor()
        self.update()

    def leaveEvent(self, event: object) -> None:
        self._point(None)

    def refresh_cursor(self) -> None:
        """Show by the cursor what a click does."""
        if self._space:
            self.setCursor(Qt.CursorShape.OpenHandCursor)
        elif self._tool is not None:
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

"""The focused picture: drawn in a thread for the pixels of the screen, moved at once.

Wheel zooms at the pointer, space-drag or middle drag pans, double click fits. Holding B shows the
picture as it entered the stage.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFont,
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

from rilievo.core.parameters import Rectangle
from rilievo.core.view import Viewport
from rilievo.ui.canvas.places import MOST_NUMBERS, Place, place_numbers
from rilievo.ui.model import StudyModel
from rilievo.ui.scene import scene_of
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font
from rilievo.ui.workbench import Workbench

_ZOOM_STEP = 1.25
_MOST_ZOOM = 64.0
_LEAST_SHOWN = 32
_GRID_FROM_ZOOM = 8.0
_BEFORE_KEY = Qt.Key.Key_B


class Picture(QWidget):
    """The picture of the focused sample and channel."""

    pointed = pyqtSignal(object)  # (x, y) image pixel under the pointer, or None
    viewed = pyqtSignal()  # zoom or position changed
    patch_drawn = pyqtSignal(object)  # Rectangle
    before_shown = pyqtSignal(bool)

    def __init__(self, model: StudyModel, bench: Workbench, theme: Theme) -> None:
        super().__init__()
        self._model, self._bench, self._theme = model, bench, theme
        self._view: Viewport | None = None
        self._fitted = True
        self._frame: QImage | None = None
        self._frame_view: Viewport | None = None
        self._places: tuple[object, list[Place]] = (None, [])
        self._shape: tuple[int, int] | None = None
        self._pan_from: QPointF | None = None
        self._space = False
        self._before = False
        self._draw_from: tuple[int, int] | None = None
        self._drawn: Rectangle | None = None
        self._move_patch: tuple[int, int, Rectangle] | None = None
        self.patch: Rectangle | None = None
        self.patch_is_drawable = False
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture of the focused sample")
        self.setMinimumSize(320, 200)
        model.focus_changed.connect(self._on_focus)
        model.selection_changed.connect(self.render_soon)
        model.stage_changed.connect(lambda _: self.render_soon())
        model.changed.connect(lambda *_: self.render_soon())
        bench.loaded.connect(lambda i: self._on_focus() if i == model.sample_id else None)
        bench.facts_changed.connect(self._on_facts)
        bench.preview_changed.connect(self.render_soon)

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
        ratio = self.devicePixelRatioF()
        return min(
            self.width() * ratio / self._shape[1], self.height() * ratio / self._shape[0], 32.0
        )

    def _apply_fit(self) -> None:
        sample = self._bench.focused_sample
        if self._shape is None or sample is None:
            return
        ratio = self.devicePixelRatioF()
        width, height = round(self.width() * ratio), round(self.height() * ratio)
        zoom = self._fit_zoom()
        self._view = Viewport(
            left=(self._shape[1] - width / zoom) / 2,
            top=(self._shape[0] - height / zoom) / 2,
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

    def to_widget(self, x: float, y: float) -> QPointF:
        """Return the widget position of an image position; (0, 0) is a pixel's centre."""
        if self._view is None or self._shape is None:
            return QPointF()
        view, ratio = self._view, self.devicePixelRatioF()
        row = self._shape[0] - (y + 0.5) if view.bottom_up else y + 0.5
        return QPointF(
            (x + 0.5 - view.left) * view.zoom / ratio, (row - view.top) * view.zoom / ratio
        )

    def to_pixel(self, at: QPointF) -> tuple[int, int] | None:
        """Return the image pixel under a widget position, or None outside the image."""
        if self._view is None or self._shape is None:
            return None
        view, ratio = self._view, self.devicePixelRatioF()
        x = math.floor(view.left + at.x() * ratio / view.zoom)
        row = view.top + at.y() * ratio / view.zoom
        y = math.floor(self._shape[0] - row if view.bottom_up else row)
        if 0 <= x < self._shape[1] and 0 <= y < self._shape[0]:
            return x, y
        return None

    def _nearest_pixel(self, at: QPointF) -> tuple[int, int]:
        assert self._view is not None and self._shape is not None  # noqa: S101
        view, ratio = self._view, self.devicePixelRatioF()
        x = math.floor(view.left + at.x() * ratio / view.zoom)
        row = view.top + at.y() * ratio / view.zoom
        y = math.floor(self._shape[0] - row if view.bottom_up else row)
        return min(max(x, 0), self._shape[1] - 1), min(max(y, 0), self._shape[0] - 1)

    # -- drawing

    def _on_focus(self) -> None:
        sample = self._bench.focused_sample
        shape = sample.first.shape if sample else None
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

        def work() -> tuple[QImage, Viewport]:
            return scene.painted(bench.evaluator, view, looks, selected), view

        bench.jobs.run("picture", work, self._show_frame, lambda _: None, every=True)

    def _show_frame(self, result: tuple[QImage, Viewport]) -> None:
        self._frame, self._frame_view = result
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._theme.colour("picture_ground"))
        if self._frame is None or self._view is None or self._frame_view is None:
            self._paint_hint(painter)
            return
        view, old, ratio = self._view, self._frame_view, self.devicePixelRatioF()
        scale = view.zoom / old.zoom / ratio
        left = (old.left - view.left) * view.zoom / ratio
        top = (old.top - view.top) * view.zoom / ratio
        painter.drawImage(
            QRectF(left, top, self._frame.width() * scale, self._frame.height() * scale),
            self._frame,
        )
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if view.zoom / ratio >= _GRID_FROM_ZOOM:
            self._paint_grid(painter)
        if self._bench.outlines_shown() and not self._before:
            self._paint_numbers(painter)
        if self._model.stage == "correct":
            self._paint_patch(painter)
        self._paint_scale_bar(painter)
        if self._before:
            self._paint_tag(painter, "before")
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self._theme.colour("accent"), 2))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def _paint_hint(self, painter: QPainter) -> None:
        entry = self._model.entry
        if entry is None:
            return
        if entry.id in self._bench.errors:
            title, text = f"{entry.name} cannot be shown", self._bench.errors[entry.id]
        else:
            title, text = "Reading …", entry.path.name
        painter.setPen(self._theme.colour("over_picture"))
        area = self.rect().adjusted(60, 0, -60, 0)
        painter.setFont(text_font(18, QFont.Weight.DemiBold))
        painter.drawText(area.adjusted(0, 0, 0, -40), int(Qt.AlignmentFlag.AlignCenter), title)
        painter.setFont(text_font(13))
        painter.drawText(
            area.adjusted(0, 40, 0, 40),
            int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap),
            text,
        )

    def _paint_grid(self, painter: QPainter) -> None:
        if self._view is None or self._shape is None:
            return
        first = self._nearest_pixel(QPointF(0, 0))
        last = self._nearest_pixel(QPointF(self.width(), self.height()))
        painter.setPen(QPen(QColor(0, 0, 0, 46), 1))
        top_left = self.to_widget(-0.5, -0.5)
        end = self.to_widget(self._shape[1] - 0.5, self._shape[0] - 0.5)
        low, high = sorted((top_left.y(), end.y()))
        for x in range(first[0], last[0] + 2):
            at = self.to_widget(x - 0.5, 0).x()
            painter.drawLine(QPointF(at, low), QPointF(at, high))
        rows = sorted((first[1], last[1]))
        for y in range(rows[0], rows[1] + 2):
            at = self.to_widget(0, y - 0.5).y()
            painter.drawLine(QPointF(top_left.x(), at), QPointF(end.x(), at))

    def _number_places(self) -> list[Place]:
        facts = self._bench.focused_facts
        if facts is None or facts.regions is None or self._view is None:
            return []
        key = (id(facts.regions), self._view)
        if self._places[0] == key:
            return self._places[1]
        regions, ratio = facts.regions, self.devicePixelRatioF()
        boxes = regions.boxes.astype(np.float64)
        if self._view.bottom_up and self._shape is not None:
            boxes[:, 1] = self._shape[0] - boxes[:, 1] - boxes[:, 3]
        scale = self._view.zoom / ratio
        screen = boxes * scale
        screen[:, 0] -= self._view.left * scale
        screen[:, 1] -= self._view.top * scale
        seen = (
            (screen[:, 0] < self.width())
            & (screen[:, 1] < self.height())
            & (screen[:, 0] + screen[:, 2] > 0)
            & (screen[:, 1] + screen[:, 3] > 0)
        )
        places: list[Place] = []
        if np.count_nonzero(seen) <= MOST_NUMBERS:
            ids = [int(i) for i in regions.ids[seen]]
            sizes = [(7.5 * len(str(i)) + 2, 14.0) for i in ids]
            places = place_numbers(ids, screen[seen], sizes, (self.width(), self.height()))
        self._places = (key, places)
        return places

    def _paint_numbers(self, painter: QPainter) -> None:
        if self._bench.preview_level is not None:
            return
        painter.setFont(text_font(12, QFont.Weight.Medium))
        for place in self._number_places():
            chosen = place.region in self._model.regions
            colour = QColor(255, 190, 120) if chosen else QColor(246, 240, 226)
            for pen in (QPen(QColor(20, 24, 22, 150), 3), QPen(colour, 1)):
                painter.setPen(pen)
                painter.drawLine(QPointF(place.x0, place.y0), QPointF(place.x1, place.y1))
            box = QRectF(place.left, place.top, place.width, place.height)
            self._halo_text(painter, box, str(place.region), colour)

    @staticmethod
    def _halo_text(painter: QPainter, box: QRectF, text: str, colour: QColor) -> None:
        painter.setPen(QColor(20, 24, 22, 170))
        for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1)):
            painter.drawText(box.translated(dx, dy), int(Qt.AlignmentFlag.AlignCenter), text)
        painter.setPen(colour)
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), text)

    def _paint_patch(self, painter: QPainter) -> None:
        patch = self._drawn or self.patch
        if patch is None:
            return
        a = self.to_widget(patch.x - 0.5, patch.y - 0.5)
        b = self.to_widget(patch.x + patch.width - 0.5, patch.y + patch.height - 0.5)
        box = QRectF(a, b).normalized()
        painter.setBrush(self._theme.colour("water", 60))
        painter.setPen(QPen(QColor(22, 26, 24, 180), 3))
        painter.drawRect(box)
        painter.setPen(QPen(QColor(250, 236, 208), 1.4, Qt.PenStyle.DashLine))
        painter.drawRect(box)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setFont(text_font(12, QFont.Weight.Medium))
        label = QRectF(box.left(), box.top() - 20, max(box.width(), 120), 18)
        painter.setPen(QColor(20, 24, 22, 170))
        flags = int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        painter.drawText(label.translated(1, 1), flags, "background patch")
        painter.setPen(QColor(250, 236, 208))
        painter.drawText(label, flags, "background patch")

    def _paint_scale_bar(self, painter: QPainter) -> None:
        sample = self._bench.focused_sample
        if sample is None or self._view is None:
            return
        calibration = sample.first.calibration
        per_unit = calibration.pixel_size or 1.0
        unit = calibration.unit if calibration.pixel_size else "px"
        scale = self._view.zoom / self.devicePixelRatioF() / per_unit
        length = nice_length(110 / scale)
        width = length * scale
        left, bottom = 16.0, self.height() - 16.0
        text = f"{length:g} {unit}"
        painter.setFont(text_font(12, QFont.Weight.Medium))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(20, 24, 22, 120))
        painter.drawRoundedRect(QRectF(left - 8, bottom - 26, width + 16, 34), 4, 4)
        painter.setBrush(QColor(255, 255, 255))
        painter.drawRect(QRectF(left, bottom - 2, width, 3))
        painter.setPen(QColor(255, 255, 255))
        box = QRectF(left - 8, bottom - 24, width + 16, 20)
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), text)
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _paint_tag(self, painter: QPainter, text: str) -> None:
        box = QRectF(self.width() / 2 - 40, 12, 80, 24)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._theme.colour("accent"))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(self._theme.colour("on_accent"))
        painter.setFont(text_font(12, QFont.Weight.DemiBold))
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), text)

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
        if turns:
            self.zoom_by(_ZOOM_STEP**turns, event.position())
        event.accept()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self.fit()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        at = event.position()
        left = event.button() == Qt.MouseButton.LeftButton
        if event.button() == Qt.MouseButton.MiddleButton or (left and self._space):
            self._pan_from = at
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
            return
        pixel = self.to_pixel(at)
        if not left or pixel is None:
            return
        if self._model.stage == "correct" and self.patch_is_drawable:
            self._start_patch(pixel)
            return
        if self._bench.outlines_shown():
            self._select_at(pixel, event.modifiers())

    def _start_patch(self, pixel: tuple[int, int]) -> None:
        patch = self.patch
        if (
            patch is not None
            and patch.x <= pixel[0] < patch.x + patch.width
            and patch.y <= pixel[1] < patch.y + patch.height
        ):
            self._move_patch = (*pixel, patch)
        else:
            self._draw_from = pixel

    def _select_at(self, pixel: tuple[int, int], modifiers: Qt.KeyboardModifier) -> None:
        facts = self._bench.focused_facts
        region = 0 if facts is None or facts.regions is None else facts.regions.at(*pixel)
        add = modifiers & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        if not add:
            self._model.focus(regions={region} - {0})
        elif region:
            self._model.focus(regions=self._model.regions ^ {region})

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        at = event.position()
        if self._pan_from is not None:
            step = at - self._pan_from
            self._pan_from = at
            self.pan(step.x(), step.y())
            return
        if self._draw_from is not None:
            x, y = self._nearest_pixel(at)
            x0, y0 = self._draw_from
            self._drawn = Rectangle(
                x=min(x, x0), y=min(y, y0), width=abs(x - x0) + 1, height=abs(y - y0) + 1
            )
            self.update()
        elif self._move_patch is not None and self._shape is not None:
            x, y = self._nearest_pixel(at)
            x0, y0, patch = self._move_patch
            height, width = self._shape
            self._drawn = Rectangle(
                x=min(max(patch.x + x - x0, 0), max(width - patch.width, 0)),
                y=min(max(patch.y + y - y0, 0), max(height - patch.height, 0)),
                width=patch.width,
                height=patch.height,
            )
            self.update()
        self.pointed.emit(self.to_pixel(at))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._pan_from = None
        self._draw_from, self._move_patch = None, None
        self.setCursor(Qt.CursorShape.OpenHandCursor if self._space else Qt.CursorShape.ArrowCursor)
        drawn, self._drawn = self._drawn, None
        if drawn is not None and drawn.width * drawn.height > 1:
            self.patch_drawn.emit(drawn)
        self.update()

    def leaveEvent(self, event: object) -> None:
        self.pointed.emit(None)

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
            self.unsetCursor()
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


def nice_length(longest: float) -> float:
    """Return the largest of 1, 2, 5 × 10ⁿ that is not above `longest`."""
    if not longest > 0 or not math.isfinite(longest):
        return 1.0
    power = 10.0 ** math.floor(math.log10(longest))
    return max(step * power for step in (1.0, 2.0, 5.0) if step * power <= longest * (1 + 1e-9))

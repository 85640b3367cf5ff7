"""The Sheet: all samples, or all channels of one, side by side, moved and pointed at together."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFont,
    QImage,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.view.sampling import Viewport
from rilievo.ui.canvas.geometry import Geometry
from rilievo.ui.canvas.overlays import paint_cross, paint_scale_bar
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.scene import Scene, paint_later, scene_of
from rilievo.ui.session.number_format import shown
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

_GAP, _CAPTION = 6, 22
# Room for the chips above and the key at the right.
_HEAD, _SIDE = 42, 112
_ZOOM_STEP = 1.25
_MOST_ZOOM = 64.0
_MOST_CELLS = 64


@dataclass
class Cell:
    """One picture of the Sheet. key : sample id and channel."""

    key: tuple[int, str]
    name: str
    box: QRectF
    shape: tuple[int, int]
    bottom_up: bool
    image: QImage | None = None
    drawn: Viewport | None = None
    colour: str = field(default="#888888")


class Sheet(QWidget):
    """Cells that share zoom, position and pointer; positions agree by image pixel."""

    pointed = pyqtSignal(object)
    viewed = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self._viewing = session.view
        self.cells: list[Cell] = []
        # Image position in the middle of each cell, and zoom over that of fitting; None fits.
        self._centre: tuple[float, float] | None = None
        self._factor = 1.0
        self._pan_from: QPointF | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Sheet of all samples")
        for signal in (session.focus.changed, session.stage_changed, compute.store.loaded):
            signal.connect(lambda *_: self.refresh())
        session.changed.connect(lambda *_: self.refresh())
        compute.queue.changed.connect(lambda _: self.render_soon())
        compute.drag.changed.connect(self.render_soon)
        self._viewing.changed.connect(self.refresh)

    # -- what is shown

    def _wanted(self) -> list[tuple[int, str, str]]:
        """Sample id, channel, caption of each cell."""
        if self._viewing.layout_kind == "channels":
            sample, entry = self._compute.store.focused, self._session.focus.entry
            if sample is None or entry is None:
                return []
            return [(entry.id, name, name) for name in sample.channel_names]
        return [
            (
                entry.id,
                self._compute.store.channel_for(self._compute.store.samples[entry.id]),
                entry.name,
            )
            for entry in self._session.state.samples
            if entry.id in self._compute.store.samples
        ][:_MOST_CELLS]

    def refresh(self) -> None:
        """Lay the cells out and draw them."""
        if not self.isVisible():
            return
        wanted = self._wanted()
        old = {cell.key: cell for cell in self.cells}
        room = max(self.width() - _SIDE, 80), max(self.height() - _HEAD, 80)
        columns = _columns(len(wanted), *room)
        rows = math.ceil(len(wanted) / columns) if wanted else 1
        width = (room[0] - _GAP * (columns + 1)) / columns
        height = (room[1] - _GAP * (rows + 1)) / rows
        groups = self._session.state.groups
        self.cells = []
        for i, (sample_id, channel, name) in enumerate(wanted):
            left = _GAP + (i % columns) * (width + _GAP)
            top = _HEAD + (i // columns) * (height + _GAP)
            sample = self._compute.store.samples[sample_id]
            entry = self._session.state.entry(sample_id)
            cell = Cell(
                (sample_id, channel),
                name,
                QRectF(left, top + _CAPTION, width, height - _CAPTION),
                self._compute.displayed.frame_of(sample_id).shape,
                sample.bottom_up,
                colour=group_style(groups, entry.group).colour,
            )
            known = old.get(cell.key)
            if known is not None:
                cell.image, cell.drawn = known.image, known.drawn
            self.cells.append(cell)
        self.render_soon()
        self.update()

    def fit(self) -> None:
        """Show whole pictures again."""
        self._centre, self._factor = None, 1.0
        self._moved()

    def geometry_of(self, cell: Cell) -> Geometry:
        """Return where a cell's pixels stand, seen from its own corner."""
        ratio = self.devicePixelRatioF()
        height, width = cell.shape
        fit = min(cell.box.width() / width, cell.box.height() / height)
        zoom = min(fit * self._factor, _MOST_ZOOM)
        x, y = self._centre or ((width - 1) / 2, (height - 1) / 2)
        row = height - 1 - y if cell.bottom_up else y
        view = Viewport(
            left=x + 0.5 - cell.box.width() / zoom / 2,
            top=row + 0.5 - cell.box.height() / zoom / 2,
            zoom=zoom * ratio,
            width=max(1, round(cell.box.width() * ratio)),
            height=max(1, round(cell.box.height() * ratio)),
            bottom_up=cell.bottom_up,
        )
        return Geometry(view, cell.shape, ratio)

    @property
    def zoom(self) -> float:
        """Screen pixels per image pixel in the first cell."""
        return self.geometry_of(self.cells[0]).view.zoom if self.cells else 1.0

    def render_soon(self) -> None:
        """Ask for the pictures of all cells."""
        if not self.isVisible():
            return
        for cell in self.cells:
            sample_id, channel = cell.key
            if sample_id not in self._compute.store.samples:
                continue
            scene = scene_of(self._compute, sample_id, channel=channel)
            if self._viewing.layout_kind == "channels":
                scene = replace(scene, layers=())
            self._draw(cell.key, scene, self.geometry_of(cell).view)

    def _draw(self, key: tuple[int, str], scene: Scene, view: Viewport) -> None:
        def done(image: QImage) -> None:
            for cell in self.cells:
                if cell.key == key:
                    cell.image, cell.drawn = image, view
            self.update()

        paint_later(self._compute, f"sheet {key}", scene, view, self._theme.looks(), done)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._theme.colour("picture_ground"))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for cell in self.cells:
            self._paint_cell(painter, cell)
        if not self.cells:
            painter.setPen(self._theme.colour("over_picture"))
            painter.drawText(
                self.rect(), int(Qt.AlignmentFlag.AlignCenter), "Samples appear here side by side."
            )

    def _paint_cell(self, painter: QPainter, cell: Cell) -> None:
        geometry = self.geometry_of(cell)
        focused = cell.key[0] == self._session.focus.sample_id
        painter.save()
        painter.setClipRect(cell.box)
        painter.translate(cell.box.topLeft())
        if cell.image is not None and cell.drawn is not None:
            painter.drawImage(geometry.position_of(cell.image, cell.drawn), cell.image)
        pixel = self._viewing.pixel
        if pixel is not None and pixel[0] < cell.shape[1] and pixel[1] < cell.shape[0]:
            paint_cross(painter, geometry.to_widget(*pixel))
        painter.restore()
        if cell is self.cells[0]:
            painter.save()
            painter.translate(cell.box.topLeft())
            sample = self._compute.store.samples.get(cell.key[0])
            if sample is not None:
                paint_scale_bar(painter, geometry, sample.first.calibration)
            painter.restore()
        self._paint_caption(painter, cell, focused)

    def _paint_caption(self, painter: QPainter, cell: Cell, focused: bool) -> None:
        box = QRectF(cell.box.left(), cell.box.top() - _CAPTION, cell.box.width(), _CAPTION)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._theme.colour("over_picture" if focused else "picture_ground"))
        painter.drawRect(box)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        ink = self._theme.colour("ink" if focused else "over_picture")
        painter.setFont(text_font(12, QFont.Weight.DemiBold if focused else QFont.Weight.Medium))
        painter.setPen(ink)
        flags = Qt.AlignmentFlag.AlignVCenter
        value = self.value_text(cell)
        room = painter.fontMetrics().horizontalAdvance(value) + 18
        name = painter.fontMetrics().elidedText(
            cell.name, Qt.TextElideMode.ElideRight, max(int(box.width()) - room, 20)
        )
        painter.drawText(box.adjusted(6, 0, 0, 0), int(flags), name)
        painter.drawText(box.adjusted(0, 0, -6, 0), int(flags | Qt.AlignmentFlag.AlignRight), value)
        if focused:
            painter.setPen(QPen(self._theme.colour("accent"), 2))
            painter.drawRect(box.united(cell.box).adjusted(0, 0, -1, -1))

    def value_text(self, cell: Cell) -> str:
        """Return what a cell reads at the pointer."""
        sample, pixel = self._compute.store.samples.get(cell.key[0]), self._viewing.pixel
        if sample is None or pixel is None or cell.key[1] not in sample.channels:
            return ""
        plane = self._compute.displayed.plane(*cell.key)
        if plane is None:
            return ""
        if pixel[0] >= plane.shape[1] or pixel[1] >= plane.shape[0]:
            return "outside"
        scale = self._compute.ranges.number_scale(cell.key[1])
        return shown(scale.value(float(plane.pixels[pixel[1], pixel[0]])), 5)

    # -- input

    def _cell_at(self, at: QPointF) -> Cell | None:
        return next(
            (c for c in self.cells if c.box.adjusted(0, -_CAPTION, 0, 0).contains(at)), None
        )

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None:
            return
        cell, turns = self._cell_at(event.position()), event.angleDelta().y() / 120
        if cell is not None and turns:
            self.zoom_by(_ZOOM_STEP**turns, cell, event.position() - cell.box.topLeft())
        event.accept()

    def zoom_by(self, factor: float, cell: Cell | None = None, at: QPointF | None = None) -> None:
        """Zoom all cells about a position of one."""
        cell = cell or (self.cells[0] if self.cells else None)
        if cell is None:
            return
        at = at or QPointF(cell.box.width() / 2, cell.box.height() / 2)
        before = self.geometry_of(cell).to_image(at)
        self._factor = min(max(self._factor * factor, 0.5), 4096.0)
        self._shift(cell, before, at)

    def _shift(self, cell: Cell, position: QPointF, at: QPointF) -> None:
        """Bring an image position of a cell to a point of it."""
        height, width = cell.shape
        now = self.geometry_of(cell).to_image(at)
        x, y = self._centre or ((width - 1) / 2, (height - 1) / 2)
        self._centre = (x + position.x() - now.x(), y + position.y() - now.y())
        self._moved()

    def _moved(self) -> None:
        self.render_soon()
        self.update()
        self.viewed.emit()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        cell = self._cell_at(event.position()) if event is not None else None
        if cell is None or event is None:
            return
        self._pan_from = event.position()
        if self._viewing.layout_kind == "channels":
            self._session.focus.set(channel=cell.key[1])
        else:
            self._session.focus.set(sample_id=cell.key[0])

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        at = event.position()
        cell = self._cell_at(at)
        if self._pan_from is not None and cell is not None:
            inner = at - cell.box.topLeft()
            position = self.geometry_of(cell).to_image(inner - (at - self._pan_from))
            self._pan_from = at
            self._shift(cell, position, inner)
            return
        pixel = None
        if cell is not None and cell.box.contains(at):
            pixel = self.geometry_of(cell).to_pixel(at - cell.box.topLeft())
        self._viewing.point_at(pixel)
        self.pointed.emit(pixel)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._pan_from = None

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self.fit()

    def leaveEvent(self, event: object) -> None:
        self._viewing.point_at(None)
        self.pointed.emit(None)
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.refresh()

    def showEvent(self, event: object) -> None:
        self.refresh()


def _columns(count: int, width: int, height: int) -> int:
    """How many columns make the cells largest."""
    if count <= 1:
        return 1
    best = 1
    most = 0.0
    for columns in range(1, count + 1):
        rows = math.ceil(count / columns)
        side = min(width / columns, height / rows - _CAPTION)
        if side > most * 1.001:
            best, most = columns, side
    return best

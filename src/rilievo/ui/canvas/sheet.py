"""The Sheet: all samples, or all channels of one, side by side, moved and pointed at together."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
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
from PyQt6.QtWidgets import QScrollBar, QWidget

from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.view.sampling import Viewport
from rilievo.core.wording.numbers import shown
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.overlays import paint_cross, paint_scale_bar
from rilievo.ui.canvas.sheet_layout import CAPTION, HEAD, SheetLayout
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.scene import Scene, paint_later, scene_of
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

_ZOOM_STEP = 1.25
_MOST_ZOOM = 64.0
_LEAST_ASPECT = 0.4
_PAGE_KEYS = {Qt.Key.Key_PageDown: 1, Qt.Key.Key_PageUp: -1}


@dataclass
class Cell:
    """One picture of the Sheet. key : sample id and channel; shape : None until it is read."""

    key: tuple[int, str]
    name: str
    box: QRectF
    shape: tuple[int, int] | None
    bottom_up: bool
    image: QImage | None = None
    drawn: Viewport | None = None
    colour: str = field(default="#888888")


class Sheet(QWidget):
    """Cells that share zoom, position and pointer; positions agree by image pixel.

    samples_in_order : ids of the samples that are wanted; those of the study unless it is set.
    """

    pointed = pyqtSignal(object)
    viewed = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self._viewing = session.view
        self.cells: list[Cell] = []
        self.samples_in_order: Callable[[], list[int]] = lambda: [
            entry.id for entry in session.state.samples
        ]
        self._layout = SheetLayout.of(0, 1, 1)
        self._wanted: list[tuple[int, str | None, str]] = []
        self.bar = QScrollBar(Qt.Orientation.Vertical, self)
        self.bar.setAccessibleName("Rows of the Sheet")
        self.bar.hide()
        self.bar.valueChanged.connect(lambda _: self._place_cells())
        # Image position in the middle of each cell, and zoom over that of fitting; None fits.
        self._centre: tuple[float, float] | None = None
        self._factor = 1.0
        self._pan_from: QPointF | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Sheet of all samples")
        session.stage_changed.connect(lambda *_: self.refresh())
        compute.store.loaded.connect(self._follow_reading)
        compute.store.load_failed.connect(lambda sample_id, _: self._follow_reading(sample_id))
        session.focus.changed.connect(self._follow_focus)
        session.changed.connect(lambda *_: self.refresh())
        compute.queue.changed.connect(lambda _: self.render_soon())
        compute.drag.changed.connect(self.render_soon)
        self._viewing.changed.connect(self.refresh)

    # -- what is shown

    def _all_wanted(self) -> list[tuple[int, str | None, str]]:
        """Sample id, channel (None for the focused one), caption of each cell."""
        if self._viewing.layout_kind == "channels":
            sample, entry = self._compute.store.focused, self._session.focus.entry
            if sample is None or entry is None:
                return []
            return [(entry.id, name, name) for name in sample.channel_names]
        state = self._session.state
        found = (state.find(one) for one in self.samples_in_order())
        return [(entry.id, None, entry.name) for entry in found if entry is not None]

    def refresh(self) -> None:
        """Lay the cells out and draw them."""
        if not self.isVisible():
            return
        self._wanted = self._all_wanted()
        self._layout = SheetLayout.of(
            len(self._wanted), self.width(), self.height(), self._aspect()
        )
        self.bar.setVisible(self._layout.scrolls > 0)
        wide = self.bar.sizeHint().width()
        self.bar.setGeometry(
            round(self._layout.width), HEAD, wide, max(self.height() - HEAD - CAPTION, 0)
        )
        self.bar.blockSignals(True)
        self.bar.setRange(0, self._layout.scrolls)
        self.bar.setPageStep(self._layout.rows_shown)
        self.bar.blockSignals(False)
        self._place_cells()

    def _aspect(self) -> float:
        """Height over width of the focused picture, as that of most; very long ones are cut."""
        focus = self._session.focus.sample_id
        if focus is None or focus not in self._compute.store.samples:
            return 1.0
        height, width = self._compute.displayed.frame_of(focus).shape
        return min(max(height / width, _LEAST_ASPECT), 1 / _LEAST_ASPECT)

    def _place_cells(self) -> None:
        """Make the cells that are seen."""
        old = {cell.key: cell for cell in self.cells}
        groups = self._session.state.groups
        store, first = self._compute.store, self.bar.value()
        self.cells = []
        for position in self._layout.seen(first):
            sample_id, channel, name = self._wanted[position]
            sample, shape = store.samples.get(sample_id), None
            if sample is not None:
                channel = channel or store.channel_for(sample)
                shape = self._compute.displayed.frame_of(sample_id).shape
            cell = Cell(
                (sample_id, channel or ""),
                name,
                self._layout.box(position, first),
                shape,
                sample is not None and sample.bottom_up,
                colour=group_style(groups, self._session.state.entry(sample_id).group).colour,
            )
            known = old.get(cell.key)
            if known is not None:
                cell.image, cell.drawn = known.image, known.drawn
            self.cells.append(cell)
        store.look_at([cell.key[0] for cell in self.cells])
        self.render_soon()
        self.update()

    def _follow_reading(self, sample_id: int) -> None:
        """Show a sample that was read, where it is in view."""
        if not self.cells or any(cell.key[0] == sample_id for cell in self.cells):
            self.refresh()

    def _follow_focus(self) -> None:
        """Bring the focused sample into view."""
        ids = [sample_id for sample_id, _, _ in self._wanted]
        focus = self._session.focus.sample_id
        if self._viewing.layout_kind == "samples" and focus in ids and self._layout.scrolls:
            row, first = self._layout.row_of(ids.index(focus)), self.bar.value()
            last = first + self._layout.rows_shown - 1
            self.bar.setValue(min(first, row) if row < first else first + max(row - last, 0))
        self.refresh()

    def fit(self) -> None:
        """Show whole pictures again."""
        self._centre, self._factor = None, 1.0
        self._moved()

    def geometry_of(self, cell: Cell) -> Geometry:
        """Return where a cell's pixels stand, seen from its own corner."""
        ratio = self.devicePixelRatioF()
        height, width = cell.shape or (1, 1)
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
        return Geometry(view, (height, width), ratio)

    @property
    def zoom(self) -> float:
        """Screen pixels per image pixel in the first cell."""
        first = next((cell for cell in self.cells if cell.shape), None)
        return self.geometry_of(first).view.zoom if first is not None else 1.0

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
        shape = cell.shape or (0, 0)
        if pixel is not None and pixel[0] < shape[1] and pixel[1] < shape[0]:
            paint_cross(painter, geometry.to_widget(*pixel))
        painter.restore()
        if cell.image is None:
            self._paint_reason(painter, cell)
        elif cell is self.cells[0]:
            painter.save()
            painter.translate(cell.box.topLeft())
            sample = self._compute.store.samples.get(cell.key[0])
            if sample is not None:
                paint_scale_bar(painter, geometry, sample.first.calibration)
            painter.restore()
        self._paint_caption(painter, cell, focused)

    def _paint_reason(self, painter: QPainter, cell: Cell) -> None:
        """Say why a cell has no picture yet."""
        failed = self._compute.store.errors.get(cell.key[0])
        painter.setFont(text_font(11))
        painter.setPen(self._theme.colour("over_picture"))
        flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
        painter.drawText(cell.box, int(flags), "reading …" if failed is None else failed)

    def _paint_caption(self, painter: QPainter, cell: Cell, focused: bool) -> None:
        box = QRectF(cell.box.left(), cell.box.top() - CAPTION, cell.box.width(), CAPTION)
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
        return next((c for c in self.cells if c.box.adjusted(0, -CAPTION, 0, 0).contains(at)), None)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None:
            return
        cell, turns = self._cell_at(event.position()), event.angleDelta().y() / 120
        beside = cell is None or not cell.box.contains(event.position())
        if beside or event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            # Beside the pictures and over their names the wheel scrolls; over them it zooms.
            turned = event.angleDelta().y() or event.angleDelta().x()
            self.bar.setValue(self.bar.value() - (1 if turned > 0 else -1))
        elif cell is not None and turns:
            self.zoom_by(_ZOOM_STEP**turns, cell, event.position() - cell.box.topLeft())
        event.accept()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        page = _PAGE_KEYS.get(Qt.Key(event.key()))
        if page is not None and self._layout.scrolls:
            self.bar.setValue(self.bar.value() + page * self._layout.rows_shown)
        else:
            super().keyPressEvent(event)

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
        height, width = cell.shape or (1, 1)
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

    def hideEvent(self, event: object) -> None:
        self._compute.store.look_at([])

    def showEvent(self, event: object) -> None:
        self.refresh()

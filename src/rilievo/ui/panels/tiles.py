"""The samples as tiles by group, with outlines, count and checks. Only tiles in view are drawn."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QPoint, QPointF, QRect, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFont,
    QHelpEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QShowEvent,
)
from PyQt6.QtWidgets import QScrollArea, QToolTip, QWidget

from rilievo.core.compare import UNGROUPED
from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.study.study import SampleEntry
from rilievo.core.view.sampling import Viewport
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.scene import scene_of
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

TILE = 62
_STEP = TILE + 6
_GROUP_GAP = 16
_TOP = 30
# Tiles out of view that are drawn in one go.
_AT_ONCE = 12
_LEFT = 16
_MANY, _TOGETHER_MS = 60, 120


@dataclass
class Tile:
    """One sample's position and what it shows."""

    sample_id: int
    name: str
    caption: str
    box: QRect
    image: QImage | None = None
    region_count: int | None = None


@dataclass(frozen=True)
class _GroupHead:
    name: str
    left: int
    right: int


def draw_dot(painter: QPainter, centre: QPointF, colour: str, marker: str) -> None:
    """Draw a group's mark: its colour together with its shape."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(colour))
    x, y, r = centre.x(), centre.y(), 4.6
    shapes = {
        "s": [(-r, -r), (r, -r), (r, r), (-r, r)],
        "^": [(0, -r * 1.15), (r * 1.1, r), (-r * 1.1, r)],
        "v": [(0, r * 1.15), (r * 1.1, -r), (-r * 1.1, -r)],
        "D": [(0, -r * 1.25), (r * 1.25, 0), (0, r * 1.25), (-r * 1.25, 0)],
    }
    if marker in shapes:
        painter.drawPolygon(QPolygonF([QPointF(x + dx, y + dy) for dx, dy in shapes[marker]]))
    else:
        painter.drawEllipse(centre, r, r)


class TileStrip(QWidget):
    """All tiles in one row; arrow keys move the focus, Ctrl and Shift choose several."""

    menu_wanted = pyqtSignal(QPoint)

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self.tiles: list[Tile] = []
        self._by_id: dict[int, Tile] = {}
        self._heads: list[_GroupHead] = []
        self.setObjectName("scrolled")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Samples")
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.timeout.connect(self._draw)
        session.changed.connect(lambda *_: self.arrange())
        session.focus.changed.connect(self._on_focus)
        compute.displayed.ends_changed.connect(self.draw_soon)
        session.view.changed.connect(self.draw_soon)
        session.focus.regions_changed.connect(self.draw_soon)
        session.stage_changed.connect(lambda _: self.draw_soon())
        compute.store.loaded.connect(lambda _: self.draw_soon())
        compute.store.load_failed.connect(lambda *_: self.update())
        compute.queue.changed.connect(lambda _: self.draw_soon())
        compute.checks.changed.connect(self.update)
        compute.drag.changed.connect(self.draw_soon)

    def arrange(self) -> None:
        """Give each sample its place."""
        old = {tile.sample_id: tile for tile in self.tiles}
        self.tiles, self._heads = [], []
        left = _LEFT
        members: dict[str, list[SampleEntry]] = {}
        for entry in self._session.state.samples:
            members.setdefault(entry.group, []).append(entry)
        for group, entries in members.items():
            start = left
            for entry in entries:
                box = QRect(left, _TOP, TILE, TILE)
                tile = Tile(entry.id, entry.name, entry.replicate or entry.name, box)
                if entry.id in old and old[entry.id].name == entry.name:
                    tile.image = old[entry.id].image
                    tile.region_count = old[entry.id].region_count
                self.tiles.append(tile)
                left += _STEP
            self._heads.append(_GroupHead(group, start, left - 6))
            left += _GROUP_GAP
        self._by_id = {tile.sample_id: tile for tile in self.tiles}
        self.setMinimumSize(QSize(left - _GROUP_GAP + 10, _TOP + TILE + 26))
        self.draw_soon()
        self.update()

    def tile(self, sample_id: int) -> Tile | None:
        """Return the tile of a sample."""
        return self._by_id.get(sample_id)

    def _on_focus(self) -> None:
        tile = self.tile(self._session.focus.sample_id or -1)
        viewport = self.parentWidget()
        area = viewport.parentWidget() if viewport is not None else None
        if tile is not None and isinstance(area, QScrollArea):
            area.ensureVisible(tile.box.center().x(), tile.box.center().y(), TILE, 0)
        self.draw_soon()
        self.update()

    def draw_soon(self) -> None:
        """Draw the pictures of the tiles in view, once for all that changes in this turn; of many
        samples, once for what comes within a moment."""
        if not self.timer.isActive():
            self.timer.start(_TOGETHER_MS if len(self.tiles) > _MANY else 0)

    def _draw(self) -> None:
        """Draw the tiles in view and some of those that have no picture yet, in a thread."""
        compute = self._compute
        seen = self.visibleRegion().boundingRect()
        there = [tile for tile in self.tiles if tile.sample_id in compute.store.samples]
        wanted = [tile for tile in there if tile.box.intersects(seen)]
        shown = {tile.sample_id for tile in wanted}
        wanted += [t for t in there if t.image is None and t.sample_id not in shown][:_AT_ONCE]
        if not wanted:
            return
        orders = [self._order(tile, round(TILE * self.devicePixelRatioF())) for tile in wanted]

        def work() -> list[tuple[int, QImage, int | None]]:
            return [order() for order in orders]

        def done(results: list[tuple[int, QImage, int | None]]) -> None:
            for sample_id, image, count in results:
                tile = self.tile(sample_id)
                if tile is not None:
                    tile.image, tile.region_count = image, count
            self.update()

        compute.jobs.run("tiles", work, done, lambda _: None, every=True)

    def _order(self, tile: Tile, size: int) -> Callable[[], tuple[int, QImage, int | None]]:
        compute, sample_id = self._compute, tile.sample_id
        scene = scene_of(compute, sample_id)
        height, width = scene.shape
        zoom = size / max(height, width)
        view = Viewport(
            left=(width - size / zoom) / 2,
            top=(height - size / zoom) / 2,
            zoom=zoom,
            width=size,
            height=size,
            bottom_up=scene.sample.bottom_up,
        )
        looks = self._theme.looks()

        chosen = self._session.focus.selected_regions().get(sample_id, frozenset())

        def order() -> tuple[int, QImage, int | None]:
            return sample_id, scene.painted(compute.evaluator, view, looks, chosen), scene.count

        return order

    # -- drawing

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.draw_soon()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.tiles:
            painter.setPen(self._theme.colour("faint"))
            painter.drawText(
                self.rect().adjusted(16, 0, -16, 0),
                int(Qt.AlignmentFlag.AlignCenter),
                "Samples appear here. Drop image files or a folder on the window.",
            )
            return
        groups = self._session.state.groups
        for head in self._heads:
            style = group_style(groups, head.name)
            draw_dot(painter, QPointF(head.left + 6, 14), style.colour, style.marker)
            painter.setPen(self._theme.colour("ink"))
            painter.setFont(text_font(12, QFont.Weight.Medium))
            box = QRect(head.left + 16, 4, max(head.right - head.left - 16, 20), 20)
            name = painter.fontMetrics().elidedText(
                head.name or UNGROUPED, Qt.TextElideMode.ElideRight, box.width()
            )
            painter.drawText(box, int(Qt.AlignmentFlag.AlignVCenter), name)
        area = event.rect() if event is not None else self.rect()
        for tile in self.tiles:
            if tile.box.adjusted(-4, -4, 4, 26).intersects(area):
                self._paint_tile(painter, tile)

    def _paint_tile(self, painter: QPainter, tile: Tile) -> None:
        focused = tile.sample_id == self._session.focus.sample_id
        also = tile.sample_id in self._session.focus.also
        failed = tile.sample_id in self._compute.store.errors
        held = tile.sample_id in self._compute.store.residency.wanted
        if tile.image is not None:
            painter.drawImage(tile.box, tile.image)
        else:
            painter.fillRect(tile.box, self._theme.colour("hover"))
            painter.setPen(self._theme.colour("check_text" if failed else "faint"))
            painter.setFont(text_font(11))
            text = "not read" if failed else "reading" if held else ""
            painter.drawText(tile.box, int(Qt.AlignmentFlag.AlignCenter), text)
        if focused:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self._theme.colour("accent"), 3 if self.hasFocus() else 2))
            painter.drawRoundedRect(QRectF(tile.box).adjusted(-3, -3, 3, 21), 4, 4)
        elif also:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self._theme.colour("accent"), 1.4, Qt.PenStyle.DashLine))
            painter.drawRoundedRect(QRectF(tile.box).adjusted(-3, -3, 3, 21), 4, 4)
        below = QRect(tile.box.left(), tile.box.bottom() + 1, tile.box.width(), 19)
        painter.setFont(text_font(11, QFont.Weight.DemiBold if focused else QFont.Weight.Normal))
        painter.setPen(self._theme.colour("ink" if focused else "faint"))
        flags = int(Qt.AlignmentFlag.AlignVCenter)
        known = tile.region_count is not None and self._compute.session.shows_regions
        count = "" if not known else str(tile.region_count)
        room = below.width() - painter.fontMetrics().horizontalAdvance(count) - 10
        caption = painter.fontMetrics().elidedText(tile.caption, Qt.TextElideMode.ElideRight, room)
        painter.drawText(below.adjusted(2, 0, 0, 0), flags, caption)
        painter.drawText(
            below.adjusted(0, 0, -2, 0), flags | int(Qt.AlignmentFlag.AlignRight), count
        )
        if failed or self._compute.checks.of(tile.sample_id):
            self._paint_check(painter, tile.box)

    def _paint_check(self, painter: QPainter, box: QRect) -> None:
        x, y = box.right() - 9.0, box.top() + 9.0
        painter.setPen(QPen(QColor(40, 30, 10), 1))
        painter.setBrush(self._theme.colour("check"))
        painter.drawPolygon(
            QPolygonF([QPointF(x, y - 5), QPointF(x + 5.5, y + 4.5), QPointF(x - 5.5, y + 4.5)])
        )

    # -- input

    def _tile_at(self, at: QPoint) -> Tile | None:
        return next((t for t in self.tiles if t.box.adjusted(-3, -3, 3, 21).contains(at)), None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        tile = self._tile_at(event.position().toPoint()) if event is not None else None
        if tile is None or event is None:
            return
        session = self._session
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            session.focus.choose_also(
                session.focus.also ^ ({tile.sample_id} - {session.focus.sample_id})
            )
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            ids = [known.sample_id for known in self.tiles]
            ends = sorted((ids.index(tile.sample_id), ids.index(session.focus.sample_id or ids[0])))
            session.focus.choose_also(ids[ends[0] : ends[1] + 1])
        elif (
            tile.sample_id not in session.focus.also or event.button() == Qt.MouseButton.LeftButton
        ):
            session.focus.set(sample_id=tile.sample_id)
            session.focus.choose_also(())

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None and self._tile_at(event.pos()) is not None:
            self.menu_wanted.emit(event.globalPos())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        ids = [tile.sample_id for tile in self.tiles]
        if step is None or self._session.focus.sample_id not in ids:
            super().keyPressEvent(event)
            return
        k = ids.index(self._session.focus.sample_id) + step
        self._session.focus.set(sample_id=ids[min(max(k, 0), len(ids) - 1)])

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent):
            tile = self._tile_at(event.pos())
            if tile is None:
                QToolTip.hideText()
            else:
                lines = [tile.name]
                if tile.sample_id in self._compute.store.errors:
                    lines.append(self._compute.store.errors[tile.sample_id])
                lines += [
                    f"{check.channel}: {check.text}" if check.channel else check.text
                    for check in self._compute.checks.of(tile.sample_id)
                ]
                QToolTip.showText(event.globalPos(), "\n".join(lines), self)
            return True
        return super().event(event)

    def focusInEvent(self, event: object) -> None:
        self.update()

    def focusOutEvent(self, event: object) -> None:
        self.update()

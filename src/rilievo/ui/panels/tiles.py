"""The samples as a wall of tiles, with outlines, count and checks. Only those in view are drawn."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QPoint, QPointF, QRect, QRectF, Qt, QTimer, pyqtSignal
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
    QResizeEvent,
    QShowEvent,
)
from PyQt6.QtWidgets import QScrollArea, QToolTip, QWidget

from rilievo.core.compare import UNGROUPED
from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.view.sampling import Viewport
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.scene import scene_of
from rilievo.ui.session.sample_order import (
    CHECKS,
    COUNT,
    NAME,
    STUDY,
    SUMMARY,
    SampleFacts,
    Section,
    arranged,
    summaries_of,
)
from rilievo.ui.session.short_names import without_common_beginning
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

SIZES = (44, 62, 96, 144)
TILE = SIZES[1]
_GAP, _GROUP_GAP = 6, 16
# Room for the heading of a group above its tiles, else, and for the caption below a tile.
_TOP, _TOP_PLAIN, _BELOW = 30, 8, 26
# Tiles out of view that are drawn in one go.
_AT_ONCE = 12
_LEFT = 16
_MANY, _TOGETHER_MS = 60, 120

_STEPS = {
    Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Home: (-1_000_000, 0),
    Qt.Key.Key_End: (1_000_000, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1),
}  # fmt: skip


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
    top: int


class _Flow:
    """Where tiles lie: beside each other as long as there is room, then below."""

    def __init__(self, side: int, room: int) -> None:
        self.side, self.room, self.step = side, room, side + _GAP
        self.left, self.top = _LEFT, 0
        self._head = 0
        self._begun = False

    def begin(self, count: int, *, headed: bool) -> None:
        """Begin a section; one with a heading goes on in the row where it fits as a whole."""
        head = _TOP if headed else _TOP_PLAIN
        left = self.left + _GROUP_GAP
        whole = left + count * self.step - _GAP
        if self._begun and self._head == head and whole <= self.room:
            self.left = left
        elif self._begun:
            self._break(head)
        self._head, self._begun = head, True

    def next_box(self) -> QRect:
        """Return the box of the next tile."""
        if self.left > _LEFT and self.left + self.side > self.room:
            # Further rows of a section have no heading.
            self._break(_TOP_PLAIN)
        box = QRect(self.left, self.top + self._head, self.side, self.side)
        self.left += self.step
        return box

    def _break(self, head: int) -> None:
        self.top, self.left = self.height, _LEFT
        self._head = head

    @property
    def height(self) -> int:
        """How high all rows are."""
        return self.top + self._head + self.side + _BELOW


def _labels(section: Section) -> list[str]:
    """What samples of a section are called: what differs between them, under its heading."""
    names = [entry.name for entry in section.entries]
    return without_common_beginning(names) if section.title is not None else names


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
    """All tiles, in rows as wide as there is room; arrow keys move the focus, Ctrl and Shift
    choose several. order, words : see `sample_order`. side : of a tile, in pixels.
    """

    menu_wanted = pyqtSignal(QPoint)
    arranged = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self.tiles: list[Tile] = []
        self._by_id: dict[int, Tile] = {}
        self._heads: list[_GroupHead] = []
        self.order, self.words, self.side = STUDY, "", TILE
        self._room = 0
        # Of the samples as they were last measured, where the order needs them.
        self._summaries: dict[int, dict[str, float]] = {}
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
        compute.checks.changed.connect(self._recount)
        session.changed.connect(lambda *_: self._recount())
        # How many checks tell a sample from the others; counted once for all that comes together.
        self._telling: dict[int, int] = {}
        self._count_timer = QTimer(self)
        self._count_timer.setSingleShot(True)
        self._count_timer.timeout.connect(self._count_checks)
        compute.drag.changed.connect(self.draw_soon)
        session.measurements.changed.connect(self._on_measured)

    def arrange(self) -> None:
        """Give each sample its place."""
        old = self._by_id
        self.tiles, self._heads = [], []
        sections = arranged(self._session.state.samples, self.order, self.words, self._facts())
        flow = _Flow(self.side, max(self._room, _LEFT + self.side + _LEFT))
        for section in sections:
            flow.begin(len(section.entries), headed=section.title is not None)
            if section.title is not None:
                right = min(flow.left + len(section.entries) * flow.step, flow.room) - _GAP
                self._heads.append(_GroupHead(section.title, flow.left, right, flow.top))
            for entry, label in zip(section.entries, _labels(section), strict=True):
                tile = Tile(entry.id, entry.name, label, flow.next_box())
                known = old.get(entry.id)
                if known is not None and known.name == entry.name:
                    tile.image, tile.region_count = known.image, known.region_count
                self.tiles.append(tile)
        self._by_id = {tile.sample_id: tile for tile in self.tiles}
        self.setMinimumHeight(flow.height if self.tiles else 0)
        self.arranged.emit()
        self.draw_soon()
        self.update()

    def show_as(self, *, order: str | None = None, words: str | None = None,
                side: int | None = None) -> None:  # fmt: skip
        """Sort, filter or size the tiles; None leaves it."""
        if side is not None and side != self.side:
            # Pictures of another size are drawn anew.
            self._by_id = {}
        self.order = self.order if order is None else order
        self.words = self.words if words is None else words
        self.side = self.side if side is None else side
        if order is not None:
            self._summarise()
        self.arrange()

    def _on_measured(self) -> None:
        self._summarise()
        if self.order == COUNT or self.words.strip():
            self.arrange()

    def _summarise(self) -> None:
        """Sum up the measurements in a thread where the order needs it, then sort by them."""
        if not self.order.startswith(SUMMARY):
            return
        tables = dict(self._session.measurements.tables)

        def done(found: dict[int, dict[str, float]]) -> None:
            self._summaries = found
            self.arrange()

        self._compute.jobs.run("summaries of the wall", lambda: summaries_of(tables), done)

    def _facts(self) -> SampleFacts:
        """What the order and the words in force need to know; nothing for the study's order."""
        if self.order in (STUDY, NAME) and not self.words.strip():
            return SampleFacts({}, {}, {})
        compute, ids = self._compute, [entry.id for entry in self._session.state.samples]
        tables = self._session.measurements.tables
        tiles = self._by_id
        return SampleFacts(
            checks={i: len(compute.checks.of(i)) + (i in compute.store.errors) for i in ids},
            counts={
                i: int(tables[i].ids.size) if i in tables
                else tiles[i].region_count if i in tiles else None
                for i in ids
            },
            summaries=self._summaries,
        )  # fmt: skip

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if self.width() != self._room:
            self._room = self.width()
            self.arrange()

    def _recount(self) -> None:
        if not self._count_timer.isActive():
            self._count_timer.start(_TOGETHER_MS if len(self.tiles) > _MANY else 0)

    def _count_checks(self) -> None:
        self._telling = self._compute.checks.telling()
        if self.order == CHECKS or self.words.strip():
            self.arrange()
        self.update()

    def tile(self, sample_id: int) -> Tile | None:
        """Return the tile of a sample."""
        return self._by_id.get(sample_id)

    def _on_focus(self) -> None:
        tile = self.tile(self._session.focus.sample_id or -1)
        viewport = self.parentWidget()
        area = viewport.parentWidget() if viewport is not None else None
        if tile is not None and isinstance(area, QScrollArea):
            area.ensureVisible(
                tile.box.center().x(), tile.box.center().y(), self.side, self.side // 2 + _TOP
            )
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
        orders = [self._order(tile, round(self.side * self.devicePixelRatioF())) for tile in wanted]

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
            return sample_id, scene.painted(compute.cache, view, looks, chosen), scene.count

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
            some = bool(self._session.state.samples)
            painter.drawText(
                self.rect().adjusted(16, 0, -16, 0),
                int(Qt.AlignmentFlag.AlignCenter),
                "No sample has these words; empty the field above."
                if some
                else "Samples appear here. Drop image files or a folder on the window.",
            )
            return
        groups = self._session.state.groups
        for head in self._heads:
            style = group_style(groups, head.name)
            draw_dot(painter, QPointF(head.left + 6, head.top + 14), style.colour, style.marker)
            painter.setPen(self._theme.colour("ink"))
            painter.setFont(text_font(12, QFont.Weight.Medium))
            box = QRect(head.left + 16, head.top + 4, max(head.right - head.left - 16, 20), 20)
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
        caption = painter.fontMetrics().elidedText(tile.caption, Qt.TextElideMode.ElideMiddle, room)
        painter.drawText(below.adjusted(2, 0, 0, 0), flags, caption)
        painter.drawText(
            below.adjusted(0, 0, -2, 0), flags | int(Qt.AlignmentFlag.AlignRight), count
        )
        if failed or self._telling.get(tile.sample_id):
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
        ids = [tile.sample_id for tile in self.tiles]
        focused = self._session.focus.sample_id
        if focused not in ids or Qt.Key(event.key()) not in _STEPS:
            super().keyPressEvent(event)
            return
        across, down = _STEPS[Qt.Key(event.key())]
        k = ids.index(focused)
        k = self._below(k, down) if down else min(max(k + across, 0), len(ids) - 1)
        self._session.focus.set(sample_id=ids[k])

    def _below(self, k: int, down: int) -> int:
        """The tile in the next row that lies nearest to one; itself where there is no row."""
        box = self.tiles[k].box
        rows = sorted({tile.box.top() for tile in self.tiles})
        row = rows.index(box.top()) + down
        if not 0 <= row < len(rows):
            return k
        there = [i for i, tile in enumerate(self.tiles) if tile.box.top() == rows[row]]
        return min(there, key=lambda i: abs(self.tiles[i].box.left() - box.left()))

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

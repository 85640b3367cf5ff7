"""Contact prints: the chosen regions as small pictures in a grid, to spot what is no region."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QRect, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QShowEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.prints import Print, common_side, print_grey, print_of, rim_of
from rilievo.core.regions.find import class_place
from rilievo.core.row_view import Arranged
from rilievo.core.rows import Rows
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import shown
from rilievo.ui.panels.measurements import Measurements
from rilievo.ui.stages.card import choice_box
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font
from rilievo.ui.workbench import Workbench

SIZES = (("64", "small"), ("96", "medium"), ("144", "large"))
_CAPTION, _GAP = 30, 8
_AT_ONCE = 48


@dataclass(frozen=True)
class _Cell:
    """One print: the row it stands for."""

    row: int
    sample: str
    region: int
    label: str
    value: str


class _Grid(QWidget):
    """Paints the prints that are seen."""

    def __init__(self, panel: PrintsPanel) -> None:
        super().__init__()
        self._panel = panel
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Contact prints")

    def sizeHint(self) -> QSize:
        return QSize(self._panel.per_row * self._panel.pitch[0], self._panel.height_needed)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        self._panel.paint(painter, event.rect() if event is not None else self.rect())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            more = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self._panel.press(event.position().x(), event.position().y(), more=more)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._panel.show_number(event.position().x(), event.position().y())


class PrintsPanel(QWidget):
    """The rows of the table as pictures, one a region."""

    reject_wanted = pyqtSignal()
    number_chosen = pyqtSignal(str, int, str, str)  # sample, region, channel, key

    def __init__(
        self, model: StudyModel, bench: Workbench, table: Measurements, theme: Theme
    ) -> None:
        super().__init__()
        self._model, self._bench, self._table, self._theme = model, bench, table, theme
        self.cells: list[_Cell] = []
        self.images: dict[tuple[str, int], QImage] = {}
        self._side = 8
        self._asked: set[tuple[str, int]] = set()
        self.key = QComboBox()
        self.key.setAccessibleName("Sorted by")
        self.falling = QCheckBox("falling")
        self.sizes = choice_box("Size of the prints", SIZES, 100)
        self.sizes.setCurrentIndex(1)
        self.only = QCheckBox("Only chosen")
        self.only.setToolTip("Only the regions that are chosen; otherwise all that the table shows")
        self.outlined = QCheckBox("Outlines")
        self.outlined.setChecked(True)
        self.reject = QPushButton("Reject")
        self.reject.setToolTip("Leave the chosen regions out, by hand (Del); can be undone")
        self.reject.clicked.connect(self.reject_wanted)
        self.about = QLabel("")
        self.about.setProperty("role", "faint")
        head = QHBoxLayout()
        head.setContentsMargins(16, 4, 16, 2)
        head.setSpacing(8)
        head.addWidget(QLabel("By"))
        for widget in (self.key, self.falling, self.sizes, self.only, self.outlined):
            head.addWidget(widget)
        head.addStretch(1)
        head.addWidget(self.about)
        head.addWidget(self.reject)
        self.grid = _Grid(self)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.area.setWidget(self.grid)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self.area, 1)
        for box in (self.key, self.sizes):
            box.currentIndexChanged.connect(lambda _: self.refresh())
        for tick in (self.falling, self.only, self.outlined):
            tick.toggled.connect(lambda _: self.refresh())
        table.rows.modelReset.connect(self.refresh)
        model.selection_changed.connect(self._on_selection)
        model.focus_changed.connect(self.refresh)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    # -- which prints

    def _fill_keys(self) -> None:
        keys = self._table.rows.keys
        if [self.key.itemData(k) for k in range(self.key.count())] == list(keys):
            return
        kept = self.key.currentData() or "area"
        self.key.blockSignals(True)
        self.key.clear()
        for key in keys:
            self.key.addItem(self._table.rows.all.heading(key), key)
        self.key.setCurrentIndex(max(self.key.findData(kept), 0))
        self.key.blockSignals(False)

    def _on_selection(self) -> None:
        if self.only.isChecked():
            self.refresh()
        else:
            self._describe()
            self.grid.update()

    def refresh(self) -> None:
        """Show the rows of the table, sorted."""
        if not self.isVisible():
            return
        self._fill_keys()
        rows, arranged = self._table.rows.all, self._table.rows.shown
        key = self.key.currentData()
        chosen = self._chosen() if self.only.isChecked() else None
        falling, channel = self.falling.isChecked(), self._channel()
        sets = [one for facts in self._bench.facts.values() for one in facts.regions]

        def work() -> tuple[list[_Cell], int]:
            if key is None or not rows.count:
                return [], common_side(sets)
            cells = _cells_of(rows, arranged, key, channel, falling=falling, only=chosen)
            return cells, common_side(sets)

        self._bench.jobs.run("print cells", work, lambda found: self._show(*found))

    def _show(self, cells: list[_Cell], side: int) -> None:
        self.cells, self.images, self._asked = cells, {}, set()
        self._side = side
        self._describe()
        self.grid.setMinimumHeight(self.height_needed)
        self.grid.update()

    def _channel(self) -> str:
        sample = self._bench.focused_sample
        return self._bench.channel_for(sample) if sample is not None else ""

    def _chosen(self) -> set[tuple[str, int]]:
        names = {e.id: e.name for e in self._model.state.samples}
        return {
            (names[i], region)
            for i, regions in self._model.selected_regions().items()
            for region in regions
        }

    def _describe(self) -> None:
        count = len(self._chosen())
        if not self._table.rows.all.count:
            text = "Measure first; then each region is shown here."
        elif self.only.isChecked() and not self.cells:
            text = "No region is chosen."
        else:
            text = f"{len(self.cells)} regions" + (f", {count} chosen" if count else "")
        self.about.setText(text)
        self.reject.setEnabled(count > 0)

    # -- places

    @property
    def print_size(self) -> int:
        """Side of a print on the screen."""
        return int(self.sizes.currentData())

    @property
    def pitch(self) -> tuple[int, int]:
        """How far apart prints stand."""
        return self.print_size + _GAP, self.print_size + _CAPTION + _GAP

    @property
    def per_row(self) -> int:
        """How many prints stand side by side."""
        viewport = self.area.viewport()
        width = viewport.width() if viewport is not None else 400
        return max(1, (width - 2 * _GAP) // self.pitch[0])

    @property
    def height_needed(self) -> int:
        """Height of all rows of prints."""
        return -(-len(self.cells) // self.per_row) * self.pitch[1] + _GAP

    def _box(self, k: int) -> QRect:
        row, place = divmod(k, self.per_row)
        return QRect(
            2 * _GAP + place * self.pitch[0],
            _GAP + row * self.pitch[1],
            self.print_size,
            self.print_size,
        )

    # -- drawing

    def paint(self, painter: QPainter, area: QRect) -> None:
        """Paint the prints within an area, and ask for those that are missing."""
        first = max(0, (area.top() - _GAP) // self.pitch[1]) * self.per_row
        last = min(len(self.cells), (area.bottom() // self.pitch[1] + 1) * self.per_row)
        chosen = self._chosen()
        missing = []
        for k in range(first, last):
            cell, box = self.cells[k], self._box(k)
            image = self.images.get((cell.sample, cell.region))
            if image is None:
                painter.fillRect(box, self._theme.colour("hairline", 90))
                missing.append(cell)
            else:
                painter.drawImage(box, image)
            if (cell.sample, cell.region) in chosen:
                pen = painter.pen()
                pen.setColor(self._theme.colour("accent"))
                pen.setWidth(3)
                painter.setPen(pen)
                painter.drawRect(box.adjusted(1, 1, -1, -1))
            self._paint_caption(painter, cell, box)
        if missing:
            self._ask(missing)

    def _paint_caption(self, painter: QPainter, cell: _Cell, box: QRect) -> None:
        below = QRectF(box.left(), box.bottom() + 2, box.width(), 14)
        painter.setFont(text_font(10))
        painter.setPen(self._theme.colour("ink"))
        metrics = painter.fontMetrics()
        label = metrics.elidedText(cell.label, Qt.TextElideMode.ElideLeft, box.width())
        painter.drawText(below, int(Qt.AlignmentFlag.AlignLeft), label)
        painter.setPen(self._theme.colour("faint"))
        painter.drawText(below.translated(0, 13), int(Qt.AlignmentFlag.AlignLeft), cell.value)

    def _ask(self, cells: list[_Cell]) -> None:
        wanted = [c for c in cells if (c.sample, c.region) not in self._asked][:_AT_ONCE]
        sample = self._bench.focused_sample
        if not wanted or sample is None:
            return
        self._asked.update((c.sample, c.region) for c in wanted)
        method, evaluator, side = self._model.state.method, self._bench.evaluator, self._side
        channel = self._channel()
        low, high = self._bench.display_range(channel, "signal", self._model.sample_id)
        ids = {e.name: e.id for e in self._model.state.samples}
        samples = {
            c.sample: self._bench.samples[ids[c.sample]].renamed(c.sample)
            for c in wanted
            if ids.get(c.sample) in self._bench.samples
        }
        outlined, rim = self.outlined.isChecked(), self._theme.rgb("accent")

        def work() -> dict[tuple[str, int], QImage]:
            found = {}
            for cell in wanted:
                if cell.sample not in samples:
                    continue
                prepared = evaluator.prepared(samples[cell.sample], method)
                place = class_place(cell.region)
                one = print_of(
                    evaluator.signal(prepared, channel, method),
                    evaluator.regions(prepared, method, place),
                    cell.region,
                    side,
                )
                found[cell.sample, cell.region] = _image(one, low, high, rim if outlined else None)
            return found

        def done(found: dict[tuple[str, int], QImage]) -> None:
            self.images.update(found)
            self.grid.update()

        self._bench.jobs.run("prints", work, done, lambda _: None, every=True)

    # -- input

    def press(self, x: float, y: float, *, more: bool) -> None:
        """Choose the print at a place; `more` keeps those chosen before."""
        for k, cell in enumerate(self.cells):
            if self._box(k).adjusted(0, 0, 0, _CAPTION).contains(round(x), round(y)):
                self.choose(cell.sample, cell.region, more=more)
                return

    def choose(self, sample: str, region: int, *, more: bool = False) -> None:
        """Choose a region; `more` adds it, or takes it away if it is chosen."""
        ids = {e.name: e.id for e in self._model.state.samples}
        chosen = self._chosen() if more else set()
        one = (sample, region)
        chosen = chosen - {one} if one in chosen else chosen | {one}
        by_sample: dict[int, set[int]] = {}
        for name, number in chosen:
            by_sample.setdefault(ids[name], set()).add(number)
        self._model.select_regions(by_sample, ids.get(sample))

    def show_number(self, x: float, y: float) -> None:
        """Show where the number below the print at a place comes from."""
        for k, cell in enumerate(self.cells):
            if self._box(k).adjusted(0, 0, 0, _CAPTION).contains(round(x), round(y)):
                channel = self._table.rows.all.channel(cell.row)
                self.number_chosen.emit(cell.sample, cell.region, channel, self.key.currentData())
                return


def _cells_of(
    rows: Rows,
    arranged: Arranged,
    key: str,
    channel: str,
    *,
    falling: bool,
    only: set[tuple[str, int]] | None,
) -> list[_Cell]:
    """A print for each region of the rows that are shown, in the order of a column."""
    order = rows.ordered(arranged.rows, [(key, falling)])
    several = len(rows.tables) > 1
    cells, seen = [], set[tuple[str, int]]()
    for row in order.tolist():
        one = rows.sample(row), int(rows.region[row])
        other_channel = channel in rows.channels and rows.channel(row) != channel
        if one in seen or other_channel or (only is not None and one not in only):
            continue
        seen.add(one)
        label = rows.text("region", row)
        name = f"{one[0]} {label}" if several else label
        cells.append(_Cell(row, *one, name, shown(float(rows.columns[key][row]), 4)))
    return cells


def _image(one: Print, low: float, high: float, rim: tuple[int, int, int] | None) -> QImage:
    """A print as a picture, with the region's outline."""
    grey = print_grey(one, low, high)
    pixels = np.repeat(grey[:, :, None], 3, axis=2)
    if rim is not None:
        pixels[rim_of(one.inside)] = rim
    side = grey.shape[0]
    data = np.ascontiguousarray(pixels)
    return QImage(data.tobytes(), side, side, 3 * side, QImage.Format.Format_RGB888).copy()

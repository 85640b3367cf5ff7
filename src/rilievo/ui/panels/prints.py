"""Contact prints: the chosen regions as small pictures in a grid, to spot what is no region."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import overload

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRect, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QShowEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.pipeline.region_gallery import (
    Print,
    common_side,
    print_grey,
    print_of,
    print_rows,
    rim_of,
)
from rilievo.core.regions.region_set import class_index
from rilievo.core.table.rows import Rows
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.panels.measurements_panel import Measurements
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font
from rilievo.ui.widgets.card import choice_box
from rilievo.ui.widgets.flow_layout import FlowLayout

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


class _Cells(Sequence[_Cell]):
    """Prints by their rows; what stands below one is made when it is seen."""

    def __init__(self, rows: Rows, found: NDArray[np.int64], key: str) -> None:
        self.rows, self._found, self._key = rows, found, key

    def __len__(self) -> int:
        return int(self._found.size)

    @overload
    def __getitem__(self, k: int) -> _Cell: ...

    @overload
    def __getitem__(self, k: slice) -> list[_Cell]: ...

    def __getitem__(self, k: int | slice) -> _Cell | list[_Cell]:
        if isinstance(k, slice):
            return [self[i] for i in range(*k.indices(len(self)))]
        row = int(self._found[k])
        sample, label = self.rows.sample(row), self.rows.text("region", row)
        name = f"{sample} {label}" if len(self.rows.tables) > 1 else label
        value = shown(float(self.rows.columns[self._key][row]), 4)
        return _Cell(row, sample, int(self.rows.region[row]), name, value)


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

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows walk from print to print, Space chooses, Enter shows where its number is from."""
        if event is None or not self._panel.key_at(Qt.Key(event.key())):
            super().keyPressEvent(event)

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
        self, session: StudySession, compute: Compute, table: Measurements, theme: Theme
    ) -> None:
        super().__init__()
        self._session, self._compute, self._table, self._theme = session, compute, table, theme
        self.cells = _Cells(table.rows.all, np.zeros(0, np.int64), "")
        self.images: dict[tuple[str, int], QImage] = {}
        self._side = 8
        # The print that the keys are at.
        self._walked = 0
        # The prints of which some are being made.
        self._asked: _Cells | None = None
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
        head = FlowLayout(spacing=8)
        head.setContentsMargins(16, 4, 16, 2)
        head.addWidget(QLabel("By"))
        for widget in (self.key, self.falling, self.sizes, self.only, self.outlined, self.about):
            head.addWidget(widget)
        head.addWidget(self.reject)
        self.grid = _Grid(self)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setAccessibleName("Contact prints")
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
        session.focus.regions_changed.connect(self._on_selection)
        session.focus.changed.connect(self.refresh)

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
        only = self._session.focus.chosen_by_name() if self.only.isChecked() else None
        falling, channel = self.falling.isChecked(), self._channel()
        sets = [one for facts in self._compute.queue.summaries.values() for one in facts.regions]

        def work() -> tuple[_Cells, int]:
            found = np.zeros(0, np.int64)
            if key is not None and rows.count:
                found = print_rows(rows, arranged.rows, key, channel, falling=falling, only=only)
            return _Cells(rows, found, key or ""), common_side(sets)

        self._compute.jobs.run("print cells", work, lambda found: self._show(*found))

    def _show(self, cells: _Cells, side: int) -> None:
        self.cells, self.images, self._asked = cells, {}, None
        self._side = side
        self._describe()
        self.grid.setMinimumHeight(self.height_needed)
        self.grid.update()

    def _channel(self) -> str:
        sample = self._compute.store.focused
        return self._compute.store.channel_for(sample) if sample is not None else ""

    def _chosen(self) -> set[tuple[str, int]]:
        chosen = self._session.focus.chosen_by_name()
        return {(name, region) for name, regions in chosen.items() for region in regions}

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

    # -- positions

    @property
    def print_size(self) -> int:
        """Side of a print on the screen."""
        return int(self.sizes.currentData())

    def key_at(self, key: Qt.Key) -> bool:
        """Walk from print to print by keys; False for a key that is none of them."""
        steps = {
            Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -self.per_row,
            Qt.Key.Key_Down: self.per_row,
        }  # fmt: skip
        if not len(self.cells):
            return False
        middle = self.box_of(self._walked).center()
        if key in steps:
            self._walked = min(max(self._walked + steps[key], 0), len(self.cells) - 1)
            box = self.box_of(self._walked)
            self.area.ensureVisible(box.center().x(), box.center().y(), box.width(), box.height())
            cell = self.cells[self._walked]
            self.grid.setAccessibleDescription(f"{cell.label}: {cell.value}")
            self.grid.update()
        elif key == Qt.Key.Key_Space:
            self.press(middle.x(), middle.y(), more=True)
        elif key == Qt.Key.Key_Return:
            self.show_number(middle.x(), middle.y())
        else:
            return False
        return True

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

    def box_of(self, k: int) -> QRect:
        row, position = divmod(k, self.per_row)
        return QRect(
            2 * _GAP + position * self.pitch[0],
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
            cell, box = self.cells[k], self.box_of(k)
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
            if k == self._walked and self.grid.hasFocus():
                painter.setPen(QPen(self._theme.colour("ink"), 2, Qt.PenStyle.DashLine))
                painter.drawRect(box.adjusted(-2, -2, 2, 2))
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

    def _ask(self, missing: list[_Cell]) -> None:
        """Have the pictures of prints that are seen, some at a time."""
        sample, cells = self._compute.store.focused, self.cells
        if sample is None or self._asked is cells:
            return
        # While some are made no others are asked for; painting them asks for the next.
        self._asked = cells
        wanted = missing[:_AT_ONCE]
        side = self._side
        channel = self._channel()
        low, high = self._compute.ranges.display_range(
            channel, "signal", self._session.focus.sample_id
        )
        analyses = self._compute.store.analyses()
        rim = self._theme.rgb("accent") if self.outlined.isChecked() else None

        def work() -> dict[tuple[str, int], QImage]:
            found = {}
            for cell in wanted:
                # A table may be of a class that is undone by now.
                analysis, index = analyses.get(cell.sample), class_index(cell.region)
                if analysis is not None and index < len(analysis.method.outlines):
                    regions = analysis.regions(index)
                    one = print_of(analysis.signal(channel), regions, cell.region, side)
                    found[cell.sample, cell.region] = _image(one, low, high, rim)
            return found

        def done(found: dict[tuple[str, int], QImage]) -> None:
            if self.cells is cells:
                self.images.update(found)
                self._asked = None
                self.grid.update()

        # After an error the prints stay empty until they are shown anew.
        self._compute.jobs.run("prints", work, done, lambda error: self.about.setText(str(error)))

    # -- input

    def _at(self, x: float, y: float) -> _Cell | None:
        """The print at a position."""
        row, position = int((y - _GAP) // self.pitch[1]), int((x - 2 * _GAP) // self.pitch[0])
        k = row * self.per_row + position
        inside = 0 <= position < self.per_row and 0 <= k < len(self.cells)
        return self.cells[k] if inside else None

    def press(self, x: float, y: float, *, more: bool) -> None:
        """Choose the print at a position; `more` keeps those chosen before."""
        cell = self._at(x, y)
        if cell is not None:
            self.choose(cell.sample, cell.region, more=more)

    def choose(self, sample: str, region: int, *, more: bool = False) -> None:
        """Choose a region; `more` adds it, or takes it away if it is chosen."""
        chosen = self._session.focus.chosen_by_name() if more else {}
        own = chosen.get(sample, frozenset())
        self._session.focus.choose_by_name({**chosen, sample: own ^ {region}}, sample)

    def show_number(self, x: float, y: float) -> None:
        """Show where the number below the print at a position comes from."""
        cell = self._at(x, y)
        if cell is not None:
            channel = self.cells.rows.channel(cell.row)
            self.number_chosen.emit(cell.sample, cell.region, channel, self.key.currentData())


def _image(one: Print, low: float, high: float, rim: tuple[int, int, int] | None) -> QImage:
    """A print as a picture, with the region's outline."""
    grey = print_grey(one, low, high)
    pixels = np.repeat(grey[:, :, None], 3, axis=2)
    if rim is not None:
        pixels[rim_of(one.inside)] = rim
    side = grey.shape[0]
    data = np.ascontiguousarray(pixels)
    return QImage(data.tobytes(), side, side, 3 * side, QImage.Format.Format_RGB888).copy()

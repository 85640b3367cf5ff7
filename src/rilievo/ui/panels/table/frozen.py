"""Two views of one model side by side: the first columns stay while the others scroll."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPoint, QSettings, Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QHBoxLayout, QTableView, QWidget

from rilievo.ui.panels.table.rows_model import FROZEN, IDENTITY, RowsModel
from rilievo.ui.panels.table.table_header import HistogramHeader
from rilievo.ui.theme.roles import Theme

_WIDTHS = {"sample": 110, "region": 60, "group": 92, "channel": 98, "marks": 60}
_LEAST = 72
_ORDER = "table order"


class FrozenTable(QWidget):
    """A table whose first columns do not scroll sideways."""

    sort_wanted = pyqtSignal(int, bool)
    brushed = pyqtSignal(int, object)
    menu_wanted = pyqtSignal(QPoint)

    def __init__(self, rows: RowsModel, theme: Theme) -> None:
        super().__init__()
        self._rows, self._arranging = rows, False
        self.view, self.names = QTableView(), QTableView()
        for view in (self.names, self.view):
            view.setModel(rows)
            view.setAlternatingRowColors(True)
            view.setShowGrid(False)
            view.setWordWrap(False)
            view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
            view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
            view.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.header, self._names_header = (
            HistogramHeader(theme, v) for v in (self.view, self.names)
        )
        for view, header in ((self.view, self.header), (self.names, self._names_header)):
            view.setHorizontalHeader(header)
            header.sectionClicked.connect(self._on_header)
            vertical = view.verticalHeader()
            if vertical is not None:
                vertical.hide()
                vertical.setDefaultSectionSize(24)
                vertical.setMinimumSectionSize(24)
        self.view.setAccessibleName("Measurements")
        self.names.setAccessibleName("Samples and regions of the measurements")
        self.names.setSelectionModel(self.view.selectionModel())
        self.names.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.names.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.names.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        one, other = self.view.verticalScrollBar(), self.names.verticalScrollBar()
        if one is not None and other is not None:
            one.valueChanged.connect(other.setValue)
            other.valueChanged.connect(one.setValue)
        self.header.setSectionsMovable(True)
        self.header.sectionMoved.connect(self._on_moved)
        self.header.brushed.connect(self.brushed)
        self.header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.header.customContextMenuRequested.connect(self._ask_menu)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.names)
        layout.addWidget(self.view, 1)
        rows.modelReset.connect(self._hide_columns)
        # Bound methods, not lambdas: Qt lets go of them before the views are taken apart.
        self._names_header.sectionResized.connect(self._fit_names)
        bar = self.view.horizontalScrollBar()
        if bar is not None:
            bar.rangeChanged.connect(self._match_heights)

    def _ask_menu(self, at: QPoint) -> None:
        self.menu_wanted.emit(self.header.mapToGlobal(at))

    def _on_header(self, column: int) -> None:
        keys = QApplication.keyboardModifiers()
        more = Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier
        self.sort_wanted.emit(column, bool(keys & more))

    def _hide_columns(self) -> None:
        settings = QSettings()
        for column in range(self._rows.columnCount()):
            self.names.setColumnHidden(column, column >= FROZEN)
            hidden = settings.value(f"table hides {self._rows.name_of(column)}", False, bool)
            self.view.setColumnHidden(column, column < FROZEN or bool(hidden))
        self._order_columns()
        self._fit_names()

    def _order_columns(self) -> None:
        """Put the columns where they were left; new ones stand behind those."""
        known = QSettings().value(_ORDER, "") or ""
        wanted = str(known).split(",") if known else []
        names = [self._rows.name_of(column) for column in range(self._rows.columnCount())]
        positions = sorted(
            range(len(names)),
            key=lambda c: (c >= FROZEN, wanted.index(names[c]) if names[c] in wanted else 1000 + c),
        )
        self._arranging = True
        for visual, column in enumerate(positions):
            self.header.moveSection(self.header.visualIndex(column), visual)
        self._arranging = False

    def _on_moved(self, *_: int) -> None:
        if self._arranging:
            return
        count = self._rows.columnCount()
        order = [self._rows.name_of(self.header.logicalIndex(visual)) for visual in range(count)]
        QSettings().setValue(_ORDER, ",".join(order))

    def set_widths(self) -> None:
        """Give each column the width its title needs."""
        metrics = self.view.fontMetrics()
        for column in range(self._rows.columnCount()):
            title = self._rows.headerData(column, Qt.Orientation.Horizontal)
            least = _WIDTHS[IDENTITY[column][0]] if column < len(IDENTITY) else _LEAST
            width = max(
                least, metrics.horizontalAdvance(title) + (24 if column < len(IDENTITY) else 40)
            )
            for view in (self.view, self.names):
                view.setColumnWidth(column, width)
        self._fit_names()

    def _fit_names(self, *_: int) -> None:
        width = sum(self.names.columnWidth(column) for column in range(FROZEN))
        self.names.setFixedWidth(width + 2)

    def _match_heights(self, *_: int) -> None:
        """Leave room below the names where the other view has its scroll bar."""
        bar = self.view.horizontalScrollBar()
        shown = bar is not None and bar.maximum() > 0
        room = bar.sizeHint().height() if bar is not None and shown else 0
        self.names.setViewportMargins(0, self.header.height(), 0, room)

    def show_histograms(self, found: dict[int, tuple[np.ndarray, float, float]]) -> None:
        """Show the histogram of each column of numbers."""
        self.header.histograms = found
        self._paint_header()

    def show_ranges(self, ranges: dict[int, tuple[float, float]]) -> None:
        """Show the ranges of columns that are kept."""
        self.header.ranges = ranges
        self._paint_header()

    def _paint_header(self) -> None:
        viewport = self.header.viewport()
        if viewport is not None:
            viewport.update()

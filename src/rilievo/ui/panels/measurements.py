"""The measurements as a table, linked both ways to the picture."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QItemSelection, QItemSelectionModel, QModelIndex, Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.marks import MARKS
from rilievo.core.measures import QUANTITIES
from rilievo.core.table import RegionTable
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import MINUS, NARROW_SPACE
from rilievo.ui.workbench import Workbench

_IDENTITY = ("Sample", "Group", "Channel", "Region")
_REGION_COLUMN = 3


def decimals_for(values: np.ndarray[Any, Any]) -> int:
    """Return how many decimals make a column of numbers comparable at a glance."""
    finite = values[np.isfinite(values)]
    if finite.size == 0 or bool((finite == np.rint(finite)).all()):
        return 0
    largest = float(np.abs(finite).max())
    return 1 if largest >= 100 else 2 if largest >= 10 else 3 if largest >= 1 else 5


class MeasurementModel(QAbstractTableModel):
    """All rows as columns of NumPy arrays; sorting reorders an index."""

    def __init__(self) -> None:
        super().__init__()
        self._tables: list[RegionTable] = []
        self._keys: list[str] = []
        self._rows = np.zeros((0, 3), np.int64)
        self._values = np.zeros((0, 0))
        self._channels: list[str] = []
        self._decimals: list[int] = []
        self._order = np.zeros(0, np.intp)
        self._sorted_by: tuple[int, Qt.SortOrder] | None = None

    def show(self, tables: Sequence[RegionTable], channel: str | None) -> None:
        """Show these tables, all channels or one."""
        self.beginResetModel()
        self._tables = list(tables)
        self._keys = list(dict.fromkeys(k for t in tables for k in t.quantities))
        self._channels = list(dict.fromkeys(c for t in tables for c in t.channels))
        rows, values = [], []
        for i, table in enumerate(self._tables):
            for name in table.channels:
                if channel is not None and name != channel:
                    continue
                count = table.ids.size
                place = np.full(count, i), table.ids, np.full(count, self._channels.index(name))
                rows.append(np.stack(place, axis=1))
                columns = table.columns[name]
                nothing = np.full(count, np.nan)
                values.append(np.stack([columns.get(key, nothing) for key in self._keys], axis=1))
        self._rows = np.concatenate(rows) if rows else np.zeros((0, 3), np.int64)
        self._values = np.concatenate(values) if values else np.zeros((0, len(self._keys)))
        self._decimals = [
            0 if QUANTITIES[key].whole else decimals_for(self._values[:, k])
            for k, key in enumerate(self._keys)
        ]
        self._order = np.arange(len(self._rows))
        if self._sorted_by is not None:
            self._sort(*self._sorted_by)
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self._order)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return len(_IDENTITY) + len(self._keys) if self._tables else 0

    def headerData(
        self,
        section: int,
        orientation: Qt.Orientation,
        role: int = Qt.ItemDataRole.DisplayRole,
    ) -> Any:
        if orientation is not Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            left = section < _REGION_COLUMN
            side = Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight
            return side | Qt.AlignmentFlag.AlignVCenter
        if section < len(_IDENTITY):
            return _IDENTITY[section] if role == Qt.ItemDataRole.DisplayRole else None
        quantity = QUANTITIES[self._keys[section - len(_IDENTITY)]]
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{quantity.key}: {quantity.definition}"
        if role == Qt.ItemDataRole.DisplayRole:
            return quantity.heading(self._tables[0].unit)
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        column = index.column()
        if role == Qt.ItemDataRole.TextAlignmentRole:
            left = column < _REGION_COLUMN
            side = Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight
            return side | Qt.AlignmentFlag.AlignVCenter
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        row = self._order[index.row()]
        table_number, region, channel = self._rows[row]
        if column < len(_IDENTITY):
            table = self._tables[table_number]
            return (
                table.sample,
                table.group,
                self._channels[channel],
                table.label_of(int(region)),
            )[column]
        k = column - len(_IDENTITY)
        value = self._values[row, k]
        if not np.isfinite(value):
            return "–"
        text = f"{value:,.{self._decimals[k]}f}"
        return text.replace(",", NARROW_SPACE).replace("-", MINUS)

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.layoutAboutToBeChanged.emit()
        self._sorted_by = (column, order) if column >= 0 else None
        self._order = np.arange(len(self._rows))
        if self._sorted_by is not None:
            self._sort(column, order)
        self.layoutChanged.emit()

    def _sort(self, column: int, order: Qt.SortOrder) -> None:
        if column >= self.columnCount():
            return
        keys: np.ndarray[Any, Any]
        if column >= len(_IDENTITY):
            keys = self._values[:, column - len(_IDENTITY)]
        elif column == _REGION_COLUMN:
            keys = self._rows[:, 1]
        elif column == 2:
            keys = self._rows[:, 2]
        else:
            names = [(t.sample, t.group)[column] for t in self._tables]
            ranks = {name: rank for rank, name in enumerate(sorted(set(names)))}
            keys = np.array([ranks[name] for name in names])[self._rows[:, 0]]
        if order == Qt.SortOrder.AscendingOrder:
            self._order = np.argsort(keys, kind="stable")
        else:
            # Descending with undefined values still last.
            self._order = np.argsort(-keys, kind="stable")

    def sample_and_region(self, row: int) -> tuple[str, int]:
        """Return what a row speaks of."""
        table_number, region, _ = self._rows[self._order[row]]
        return self._tables[table_number].sample, int(region)

    def rows_of(self, sample: str, regions: frozenset[int]) -> list[int]:
        """Return the rows of some regions of a sample."""
        numbers = [i for i, table in enumerate(self._tables) if table.sample == sample]
        if not numbers or not regions:
            return []
        mine = (self._rows[:, 0] == numbers[0]) & np.isin(self._rows[:, 1], list(regions))
        return [int(row) for row in np.flatnonzero(mine[self._order])]

    def as_tables(self) -> tuple[list[RegionTable], list[tuple[str, int, str]]]:
        """Return the tables, and (sample, region, channel) of each row in its present order."""
        rows = self._rows[self._order]
        return self._tables, [
            (self._tables[t].sample, int(region), self._channels[c]) for t, region, c in rows
        ]


class Measurements(QWidget):
    """The table with its filters, in the drawer."""

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self._linking = False
        self.rows = MeasurementModel()
        self.view = QTableView()
        self.view.setModel(self.rows)
        self.view.setSortingEnabled(True)
        self.view.setAlternatingRowColors(True)
        self.view.setShowGrid(False)
        self.view.setWordWrap(False)
        self.view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.view.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.view.setAccessibleName("Measurements")
        vertical, horizontal = self.view.verticalHeader(), self.view.horizontalHeader()
        if vertical is not None and horizontal is not None:
            vertical.hide()
            vertical.setDefaultSectionSize(24)
            horizontal.setHighlightSections(False)
            horizontal.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
            horizontal.setMinimumSectionSize(44)
        self._channel = QComboBox()
        self._channel.setAccessibleName("Channel shown in the table")
        self._only_focused = QCheckBox("Focused sample only")
        self._about = QLabel("")
        self._about.setProperty("role", "faint")
        self._marks = QLabel("")
        self._marks.setProperty("role", "check")
        self._again = QPushButton("Measure all again")
        self._again.setProperty("role", "link")
        self._again.clicked.connect(
            lambda: bench.measure([entry.id for entry in model.state.samples])
        )
        head = QHBoxLayout()
        head.setContentsMargins(16, 4, 16, 2)
        head.setSpacing(12)
        head.addWidget(self._channel)
        head.addWidget(self._only_focused)
        head.addStretch(1)
        head.addWidget(self._marks)
        head.addWidget(self._about)
        head.addWidget(self._again)
        self._empty = QLabel("Nothing is measured yet. Press “Measure all” (Ctrl+M).")
        self._empty.setProperty("role", "faint")
        self._empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self._empty, 1)
        layout.addWidget(self.view, 1)
        self._channel.currentIndexChanged.connect(lambda _: self._fill())
        self._only_focused.toggled.connect(lambda _: self._fill())
        selection = self.view.selectionModel()
        if selection is not None:
            selection.selectionChanged.connect(self._on_rows_selected)
        model.tables_changed.connect(self.refresh)
        model.changed.connect(lambda *_: self._on_change())
        model.selection_changed.connect(self._select_rows)
        model.focus_changed.connect(self._on_focus)
        self.refresh()

    def _on_change(self) -> None:
        if [t.group for t in self._model.ordered_tables()] != [t.group for t in self.rows._tables]:
            self.refresh()
        self._describe()

    def _on_focus(self) -> None:
        if self._only_focused.isChecked():
            self._fill()

    def refresh(self) -> None:
        """Show the model's tables anew."""
        channels = list(dict.fromkeys(c for t in self._model.ordered_tables() for c in t.channels))
        shown = [self._channel.itemText(i) for i in range(1, self._channel.count())]
        if channels != shown:
            self._channel.blockSignals(True)
            self._channel.clear()
            self._channel.addItem("all channels")
            self._channel.addItems(channels)
            self._channel.blockSignals(False)
        self._fill()

    def _fill(self) -> None:
        tables = self._model.ordered_tables()
        entry = self._model.entry
        if self._only_focused.isChecked() and entry is not None:
            tables = [table for table in tables if table.sample == entry.name]
        wanted = self._channel.currentText() if self._channel.currentIndex() > 0 else None
        first = self.rows.columnCount() == 0
        self.rows.show(tables, wanted)
        if first:
            self._set_widths()
        has = bool(self._model.tables)
        self.view.setVisible(has)
        self._empty.setVisible(not has)
        self._describe()
        self._select_rows()

    def _set_widths(self) -> None:
        metrics = self.view.fontMetrics()
        for column in range(self.rows.columnCount()):
            title = self.rows.headerData(column, Qt.Orientation.Horizontal)
            least = (130, 110, 96, 60)[column] if column < len(_IDENTITY) else 76
            self.view.setColumnWidth(column, max(least, metrics.horizontalAdvance(title) + 30))

    def marks_text(self) -> str:
        """Return what must be known of the numbers, by channel."""
        found: dict[str, dict[str, None]] = {}
        for table in self._model.tables.values():
            for channel, marks in table.marks.items():
                found.setdefault(channel, {}).update(dict.fromkeys(marks))
        return "; ".join(f"{name}: {', '.join(marks)}" for name, marks in found.items() if marks)

    def _describe(self) -> None:
        text = self.marks_text()
        self._marks.setText(text)
        self._marks.setVisible(bool(text))
        self._marks.setToolTip("\n".join(f"{mark}: {why}." for mark, why in MARKS.items()))
        for widget in (self._channel, self._only_focused):
            widget.setVisible(bool(self._model.tables))
        stale = bool(self._model.tables) and self._model.is_stale
        self._again.setVisible(stale)
        if stale:
            text = "The method has changed since these were measured."
        else:
            text = f"{self.rows.rowCount()} rows" if self._model.tables else ""
        self._about.setText(text)
        self._about.setProperty("role", "check" if stale else "faint")
        style = self._about.style()
        if style is not None:
            style.polish(self._about)

    # -- selection, linked both ways

    def _on_rows_selected(self, selected: QItemSelection, _old: QItemSelection) -> None:
        selection = self.view.selectionModel()
        if self._linking or selection is None:
            return
        chosen = [self.rows.sample_and_region(i.row()) for i in selection.selectedRows()]
        if not chosen:
            return
        indexes = selected.indexes()
        sample = self.rows.sample_and_region(indexes[0].row())[0] if indexes else chosen[-1][0]
        entry = next((e for e in self._model.state.samples if e.name == sample), None)
        if entry is None:
            return
        self._linking = True
        self._model.focus(
            sample_id=entry.id, regions={region for name, region in chosen if name == sample}
        )
        self._linking = False

    def _select_rows(self) -> None:
        selection, entry = self.view.selectionModel(), self._model.entry
        if self._linking or selection is None or entry is None:
            return
        self._linking = True
        wanted = QItemSelection()
        last = self.rows.columnCount() - 1
        rows = self.rows.rows_of(entry.name, self._model.regions)
        for row in rows:
            wanted.select(self.rows.index(row, 0), self.rows.index(row, last))
        selection.select(wanted, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if rows:
            self.view.scrollTo(self.rows.index(rows[0], 0))
        self._linking = False

    def selected_or_all(self) -> tuple[list[RegionTable], list[tuple[str, int, str]]]:
        """Return the tables and the rows to copy: the selected ones, or all in present order."""
        tables, rows = self.rows.as_tables()
        selection = self.view.selectionModel()
        chosen = sorted(i.row() for i in selection.selectedRows()) if selection else []
        return tables, [rows[i] for i in chosen] if chosen else rows

"""The rows of the core's `Rows` for Qt: only what is on the screen is ever turned into text."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PyQt6.QtGui import QFont

from rilievo.core.image.number_scale import SCALES, NumberScale
from rilievo.core.measure import Quantity
from rilievo.core.table.row_query import Arranged, RowQuery
from rilievo.core.table.rows import Rows
from rilievo.core.wording.lists import counted
from rilievo.core.wording.numbers import MINUS, NARROW_SPACE
from rilievo.ui.theme.roles import Theme

# Key and title of the columns that are no numbers; the first FROZEN stay where they are.
IDENTITY = (
    ("sample", "Sample"),
    ("region", "Region"),
    ("group", "Group"),
    ("channel", "Channel"),
    ("marks", "Marks"),
)
FROZEN = 2
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
_LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
_ANSWERED = {
    Qt.ItemDataRole.DisplayRole,
    Qt.ItemDataRole.TextAlignmentRole,
    Qt.ItemDataRole.FontRole,
    Qt.ItemDataRole.ForegroundRole,
    Qt.ItemDataRole.ToolTipRole,
}


def decimals_for(values: np.ndarray[Any, Any]) -> int:
    """Return how many decimals make a column of numbers comparable at a glance."""
    finite = values[np.isfinite(values)]
    if finite.size == 0 or bool((finite == np.rint(finite)).all()):
        return 0
    largest = float(np.abs(finite).max())
    return 1 if largest >= 100 else 2 if largest >= 10 else 3 if largest >= 1 else 5


class RowsModel(QAbstractTableModel):
    """Lines of a table: rows, or subtotals of a group."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.all = Rows([])
        self.shown = Arranged(np.zeros(0, np.int64), np.zeros(0, np.int64))
        self.query = RowQuery()
        self.scale = NumberScale()
        self.digits: int | None = None
        self._decimals: dict[str, int] = {}
        self._theme = theme
        self._bold = QFont()
        self._bold.setBold(True)

    # -- what is shown

    def take(self, rows: Rows, shown: Arranged, query: RowQuery) -> None:
        """Show other rows."""
        self.beginResetModel()
        if rows is not self.all:
            self._decimals = {}
        self.all, self.shown, self.query = rows, shown, query
        self.endResetModel()

    def arrange(self, shown: Arranged, query: RowQuery) -> None:
        """Show the same rows in another order or choice."""
        self.beginResetModel()
        self.shown, self.query = shown, query
        self.endResetModel()

    def set_print(self, scale: NumberScale, digits: int | None) -> None:
        """Print on another number scale, or with so many significant digits; None suits each."""
        if (scale, digits) != (self.scale, self.digits):
            self.scale, self.digits = scale, digits
            self._decimals = {}
            self.layoutChanged.emit()

    @property
    def keys(self) -> tuple[str, ...]:
        """The quantities in the order of the columns."""
        return self.all.keys

    def name_of(self, column: int) -> str:
        """Return what a column is called in sorting and filters."""
        return IDENTITY[column][0] if column < len(IDENTITY) else self.keys[column - len(IDENTITY)]

    def quantity_at(self, column: int) -> Quantity | None:
        """Return what a column of measured numbers is; None for texts and places in a stack."""
        if not len(IDENTITY) <= column < self.columnCount():
            return None
        key = self.keys[column - len(IDENTITY)]
        return None if key in self.all.places else self.all.quantity(key)

    def row_at(self, line: int) -> int | None:
        """Return the row of a line; None for a subtotal."""
        entry = int(self.shown.entries[line])
        return entry if entry >= 0 else None

    # -- Qt

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return int(self.shown.entries.size)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return len(IDENTITY) + len(self.keys) if self.all.tables else 0

    def headerData(
        self,
        section: int,
        orientation: Qt.Orientation,
        role: int = Qt.ItemDataRole.DisplayRole,
    ) -> Any:
        if orientation is not Qt.Orientation.Horizontal or section >= self.columnCount():
            return None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return _LEFT if section < len(IDENTITY) else _RIGHT
        if role == Qt.ItemDataRole.DisplayRole:
            return self._title(section) + self._sort_sign(self.name_of(section))
        quantity = self.quantity_at(section)
        if role == Qt.ItemDataRole.ToolTipRole and quantity is not None:
            return f"{quantity.key}: {quantity.definition}\n{quantity.formula}"
        return None

    def _title(self, section: int) -> str:
        if section < len(IDENTITY):
            return IDENTITY[section][1]
        key = self.keys[section - len(IDENTITY)]
        if self.all.quantity(key).on_scale(self.scale) is not None:
            return f"{self.all.quantity(key).title} ({SCALES[self.scale.kind][0]})"
        return self.all.heading(key)

    def _sort_sign(self, name: str) -> str:
        positions = [k for k, (key, _) in enumerate(self.query.order) if key == name]
        if not positions:
            return ""
        sign = "▼" if self.query.order[positions[0]][1] else "▲"
        return f" {sign}{positions[0] + 1 if len(self.query.order) > 1 else ''}"

    def data(  # noqa: PLR0911 (one line a role)
        self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        # Asked for a dozen roles of each cell with every scroll: the rest is answered at once.
        if role not in _ANSWERED:
            return None
        line, column = index.row(), index.column()
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return _LEFT if column < len(IDENTITY) else _RIGHT
        row = self.row_at(line)
        if role == Qt.ItemDataRole.DisplayRole:
            return self._subtotal(line, column) if row is None else self._text(row, column)
        if role == Qt.ItemDataRole.FontRole and row is None:
            return self._bold
        if row is not None and column == len(IDENTITY) - 1:
            if role == Qt.ItemDataRole.ForegroundRole:
                return self._theme.colour("check_text")
            if role == Qt.ItemDataRole.ToolTipRole:
                return "; ".join(self.all.marks(row))
        return None

    def _text(self, row: int, column: int) -> str:
        if column >= len(IDENTITY):
            key = self.keys[column - len(IDENTITY)]
            return self.number(key, float(self.all.columns[key][row]))
        name = IDENTITY[column][0]
        return "; ".join(self.all.marks(row)) if name == "marks" else self.all.text(name, row)

    def _subtotal(self, line: int, column: int) -> str:
        total = self.shown.subtotals[-int(self.shown.entries[line]) - 1]
        if column == 0:
            return total.name
        if column == 1:
            return counted(total.count, "row")
        if column < len(IDENTITY):
            return "mean" if column == len(IDENTITY) - 1 else ""
        key = self.keys[column - len(IDENTITY)]
        return self.number(key, total.means[key], mean=True)

    def number(self, key: str, value: float, *, mean: bool = False) -> str:
        """Return a number as the table prints it."""
        if not math.isfinite(value):
            return "–"
        quantity = self.all.quantity(key)
        on_scale = quantity.on_scale(self.scale)
        if on_scale is not None:
            value = on_scale(value)
        if self.digits is not None and not (quantity.whole and not mean):
            text = f"{value:.{self.digits - 1}e}" if self._is_far(value) else self._short(value)
        else:
            text = f"{value:,.{self._decimals_of(key, quantity, mean=mean)}f}"
        return text.replace(",", NARROW_SPACE).replace("-", MINUS)

    def _short(self, value: float) -> str:
        digits = self.digits or 4
        size = math.floor(math.log10(abs(value))) if value else 0
        return f"{value:,.{max(0, digits - 1 - size)}f}"

    @staticmethod
    def _is_far(value: float) -> bool:
        return value != 0 and not 1e-4 <= abs(value) < 1e9

    def _decimals_of(self, key: str, quantity: Quantity, *, mean: bool) -> int:
        if quantity.whole:
            return 1 if mean else 0
        if key not in self._decimals:
            column = self.all.columns[key]
            # A few hundred values tell how large the numbers of a column are.
            few = column[:: max(1, column.size // 500)]
            on_scale = quantity.on_scale(self.scale)
            if on_scale is not None:
                few = np.array([on_scale(value) for value in few.tolist()])
            self._decimals[key] = decimals_for(few)
        return self._decimals[key]

    # -- rows and regions

    def sample_and_region(self, line: int) -> tuple[str, int]:
        """Return what a line speaks of; for a subtotal, its first row."""
        row = self.row_at(line)
        if row is None:
            return self.sample_and_region(line + 1)
        return self.all.sample(row), int(self.all.region[row])

    def lines_of(self, chosen: dict[str, frozenset[int]]) -> np.ndarray[Any, Any]:
        """Return the lines of some regions of samples, ascending."""
        return self.shown.lines_of(self.all.rows_of(chosen))

    def identities(self, lines: np.ndarray[Any, Any]) -> list[tuple[str, int, str]]:
        """Return (sample, region, channel) of lines; subtotals have none."""
        rows = self.shown.entries[lines]
        return [
            (self.all.sample(row), int(self.all.region[row]), self.all.channel(row))
            for row in rows[rows >= 0].tolist()
        ]

"""The measurements as a table, linked both ways to the picture."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import (
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPoint,
    QSettings,
    Qt,
    pyqtSignal,
)
from PyQt6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.formula import FormulaError
from rilievo.core.measure.region_flags import REGION_MARKS
from rilievo.core.method.signal_flags import MARKS
from rilievo.core.table.row_query import ANY_MARK, Arranged, RowQuery, arranged
from rilievo.core.table.rows import GROUPINGS, Rows
from rilievo.core.table.table import RegionTable
from rilievo.ui.compute.compute import Compute
from rilievo.ui.panels.table.frozen import FrozenTable
from rilievo.ui.panels.table.rows_model import IDENTITY, RowsModel
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import choice_box
from rilievo.ui.widgets.flow_layout import FlowLayout

# So many rows are arranged at once; more, off the interface thread.
AT_ONCE = 20_000
# A table takes as long as so many rows, however few it has.
_AS_ROWS = 200
_FILTER_TIP = (
    "A word is looked for in sample, group, class, channel and name. A comparison of columns "
    'filters: area > 50 and group = "starved"; mark ~ "edge"; press Enter'
)
Result = TypeVar("Result")
Histograms = dict[int, tuple[NDArray[np.int64], float, float]]
_DIGITS = (("", "auto digits"), *((str(n), f"{n} digits") for n in range(2, 9)))


class Measurements(QWidget):
    """The table with its filters, in the drawer."""

    number_chosen = pyqtSignal(str, int, str, str)  # sample, region, channel, key

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute = session, compute
        self._linking = False
        self.rows = RowsModel(theme)
        self.table = FrozenTable(self.rows, theme)
        self.view = self.table.view
        self._build_head()
        self._empty = QLabel("Nothing is measured yet. Press “Measure all” (Ctrl+M).")
        self._empty.setProperty("role", "faint")
        self._empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(self._head)
        layout.addWidget(self._empty, 1)
        layout.addWidget(self.table, 1)
        self._connect()
        self.refresh()

    def _build_head(self) -> None:
        self.channel = QComboBox()
        self.channel.setAccessibleName("Channel shown in the table")
        self.only_focused = QCheckBox("This sample")
        self.only_focused.setToolTip("Only rows of the sample in focus")
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Search, or area > 50")
        self.filter.setClearButtonEnabled(True)
        self.filter.setAccessibleName("Search or filter rows")
        self.filter.setToolTip(_FILTER_TIP)
        self.mark = choice_box(
            "Rows with a mark",
            (("", "any or no mark"), (ANY_MARK, "with a mark"),
             *((m, m) for m in (*REGION_MARKS, *MARKS))),
            136,
        )  # fmt: skip
        self.mark.setToolTip("Only rows that have a mark")
        self.group = choice_box(
            "Group rows", (("", "not grouped"), *((g, f"by {g}") for g in GROUPINGS)), 118
        )
        self.digits = choice_box("Digits", _DIGITS, 104)
        self.about = QLabel("")
        self.about.setProperty("role", "faint")
        self._marks = QLabel("")
        self._marks.setProperty("role", "check")
        self._again = QPushButton("Measure all again")
        self._again.setProperty("role", "link")
        self._head = FlowLayout(spacing=8)
        self._head.setContentsMargins(16, 4, 16, 2)
        self._head.addWidget(self.channel)
        self._head.addWidget(self.only_focused)
        self._head.addWidget(self.filter)
        for widget in (self.mark, self.group, self.digits, self._marks, self.about, self._again):
            self._head.addWidget(widget)

    def _connect(self) -> None:
        session, compute = self._session, self._compute
        self._again.clicked.connect(
            lambda: compute.batch.start([entry.id for entry in session.state.samples])
        )
        self.channel.currentIndexChanged.connect(lambda _: self._fill())
        self.only_focused.toggled.connect(lambda _: self._rearrange())
        self.filter.editingFinished.connect(self._rearrange)
        self.filter.textChanged.connect(lambda text: None if text else self._rearrange())
        for box in (self.mark, self.group):
            box.currentIndexChanged.connect(lambda _: self._rearrange())
        self.digits.currentIndexChanged.connect(lambda _: self._print())
        self.table.sort_wanted.connect(self.sort_by)
        self.table.brushed.connect(self.brush)
        self.table.menu_wanted.connect(self._column_menu)
        self.view.clicked.connect(self._on_clicked)
        selection = self.view.selectionModel()
        if selection is not None:
            selection.selectionChanged.connect(self._on_rows_selected)
        session.measurements.changed.connect(self.refresh)
        session.changed.connect(lambda *_: self._on_change())
        session.focus.regions_changed.connect(self._select_rows)
        session.focus.changed.connect(self._on_focus)
        session.view.changed.connect(self._print)

    # -- what is shown

    def _on_change(self) -> None:
        now = self._session.measurements.ordered_tables()
        shown = self.rows.all.tables
        if [(t.group, t.quantities) for t in now] != [(t.group, t.quantities) for t in shown]:
            self.refresh()
        self._describe()

    def _on_focus(self) -> None:
        if self.only_focused.isChecked():
            self._rearrange()
        self._print()

    def refresh(self) -> None:
        """Show the session's tables anew."""
        channels = list(
            dict.fromkeys(
                c for t in self._session.measurements.ordered_tables() for c in t.channels
            )
        )
        shown = [self.channel.itemText(i) for i in range(1, self.channel.count())]
        if channels != shown:
            self.channel.blockSignals(True)
            self.channel.clear()
            self.channel.addItem("all channels")
            self.channel.addItems(channels)
            self.channel.blockSignals(False)
        self._fill()

    def query(self) -> RowQuery:
        """Return what of the rows is wanted now."""
        entry = self._session.focus.entry
        only = self.only_focused.isChecked() and entry is not None
        return replace(
            self.rows.query.reading(self.filter.text()),
            sample=entry.name if only and entry is not None else None,
            mark=self.mark.currentData() or "",
            group=self.group.currentData() or None,
        )

    def _fill(self) -> None:
        tables = self._session.measurements.ordered_tables()
        wanted = self.channel.currentText() if self.channel.currentIndex() > 0 else None
        query = self.query()
        keys = self.rows.keys

        def work() -> tuple[Rows, Arranged, str]:
            rows = Rows(tables, wanted)
            return rows, *_arranged(rows, query)

        def done(result: tuple[Rows, Arranged, str]) -> None:
            rows, shown, problem = result
            self.rows.take(rows, shown, query)
            if rows.keys != keys:
                self.table.set_widths()
            self._after(problem)
            self._draw_histograms()

        count = sum((table.ids.size + _AS_ROWS) * len(table.channels) for table in tables)
        self._do(count, work, done)

    def _rearrange(self, query: RowQuery | None = None) -> None:
        query = query or self.query()
        if query == self.rows.query:
            return
        rows = self.rows.all

        def done(result: tuple[Arranged, str]) -> None:
            if self.rows.all is rows:
                self.rows.arrange(result[0], query)
                self._after(result[1])

        self._do(rows.count, lambda: _arranged(rows, query), done)

    def _do(self, count: int, work: Callable[[], Result], done: Callable[[Result], None]) -> None:
        """Do what is quick at once, and else in a thread."""
        if count <= AT_ONCE:
            done(work())
        else:
            self._compute.jobs.run("table rows", work, done)

    def _after(self, problem: str) -> None:
        self.filter.setProperty("wrong", bool(problem))
        self.filter.setToolTip(problem or _FILTER_TIP)
        style = self.filter.style()
        if style is not None:
            style.polish(self.filter)
        has = bool(self._session.measurements.tables)
        self.table.setVisible(has)
        self._empty.setVisible(not has)
        self._describe(problem)
        self._show_ranges()
        self._select_rows()

    def _draw_histograms(self) -> None:
        """Show how the values of each column are spread, over all rows."""
        rows = self.rows.all

        def work() -> Histograms:
            every = rows.all_rows()
            return {
                k + len(IDENTITY): rows.histogram(key, every) for k, key in enumerate(rows.keys)
            }

        def done(found: Histograms) -> None:
            if self.rows.all is rows:
                self.table.show_histograms(found)

        # A histogram takes about as long as arranging a quarter of the rows.
        self._do(rows.count * len(rows.keys) // 4, work, done)

    def _show_ranges(self) -> None:
        indices = {key: k + len(IDENTITY) for k, key in enumerate(self.rows.keys)}
        ranges = self.rows.query.ranges
        self.table.show_ranges({indices[k]: (low, high) for k, low, high in ranges if k in indices})

    def _print(self) -> None:
        digits = self.digits.currentData()
        self.rows.set_print(self._compute.ranges.number_scale(), int(digits) if digits else None)

    # -- sorting, brushing, columns

    def sort_by(self, column: int, also: bool) -> None:
        """Sort by a column: rising, falling, not at all; `also` keeps what was sorted by before."""
        name = self.rows.name_of(column)
        if name != "marks":
            self._rearrange(self.rows.query.sorted_by(name, also=also))

    def brush(self, column: int, ends: tuple[float, float] | None) -> None:
        """Keep a range of a column's values; None takes it away."""
        key = self.rows.name_of(column)
        query = self.rows.query.with_range(key, *(ends or (None,)))
        self._rearrange(query)

    def _column_menu(self, at: QPoint) -> None:
        menu = QMenu(self)
        for column in range(len(IDENTITY) - 3, self.rows.columnCount()):
            title = self.rows.headerData(column, Qt.Orientation.Horizontal)
            action = menu.addAction(str(title))
            if action is not None:
                action.setCheckable(True)
                action.setChecked(not self.view.isColumnHidden(column))
                name = self.rows.name_of(column)
                action.toggled.connect(lambda on, c=column, n=name: self.show_column(c, n, on))
        menu.exec(at)

    def show_column(self, column: int, name: str, on: bool) -> None:
        self.view.setColumnHidden(column, not on)
        QSettings().setValue(f"table hides {name}", not on)

    # -- what is said

    def marks_text(self) -> str:
        """Return what must be known of the numbers, by channel."""
        found: dict[str, dict[str, None]] = {}
        for table in self._session.measurements.tables.values():
            for channel, marks in table.marks.items():
                found.setdefault(channel, {}).update(dict.fromkeys(marks))
        return "; ".join(f"{name}: {', '.join(marks)}" for name, marks in found.items() if marks)

    def _describe(self, problem: str = "") -> None:
        text = self.marks_text()
        self._marks.setText(text)
        self._marks.setVisible(bool(text))
        self._marks.setToolTip("\n".join(f"{mark}: {why}." for mark, why in MARKS.items()))
        has = bool(self._session.measurements.tables)
        for widget in (
            self.channel, self.only_focused, self.filter, self.mark, self.group, self.digits,
        ):  # fmt: skip
            widget.setVisible(has)
        stale = has and self._session.measurements.is_stale
        self._again.setVisible(stale)
        count, total = self.rows.shown.rows.size, self.rows.all.count
        if stale:
            text = "The method has changed since these were measured."
        elif problem:
            text = problem
        elif count != total:
            text = f"{count} of {total} rows"
        else:
            text = f"{count} rows" if has else ""
        self.about.setText(text)
        self.about.setProperty("role", "check" if stale or problem else "faint")
        style = self.about.style()
        if style is not None:
            style.polish(self.about)

    # -- selection, linked both ways

    def _on_clicked(self, index: QModelIndex) -> None:
        quantity, row = self.rows.quantity_at(index.column()), self.rows.row_at(index.row())
        plain = QApplication.keyboardModifiers() == Qt.KeyboardModifier.NoModifier
        if quantity is not None and row is not None and plain:
            rows = self.rows.all
            self.number_chosen.emit(
                rows.sample(row), int(rows.region[row]), rows.channel(row), quantity.key
            )

    def selected_lines(self) -> NDArray[np.int64]:
        """Return the chosen lines, ascending."""
        selection = self.view.selectionModel()
        if selection is None:
            return np.zeros(0, np.int64)
        chosen = selection.selection()
        ranges = [chosen[k] for k in range(len(chosen))]
        parts = [np.arange(one.top(), one.bottom() + 1) for one in ranges]
        return np.unique(np.concatenate([np.zeros(0, np.int64), *parts]))

    def _on_rows_selected(self, selected: QItemSelection, _old: QItemSelection) -> None:
        if self._linking:
            return
        entries = self.rows.shown.entries[self.selected_lines()]
        entries = entries[entries >= 0]
        if not entries.size:
            return
        last = selected.indexes()
        line = last[0].row() if last else int(self.selected_lines()[0])
        self._linking = True
        chosen = self.rows.all.regions_of(entries)
        self._session.focus.choose_by_name(chosen, self.rows.sample_and_region(line)[0])
        self._linking = False

    def _select_rows(self) -> None:
        selection = self.view.selectionModel()
        # Without a model the table is on its way out, with its window.
        if selection is None or selection.model() is None:
            return
        if self._linking or self._session.focus.entry is None:
            return
        self._linking = True
        wanted = QItemSelection()
        last = self.rows.columnCount() - 1
        lines = self.rows.lines_of(self._session.focus.chosen_by_name())
        for first, end in _stretches(lines):
            wanted.select(self.rows.index(first, 0), self.rows.index(end, last))
        selection.select(wanted, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if lines.size:
            self.view.scrollTo(self.rows.index(int(lines[0]), self._first_seen()))
        self._linking = False

    def _first_seen(self) -> int:
        """A column that is on the screen, so that scrolling to a row leaves the columns alone."""
        return max(self.view.columnAt(1), len(IDENTITY) - 3)

    def selected_or_all(self) -> tuple[list[RegionTable], list[tuple[str, int, str]]]:
        """Return the tables and the rows to copy: the selected ones, or all in present order."""
        lines = self.selected_lines()
        every = np.arange(self.rows.rowCount())
        return list(self.rows.all.tables), self.rows.identities(lines if lines.size else every)


def _arranged(rows: Rows, query: RowQuery) -> tuple[Arranged, str]:
    """The rows that are wanted; all of them, and why, where the filter cannot be read."""
    try:
        return arranged(rows, query), ""
    except FormulaError as exc:
        return arranged(rows, replace(query, expression="")), f"Filter {exc}"


def _stretches(lines: NDArray[np.int64]) -> list[tuple[int, int]]:
    """First and last of each run of neighbouring lines."""
    if not lines.size:
        return []
    breaks = np.flatnonzero(np.diff(lines) > 1)
    firsts = lines[np.concatenate([[0], breaks + 1])]
    lasts = lines[np.concatenate([breaks, [lines.size - 1]])]
    return list(zip(firsts.tolist(), lasts.tolist(), strict=True))

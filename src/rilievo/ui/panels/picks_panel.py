"""The list of picks: values, names and specimens typed in place; carried to all, copied, saved."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QStackedWidget,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.method.picks import specimen_frame
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.sample_edits import change_picks, remove_picks
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import side_by_side

_HEADS = ("Pick", "Name", "Specimen", "Mean", "SD", "Native mean", "x", "y", "Around", "Read in")
_NAME, _SPECIMEN = 1, 2
_SPECIMEN_HEADS = ("Specimen", "n", "Mean", "SD")
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class PicksPanel(QWidget):
    """Buttons left, picks in the middle, specimens right."""

    chosen_changed = pyqtSignal(object)  # frozenset of numbers
    go_to = pyqtSignal(int, int)
    copy_wanted = pyqtSignal()
    save_wanted = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__()
        self._session, self._compute, self._viewing = session, compute, session.view
        self._filling = False
        self.table = QTableWidget(0, len(_HEADS))
        self.table.setHorizontalHeaderLabels(list(_HEADS))
        self.specimens = QTableWidget(0, len(_SPECIMEN_HEADS))
        self.specimens.setHorizontalHeaderLabels(list(_SPECIMEN_HEADS))
        self.specimens.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        for table, name in ((self.table, "Picks"), (self.specimens, "Specimens")):
            table.setAccessibleName(name)
            table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
            table.setAlternatingRowColors(True)
            head, numbers = table.horizontalHeader(), table.verticalHeader()
            if head is not None and numbers is not None:
                head.setStretchLastSection(True)
                numbers.setVisible(False)
                numbers.setDefaultSectionSize(24)
        self.specimens.setFixedWidth(scaled(270))
        self.specimens.setToolTip("Picks of one specimen averaged: their mean, SD and number")
        self.pick_button = QPushButton("Pick")
        self.pick_button.setCheckable(True)
        self.pick_button.setToolTip("Click the picture to pin a reading (K)")
        self.pick_button.clicked.connect(lambda: self._viewing.use("pick"))
        self.all_button, self.here_button = QPushButton("To all samples"), QPushButton("Only here")
        self.all_button.setToolTip(
            "Read the chosen picks, or all, in every sample at the same position"
        )
        self.here_button.setToolTip("Read the chosen picks, or all, in the focused sample alone")
        self.remove_button = QPushButton("Remove")
        self.copy_button, self.save_button = QPushButton("Copy"), QPushButton("Save CSV …")
        self.copy_button.setToolTip("Copy the picks of all samples as tab-separated text")
        self.all_button.clicked.connect(self.carry_to_all)
        self.here_button.clicked.connect(self.keep_here)
        self.remove_button.clicked.connect(self.remove)
        self.copy_button.clicked.connect(self.copy_wanted)
        self.save_button.clicked.connect(self.save_wanted)
        side = QVBoxLayout()
        side.setSpacing(4)
        side.addWidget(side_by_side(self.pick_button, self.remove_button))
        side.addWidget(side_by_side(self.all_button, self.here_button))
        side.addWidget(side_by_side(self.copy_button, self.save_button))
        side.addStretch(1)
        hint = QLabel("Click Pick, then the picture: each click pins what is read there.")
        hint.setProperty("role", "faint")
        hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        hint.setWordWrap(True)
        full = QWidget()
        tables = QHBoxLayout(full)
        tables.setContentsMargins(0, 0, 0, 0)
        tables.setSpacing(12)
        tables.addWidget(self.table, 1)
        tables.addWidget(self.specimens)
        self._stack = QStackedWidget()
        self._stack.addWidget(hint)
        self._stack.addWidget(full)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 4, 8, 4)
        layout.setSpacing(12)
        layout.addLayout(side)
        layout.addWidget(self._stack, 1)
        self.table.itemChanged.connect(self._edited)
        self.table.itemSelectionChanged.connect(
            lambda: self.chosen_changed.emit(frozenset(self.chosen()))
        )
        self.table.cellDoubleClicked.connect(self._go)
        for signal in (session.changed, session.focus.changed, compute.queue.changed):
            signal.connect(lambda *_: self.refresh())
        self._viewing.changed.connect(self.refresh)
        self.refresh()

    # -- what is done to picks

    def chosen(self) -> list[int]:
        """Return the numbers of the chosen rows."""
        rows = {index.row() for index in self.table.selectedIndexes()}
        items = [self.table.item(row, 0) for row in sorted(rows)]
        return [int(item.data(Qt.ItemDataRole.UserRole)) for item in items if item is not None]

    def _chosen_or_all(self) -> list[int]:
        return self.chosen() or [pick.number for pick in self._session.state.method.picks]

    def carry_to_all(self) -> None:
        """Read the chosen picks in every sample."""
        change_picks(
            self._session, "Carry picks to all samples", self._chosen_or_all(), sample=None
        )

    def keep_here(self) -> None:
        """Read the chosen picks in the focused sample alone."""
        entry = self._session.focus.entry
        if entry is not None:
            change_picks(self._session, "Keep picks here", self._chosen_or_all(), sample=entry.name)

    def remove(self) -> None:
        """Remove the chosen picks."""
        if self.chosen():
            remove_picks(self._session, self.chosen())

    def _edited(self, item: QTableWidgetItem) -> None:
        head = self.table.item(item.row(), 0)
        if self._filling or head is None or item.column() not in (_NAME, _SPECIMEN):
            return
        number = int(head.data(Qt.ItemDataRole.UserRole))
        key = "name" if item.column() == _NAME else "specimen"
        # A specimen typed while several picks are chosen is meant for all of them.
        numbers = self.chosen() if key == "specimen" and number in self.chosen() else [number]
        change_picks(self._session, f"Change {key} of picks", numbers, **{key: item.text().strip()})

    def _go(self, row: int, column: int) -> None:
        head = self.table.item(row, 0)
        if column in (_NAME, _SPECIMEN) or head is None:
            return
        number = int(head.data(Qt.ItemDataRole.UserRole))
        pick = next((p for p in self._session.state.method.picks if p.number == number), None)
        if pick is not None:
            self.go_to.emit(pick.x, pick.y)

    # -- what is shown

    def refresh(self) -> None:
        """Read the picks of the focused sample anew, in a thread."""
        self.pick_button.setChecked(self._viewing.tool == "pick")
        picks = self._session.state.method.picks
        self._stack.setCurrentIndex(1 if picks else 0)
        entry, sample = self._session.focus.entry, self._compute.store.focused
        if not self.isVisible() or entry is None or sample is None or not picks:
            return
        analysis = self._compute.store.analysis(entry.id)
        channel = self._compute.store.channel_for(sample)

        def work() -> list[dict[str, Any]]:
            rows = analysis.picks(entry.group)
            return [row for row in rows if row["channel"] == channel]

        self._compute.jobs.run("pick readings", work, self._fill, lambda _: None)

    def _fill(self, rows: list[dict[str, Any]]) -> None:
        if self.table.state() == QAbstractItemView.State.EditingState:
            return
        self._filling = True
        scale = self._compute.ranges.number_scale()
        everywhere = {
            pick.number for pick in self._session.state.method.picks if pick.sample is None
        }
        self.table.setRowCount(len(rows))
        for i, row in enumerate(rows):
            size = (
                f"{row['size']}×{row['size']}" if row["form"] == "square" else f"disc {row['size']}"
            )
            texts = (
                str(row["pick"]),
                row["name"],
                row["specimen"],
                shown(scale.value(row["mean"]), 5),
                shown(scale.difference(row["sd"]), 4),
                shown(scale.value(row["native_mean"]), 5),
                str(row["x"]),
                str(row["y"]),
                size,
                "all samples" if row["pick"] in everywhere else "this sample",
            )
            for k, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setData(Qt.ItemDataRole.UserRole, row["pick"])
                if k not in (_NAME, _SPECIMEN):
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
                if k == 0 or _SPECIMEN < k < len(_HEADS) - 1:
                    item.setTextAlignment(_RIGHT)
                self.table.setItem(i, k, item)
        frame = specimen_frame(rows)
        self.specimens.setRowCount(len(frame))
        for i, (name, n, mean, sd) in enumerate(
            zip(frame["specimen"], frame["n"], frame["mean"], frame["sd"], strict=True)
        ):
            cells = (
                str(name),
                str(n),
                shown(scale.value(float(mean)), 5),
                shown(scale.difference(float(sd)), 4),
            )
            for k, text in enumerate(cells):
                item = QTableWidgetItem(text)
                if k:
                    item.setTextAlignment(_RIGHT)
                self.specimens.setItem(i, k, item)
        self.table.resizeColumnsToContents()
        self.specimens.resizeColumnsToContents()
        self._filling = False

    def showEvent(self, event: object) -> None:
        self.refresh()

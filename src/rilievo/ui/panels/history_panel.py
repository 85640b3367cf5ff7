"""The history of the study: every change with its time; go back to any."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QFont, QShowEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.study.history import HistoryEntry
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import side_by_side

_POSITION = Qt.ItemDataRole.UserRole


def clock(time: str) -> str:
    """Return a time as people read it: the hour today, else with the day."""
    moment = datetime.fromisoformat(time)
    today = moment.date() == datetime.now().astimezone().date()
    return moment.strftime("%H:%M:%S" if today else "%d %b %Y %H:%M")


class HistoryPanel(QWidget):
    """A line a change, newest first; what was taken back stays, faint, until it is replaced."""

    save_wanted = pyqtSignal()

    def __init__(self, session: StudySession, theme: Theme) -> None:
        super().__init__()
        self._session, self._theme = session, theme
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels(["Time", "Change", "Sample", "From → to"])
        self.tree.setRootIsDecorated(True)
        self.tree.setUniformRowHeights(True)
        self.tree.setAccessibleName("History of the study")
        self.tree.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        for column, width in enumerate((120, 210, 90)):
            self.tree.setColumnWidth(column, width)
        header = self.tree.header()
        if header is not None:
            header.setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
        self.tree.itemDoubleClicked.connect(lambda *_: self.go_back())
        self.tree.currentItemChanged.connect(lambda *_: self._enable())
        self.back = QPushButton("Go back to this")
        self.back.setToolTip("Make the study as it was after the chosen change; can be undone")
        self.back.clicked.connect(self.go_back)
        self.here = QCheckBox("What concerns this sample")
        self.here.setToolTip("Leave out what was changed in other samples alone")
        self.here.toggled.connect(lambda _: self.refresh())
        self.save = QPushButton("Save as CSV …")
        self.save.clicked.connect(self.save_wanted)
        side = QVBoxLayout()
        side.setSpacing(4)
        side.addWidget(self.back)
        side.addWidget(self.here)
        side.addWidget(side_by_side(self.save, stretch=True))
        side.addStretch(1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 4, 16, 4)
        layout.setSpacing(12)
        layout.addLayout(side)
        layout.addWidget(self.tree, 1)
        session.history_changed.connect(self.refresh)
        session.focus.changed.connect(self.refresh)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """Show the history anew."""
        if not self.isVisible():
            return
        entries = self._session.history(undone=True)
        now = len(self._session.history())
        focused = self._session.focus.entry.name if self._session.focus.entry is not None else ""
        self.tree.clear()
        for position in range(len(entries), 0, -1):
            entry = entries[position - 1]
            if self.here.isChecked() and not entry.concerns(focused):
                continue
            self.tree.addTopLevelItem(self._item(entry, position, now))
        self._enable()

    def _item(self, entry: HistoryEntry, position: int, now: int) -> QTreeWidgetItem:
        item = QTreeWidgetItem([clock(entry.time), entry.text, entry.sample, entry.summary])
        item.setData(0, _POSITION, position)
        item.setToolTip(3, entry.summary)
        font = QFont(self.font())
        font.setBold(position == now)
        for column in range(4):
            item.setFont(column, font)
            if position > now:
                item.setForeground(column, QBrush(self._theme.colour("faint")))
        if position == now:
            item.setText(1, f"{entry.text}  ·  now")
        for line in entry.changes:
            child = QTreeWidgetItem(
                ["", f"{line.part} · {line.what}", line.sample, f"{line.one} → {line.other}"]
            )
            child.setData(0, _POSITION, position)
            child.setToolTip(3, child.text(3))
            item.addChild(child)
        return item

    def _chosen(self) -> int | None:
        item = self.tree.currentItem()
        return None if item is None else int(item.data(0, _POSITION))

    def _enable(self) -> None:
        chosen = self._chosen()
        self.back.setEnabled(chosen is not None and chosen != len(self._session.history()))
        self.save.setEnabled(self.tree.topLevelItemCount() > 0)

    def go_back(self) -> None:
        """Go back, or forth, to the chosen change."""
        chosen = self._chosen()
        if chosen is not None:
            self._session.go_back_to(chosen)

"""All checks of the study: the same one of many samples in a line, and marked as seen."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QLabel, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from rilievo.core.pipeline.gathered_checks import GatheredCheck, name_of
from rilievo.ui.compute.compute import Compute
from rilievo.ui.help.topics import set_topic
from rilievo.ui.session.study_session import StudySession

_NAMES = Qt.ItemDataRole.UserRole
_SAMPLE = Qt.ItemDataRole.UserRole + 1
_WORDS = {"serious": "▲ serious", "caution": "▲ caution", "note": "○ note"}


class ChecksList(QWidget):
    """What differs between samples stands first. The tick says that one has seen it."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__()
        self._session, self._compute = session, compute
        self._filling = False
        self.list = QTreeWidget()
        self.list.setHeaderLabels(["Seen", "", "Samples and what was found"])
        self.list.setAccessibleName("Checks of all samples")
        self.list.setColumnWidth(0, 70)
        self.list.setColumnWidth(1, 90)
        self.list.itemChanged.connect(self._on_ticked)
        self.list.itemActivated.connect(lambda item, _: self._go_to(item))
        self.list.itemClicked.connect(lambda item, column: self._go_to(item) if column else None)
        self.nothing = QLabel("No check has anything to note.")
        self.nothing.setProperty("role", "faint")
        self.nothing.setAlignment(Qt.AlignmentFlag.AlignCenter)
        set_topic(self, "guide", "Checks")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 4, 16, 4)
        layout.addWidget(self.list)
        layout.addWidget(self.nothing)
        compute.checks.changed.connect(self.refresh)
        session.changed.connect(lambda *_: self.refresh())

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """List the checks as they are now."""
        if not self.isVisible():
            return
        lines = self._compute.checks.gathered()
        opened = {self._key(item) for item in self._tops() if item.isExpanded()}
        self._filling = True
        self.list.clear()
        for line in lines:
            item = self._top(line)
            self.list.addTopLevelItem(item)
            item.setExpanded(self._key(item) in opened)
        self._filling = False
        self.list.setVisible(bool(lines))
        self.nothing.setVisible(not lines)

    def _tops(self) -> list[QTreeWidgetItem]:
        items = (self.list.topLevelItem(k) for k in range(self.list.topLevelItemCount()))
        return [item for item in items if item is not None]

    @staticmethod
    def _key(item: QTreeWidgetItem) -> frozenset[object]:
        return frozenset((kind, channel) for _, kind, channel in item.data(0, _NAMES))

    def _top(self, line: GatheredCheck) -> QTreeWidgetItem:
        seen = self._compute.checks.seen
        where = f"{line.channel}, " if line.channel else ""
        text = where + line.text(len(self._session.state.samples))
        item = QTreeWidgetItem(["", _WORDS[line.severity], text])
        item.setToolTip(2, text)
        item.setData(0, _NAMES, line.names)
        item.setData(0, _SAMPLE, line.checks[0].sample)
        item.setCheckState(0, self._state(line.names))
        if len(line.checks) > 1:
            for check in line.checks:
                child = QTreeWidgetItem(["", "", f"{check.sample}: {check.text}"])
                child.setToolTip(2, check.text)
                child.setData(0, _NAMES, frozenset([name_of(check)]))
                child.setData(0, _SAMPLE, check.sample)
                ticked = name_of(check) in seen
                child.setCheckState(0, Qt.CheckState.Checked if ticked else Qt.CheckState.Unchecked)
                item.addChild(child)
        return item

    def _state(self, names: frozenset[tuple[str, str, str]]) -> Qt.CheckState:
        known = len(names & self._compute.checks.seen)
        if known == len(names):
            return Qt.CheckState.Checked
        return Qt.CheckState.PartiallyChecked if known else Qt.CheckState.Unchecked

    def _on_ticked(self, item: QTreeWidgetItem, column: int) -> None:
        if self._filling or column:
            return
        seen = item.checkState(0) == Qt.CheckState.Checked
        self._compute.checks.mark_seen(item.data(0, _NAMES), seen)

    def _go_to(self, item: QTreeWidgetItem) -> None:
        """Look at the sample of a line."""
        entry = self._session.named(str(item.data(0, _SAMPLE)))
        if entry is not None:
            self._session.focus.set(sample_id=entry.id)

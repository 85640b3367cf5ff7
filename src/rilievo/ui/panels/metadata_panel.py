"""Everything a file says of itself, as a tree that is searched and copied."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.image.metadata import MetadataNode, matching
from rilievo.core.study.sealed_study import HIDDEN
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled

_OPEN_UP_TO = 400


class MetadataView(QWidget):
    """Search above, the tree below; Esc goes back to the picture."""

    closed = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__()
        self.setObjectName("compareView")
        self._session, self._compute = session, compute
        self._nodes: tuple[MetadataNode, ...] = ()
        self._title = QLabel("")
        self._title.setProperty("role", "heading")
        self.about = QLabel("")
        self.about.setProperty("role", "faint")
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search names and values")
        self.search.setAccessibleName("Search the metadata")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self._fill())
        self.copy_button = QPushButton("Copy")
        self.copy_button.setToolTip("Copy the chosen lines, or all that is shown (Ctrl+C)")
        self.copy_button.clicked.connect(self.copy)
        self.back = QPushButton("Back to the picture")
        self.back.clicked.connect(self.closed)
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels(["Name", "Value", "Comment"])
        self.tree.setColumnWidth(0, 280)
        self.tree.setColumnWidth(1, 320)
        self.tree.setAlternatingRowColors(True)
        self.tree.setUniformRowHeights(True)
        self.tree.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.tree.setAccessibleName("Metadata")
        head = QHBoxLayout()
        head.setSpacing(12)
        head.addWidget(self._title)
        head.addWidget(self.about, 1)
        head.addWidget(self.search)
        head.addWidget(self.copy_button)
        head.addWidget(self.back)
        self.search.setFixedWidth(scaled(220))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 8)
        layout.setSpacing(8)
        layout.addLayout(head)
        layout.addWidget(self.tree, 1)
        for signal in (session.focus.changed, compute.store.loaded):
            signal.connect(lambda *_: self.refresh())

    def refresh(self) -> None:
        """Show the focused sample's file."""
        if not self.isVisible():
            return
        entry, sample = self._session.focus.entry, self._compute.store.focused
        self._title.setText(entry.name if entry else "")
        self._nodes = sample.metadata if sample is not None else ()
        if self._session.is_blind:
            self._nodes = ()
        self._fill()

    def _fill(self) -> None:
        self.tree.clear()
        found = matching(self._nodes, self.search.text())
        lines = sum(1 for node in found for _ in node.walk())
        self.tree.addTopLevelItems([_item(node) for node in found])
        if lines <= _OPEN_UP_TO or self.search.text():
            self.tree.expandAll()
        else:
            self.tree.expandToDepth(0)
        entry = self._session.focus.entry
        name = "" if entry is None else ", ".join(part.path.name for part in entry.sources)
        if self._session.is_blind:
            self.about.setText(HIDDEN)
        elif not self._nodes:
            self.about.setText(f"{name} says nothing of itself.")
        elif not found:
            self.about.setText(f"Nothing in {name} holds “{self.search.text()}”.")
        else:
            self.about.setText(f"{lines} lines in {name}")

    def copy(self) -> None:
        """Copy the chosen lines, or all that is shown; one chosen value alone."""
        chosen = self.tree.selectedItems()
        if len(chosen) == 1 and not chosen[0].childCount():
            text = chosen[0].text(1)
        elif chosen:
            text = "\n".join(f"{item.text(0)}\t{item.text(1)}" for item in chosen)
        else:
            text = "\n".join(node.as_text() for node in matching(self._nodes, self.search.text()))
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(text)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        elif event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        else:
            super().keyPressEvent(event)

    def showEvent(self, event: object) -> None:
        self.refresh()
        self.search.setFocus()


def _item(node: MetadataNode) -> QTreeWidgetItem:
    first, _, rest = node.value.partition("\n")
    item = QTreeWidgetItem([node.name, first + (" …" if rest else ""), node.note])
    item.setToolTip(1, node.value[:2000])
    item.addChildren(_items(node.children))
    return item


def _items(nodes: Sequence[MetadataNode]) -> list[QTreeWidgetItem]:
    return [_item(node) for node in nodes]

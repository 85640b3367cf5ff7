"""Command search: type a few letters, Enter does it."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QAction, QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

_WIDTH, _ROW_HEIGHT, _MOST_ROWS = 440, 30, 9


def matches(words: str, text: str) -> bool:
    """Whether every word stands somewhere in the text."""
    plain = text.lower()
    return all(word in plain for word in words.lower().split())


class CommandSearch(QFrame):
    """A list over the window, of the same actions as the menus."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("search")
        self.setAutoFillBackground(True)
        self._actions: list[tuple[str, QAction]] = []
        self.field = QLineEdit()
        self.field.setPlaceholderText("What do you want to do?")
        self.field.setAccessibleName("Search a command")
        self.list = QListWidget()
        self.list.setAccessibleName("Commands found")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 10, 10, 10)
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        self.field.textChanged.connect(self._fill)
        self.field.installEventFilter(self)
        self.field.returnPressed.connect(self._do)
        self.list.itemClicked.connect(lambda _: self._do())
        self.hide()

    def open(self, actions: list[tuple[str, QAction]]) -> None:
        """Show the search over these (menu, action) pairs."""
        self._actions = actions
        parent = self.parentWidget()
        if parent is not None:
            self.move((parent.width() - _WIDTH) // 2, 84)
        self.field.clear()
        self._fill("")
        self.show()
        self.raise_()
        self.field.setFocus()

    def _fill(self, words: str) -> None:
        self.list.clear()
        for menu, action in self._actions:
            text = action.text().replace("&", "")
            if not matches(words, f"{menu} {text} {action.toolTip()}"):
                continue
            keys = action.shortcut().toString()
            item = QListWidgetItem(f"{text}    {keys}" if keys else text)
            item.setToolTip(f"{menu}: {action.toolTip()}")
            item.setData(Qt.ItemDataRole.UserRole, action)
            if not action.isEnabled():
                item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEnabled)
            self.list.addItem(item)
        rows = max(1, min(self.list.count(), _MOST_ROWS))
        self.resize(_WIDTH, 66 + rows * _ROW_HEIGHT)
        for row in range(self.list.count()):
            item_at = self.list.item(row)
            if item_at is not None and item_at.flags() & Qt.ItemFlag.ItemIsEnabled:
                self.list.setCurrentRow(row)
                break

    def _do(self) -> None:
        item = self.list.currentItem()
        if item is None or not item.flags() & Qt.ItemFlag.ItemIsEnabled:
            return
        self.hide()
        action = item.data(Qt.ItemDataRole.UserRole)
        action.trigger()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step is not None:
                row = self.list.currentRow() + step
                self.list.setCurrentRow(min(max(row, 0), self.list.count() - 1))
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        if event is not None and event.type() == QEvent.Type.FocusOut:
            self.hide()
        return super().eventFilter(watched, event)

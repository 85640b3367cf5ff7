"""Search lists: type a few letters, Enter does it. One for commands, others build on it."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QAction, QFont, QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

_WIDTH, _ROW_HEIGHT, _MOST_ROWS = 440, 30, 9


def matches(words: str, text: str) -> bool:
    """Whether every word stands somewhere in the text."""
    plain = text.lower()
    return all(word in plain for word in words.lower().split())


def add_heading(rows: QListWidget, text: str) -> None:
    """Add a row that names those below it and cannot be chosen."""
    head = QListWidgetItem(text)
    font = QFont(rows.font())
    font.setBold(True)
    head.setFont(font)
    head.setFlags(Qt.ItemFlag.NoItemFlags)
    rows.addItem(head)


class SearchList(QFrame):
    """A field over a list that lies over the window; arrow keys choose, Escape closes."""

    def __init__(self, parent: QWidget, hint: str, name: str) -> None:
        """hint : what stands in the empty field. name : what the list holds."""
        super().__init__(parent)
        self.setObjectName("search")
        self.setAutoFillBackground(True)
        self.field = QLineEdit()
        self.field.setPlaceholderText(hint)
        self.field.setAccessibleName(hint)
        self.list = QListWidget()
        self.list.setAccessibleName(name)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        # A click on the list leaves the field with the keys.
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 10, 10, 10)
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        self.field.textChanged.connect(self.fill)
        self.field.installEventFilter(self)
        self.field.returnPressed.connect(self.take)
        self.list.itemClicked.connect(lambda _: self.take())
        self.hide()

    def fill(self, words: str) -> None:
        """List what matches the words."""

    def take(self) -> None:
        """Do what is chosen."""

    def appear(self) -> None:
        """Show everything, ready to type."""
        self.field.clear()
        self.fill("")
        self.show()
        self.raise_()
        self.field.setFocus()

    def step(self, by: int, from_row: int | None = None) -> None:
        """Choose the next row, down or up, of those that can be chosen."""
        row = (self.list.currentRow() if from_row is None else from_row) + by
        while 0 <= row < self.list.count():
            item = self.list.item(row)
            if item is not None and item.flags() & Qt.ItemFlag.ItemIsEnabled:
                self.list.setCurrentRow(row)
                return
            row += by

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            by = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if by is not None:
                self.step(by)
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        if event is not None and event.type() == QEvent.Type.FocusOut:
            self.hide()
        return super().eventFilter(watched, event)


class CommandSearch(SearchList):
    """The same actions as the menus."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "What do you want to do?", "Commands found")
        self._actions: list[tuple[str, QAction]] = []

    def open(self, actions: list[tuple[str, QAction]]) -> None:
        """Show the search over these (menu, action) pairs."""
        self._actions = actions
        parent = self.parentWidget()
        if parent is not None:
            self.move((parent.width() - _WIDTH) // 2, 84)
        self.appear()

    def fill(self, words: str) -> None:
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
        self.step(1, from_row=-1)

    def take(self) -> None:
        item = self.list.currentItem()
        if item is None or not item.flags() & Qt.ItemFlag.ItemIsEnabled:
            return
        self.hide()
        action = item.data(Qt.ItemDataRole.UserRole)
        action.trigger()

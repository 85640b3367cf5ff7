"""The list of all steps, searched while one types; each with a line that explains it."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from rilievo.core.steps import FAMILIES, STEPS
from rilievo.ui.search import matches

_WIDTH, _HEIGHT = 368, 420


class StepChooser(QFrame):
    """A list that drops down; Enter or a click takes a step, Escape closes it."""

    chosen = pyqtSignal(str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("search")
        self.setAutoFillBackground(True)
        self.setFixedWidth(_WIDTH)
        self.field = QLineEdit()
        self.field.setPlaceholderText("Search the steps")
        self.field.setAccessibleName("Search the steps")
        self.field.setClearButtonEnabled(True)
        self.list = QListWidget()
        self.list.setWordWrap(True)
        self.list.setAccessibleName("Steps")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        self.field.textChanged.connect(self.fill)
        self.field.installEventFilter(self)
        self.field.returnPressed.connect(self._take)
        self.list.itemClicked.connect(lambda _: self._take())
        # A click on the list leaves the field with the keys.
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.hide()

    def open_below(self, widget: QWidget) -> None:
        """Show the list under a widget, over the window."""
        window = widget.window()
        if window is None:
            return
        self.setParent(window)
        self.field.clear()
        self.fill("")
        at = widget.mapTo(window, QPoint(0, widget.height() + 2))
        self.setFixedHeight(min(_HEIGHT, window.height() - at.y() - 8))
        self.move(min(at.x(), window.width() - _WIDTH - 8), at.y())
        self.show()
        self.raise_()
        self.field.setFocus()

    def fill(self, words: str) -> None:
        """Show the steps that match some words."""
        self.list.clear()
        for family in FAMILIES:
            steps = [
                step
                for step in STEPS.values()
                if step.family == family
                and matches(words, f"{family} {step.title} {step.explanation}")
            ]
            if not steps:
                continue
            head = QListWidgetItem(family)
            font = QFont(self.font())
            font.setBold(True)
            head.setFont(font)
            head.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(head)
            for step in steps:
                mark = "" if step.linear else "  ·  not linear"
                item = QListWidgetItem(f"{step.title}{mark}\n{step.explanation}")
                item.setData(Qt.ItemDataRole.UserRole, step.key)
                self.list.addItem(item)
        self._step(1, from_row=-1)

    def _step(self, step: int, from_row: int | None = None) -> None:
        row = (self.list.currentRow() if from_row is None else from_row) + step
        while 0 <= row < self.list.count():
            item = self.list.item(row)
            if item is not None and item.data(Qt.ItemDataRole.UserRole):
                self.list.setCurrentRow(row)
                return
            row += step

    def _take(self) -> None:
        item = self.list.currentItem()
        key = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        if key:
            self.hide()
            self.chosen.emit(key)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step is not None:
                self._step(step)
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        if event is not None and event.type() == QEvent.Type.FocusOut:
            self.hide()
        return super().eventFilter(watched, event)

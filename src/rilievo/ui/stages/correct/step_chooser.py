"""The list of all steps, searched while one types; each with a line that explains it."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtWidgets import QListWidgetItem, QWidget

from rilievo.core.signal.steps import FAMILIES, STEPS
from rilievo.ui.widgets.search_list import SearchList, add_heading, matches

_WIDTH, _HEIGHT = 368, 420


class StepChooser(SearchList):
    """A list that drops down from a button; Enter or a click takes a step."""

    chosen = pyqtSignal(str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "Search the steps", "Steps")
        self.setFixedWidth(_WIDTH)
        self.field.setClearButtonEnabled(True)
        self.list.setWordWrap(True)
        # Keys of steps that fit the picture, with why.
        self.fitting: list[tuple[str, str]] = []

    def open_below(self, widget: QWidget) -> None:
        """Show the list under a widget, over the window."""
        window = widget.window()
        if window is None:
            return
        self.setParent(window)
        at = widget.mapTo(window, QPoint(0, widget.height() + 2))
        self.setFixedHeight(min(_HEIGHT, window.height() - at.y() - 8))
        self.move(min(at.x(), window.width() - _WIDTH - 8), at.y())
        self.appear()

    def show_fitting(self, fitting: list[tuple[str, str]]) -> None:
        """List steps that fit the picture before all others."""
        self.fitting = fitting
        if self.isVisible():
            self.fill(self.field.text())

    def fill(self, words: str) -> None:
        self.list.clear()
        fitting = [
            (STEPS[key], why)
            for key, why in self.fitting
            if matches(words, f"{STEPS[key].title} {why}")
        ]
        if fitting:
            add_heading(self.list, "Fits this picture")
        for step, why in fitting:
            item = QListWidgetItem(f"{step.title}\n{why[:1].upper()}{why[1:]}")
            item.setData(Qt.ItemDataRole.UserRole, step.key)
            self.list.addItem(item)
        for family in FAMILIES:
            steps = [
                step
                for step in STEPS.values()
                if step.family == family
                and matches(words, f"{family} {step.title} {step.explanation}")
            ]
            if not steps:
                continue
            add_heading(self.list, family)
            for step in steps:
                mark = "" if step.is_linear() else "  ·  not linear"
                item = QListWidgetItem(f"{step.title}{mark}\n{step.explanation}")
                item.setData(Qt.ItemDataRole.UserRole, step.key)
                self.list.addItem(item)
        self.step(1, from_row=-1)

    def take(self) -> None:
        item = self.list.currentItem()
        key = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        if key:
            self.hide()
            self.chosen.emit(key)

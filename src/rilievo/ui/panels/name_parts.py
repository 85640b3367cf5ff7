"""The first names of files in coloured pieces, each with a menu that says what it means."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.files.import_naming import MEANINGS
from rilievo.core.files.name_reading import NameReading, is_attribute
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import clear_rows, faint

_MOST_NAMES = 3
_COLOURS = {"sample": "ink", "channel": "water", "group": "good", "replicate": "accent_dark"}
_TITLES = {
    "sample": "Sample",
    "channel": "Channel: files that differ in it are one sample",
    "group": "Group",
    "replicate": "Replicate",
}
_USUAL = ("day", "time", "dose", "plate", "field", "date", "experiment")


class NamePartsRow(QWidget):
    """`changed` gives the pattern of the reading after a piece was given another meaning."""

    changed = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.reading: NameReading | None = None
        # One for each piece that varies, by its position.
        self.buttons: dict[int, QPushButton] = {}
        self._about = faint()
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(0)
        self._grid.setVerticalSpacing(2)
        row = QHBoxLayout()
        row.addLayout(self._grid)
        row.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addLayout(row)
        layout.addWidget(self._about)
        theme.changed.connect(self._fill)
        self.hide()

    def show_reading(self, reading: NameReading | None) -> None:
        """Show how names are read; None for nothing to be read."""
        self.reading = reading
        self._fill()

    def follow(self, pattern: str) -> None:
        """Show the reading only as long as the typed pattern is its own."""
        self.setVisible(self.reading is not None)
        own = self.reading is not None and pattern == self.reading.pattern
        self._about.setText(
            "Read from the names. Click a piece to say what it means."
            if own
            else "Not in force: all names are taken as the pattern above says. Click a piece to "
            "have them read like this."
        )

    def _fill(self) -> None:
        clear_rows(self._grid)
        self.buttons = {}
        reading = self.reading
        self.setVisible(reading is not None)
        if reading is None:
            return
        rows = self._examples(reading)
        for k, part in enumerate(reading.parts):
            colour = self._theme.value(self._role(part.meaning))
            if part.varies:
                button = QPushButton(part.meaning or "nothing")
                button.setProperty("role", "tight")
                button.setStyleSheet(f"color: {colour}; font-weight: 600;")
                button.setAccessibleName(
                    f"{part.values[0]}: {part.meaning or 'nothing'}; choose what it means"
                )
                button.setToolTip(self._varies_text(k))
                button.setMenu(self._menu(k))
                self.buttons[k] = button
                self._grid.addWidget(button, 0, k)
            for i, row in enumerate(rows, start=1):
                label = QLabel(part.values[row])
                weight = "600" if part.varies else "400"
                label.setStyleSheet(f"color: {colour}; font-weight: {weight}; padding: 0 1px;")
                self._grid.addWidget(label, i, k)

    @staticmethod
    def _examples(reading: NameReading) -> list[int]:
        """The first name, and those after it that differ most from the ones before."""
        rows = [0]
        count = len(reading.paths)
        while len(rows) < min(_MOST_NAMES, count):
            rows.append(
                max(
                    (k for k in range(count) if k not in rows),
                    key=lambda k: (
                        sum(
                            part.values[k] not in {part.values[r] for r in rows}
                            for part in reading.parts
                        ),
                        -k,
                    ),
                )
            )
        return rows

    def _varies_text(self, position: int) -> str:
        part = self.reading.parts[position] if self.reading is not None else None
        if part is None:
            return ""
        values = list(dict.fromkeys(part.values))
        listed = ", ".join(values[:8]) + (" …" if len(values) > 8 else "")
        return f"{len(values)} values: {listed}"

    @staticmethod
    def _role(meaning: str) -> str:
        if not meaning:
            return "faint"
        return _COLOURS.get(meaning, "check_text")

    def _menu(self, position: int) -> QMenu:
        menu = QMenu(self)
        reading = self.reading
        now = reading.parts[position].meaning if reading is not None else ""
        for meaning in MEANINGS:
            self._entry(menu, _TITLES[meaning], position, meaning, now)
        menu.addSeparator()
        known = [now] if is_attribute(now) and now not in _USUAL else []
        for meaning in (*known, *_USUAL):
            self._entry(menu, f"Attribute: {meaning}", position, meaning, now)
        other = menu.addAction("Another attribute …")
        if other is not None:
            other.triggered.connect(lambda: self._ask(position))
        menu.addSeparator()
        self._entry(menu, "Nothing", position, "", now)
        return menu

    def _entry(self, menu: QMenu, title: str, position: int, meaning: str, now: str) -> None:
        action = QAction(title, menu)
        action.setCheckable(True)
        action.setChecked(meaning == now)
        action.triggered.connect(partial(self.set_meaning, position, meaning))
        menu.addAction(action)

    def _ask(self, position: int) -> None:
        name, good = QInputDialog.getText(self, "Attribute", "What is it called?")
        cleaned = "".join(c for c in name.strip().lower() if c not in "{}*#/")
        if good and cleaned:
            self.set_meaning(position, cleaned)

    def set_meaning(self, position: int, meaning: str, _checked: bool = False) -> None:
        """Have a piece mean something else."""
        if self.reading is not None:
            self.reading = self.reading.with_meaning(position, meaning)
            self._fill()
            self.changed.emit(self.reading.pattern)

"""What stands in the middle of an empty window: the ways to begin."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFont
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

_PER_ROW = 2
Way = tuple[str, str, Callable[[], None]]


class Welcome(QWidget):
    """A title, a sentence, and buttons."""

    def __init__(self, theme: Theme, ways: list[Way], demos: list[Way]) -> None:
        """ways, demos : text, tooltip, what it does."""
        super().__init__()
        light = f"color: {theme.value('over_picture')}"
        title = QLabel("Bring in the first samples")
        title.setFont(text_font(20, QFont.Weight.DemiBold))
        title.setStyleSheet(light + "; font-size: 20px; font-weight: 600;")
        text = QLabel("Drop image files or a folder here. Your files are only read, never changed.")
        text.setStyleSheet(light)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addStretch(1)
        for i, (name, tip, do) in enumerate(ways):
            button = QPushButton(name)
            button.setToolTip(tip)
            if i == 0:
                button.setProperty("role", "main")
            button.clicked.connect(lambda _=False, do=do: do())
            row.addWidget(button)
        row.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setSpacing(12)
        layout.addStretch(1)
        for label in (title, text):
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            layout.addWidget(label)
        layout.addSpacing(8)
        layout.addLayout(row)
        layout.addSpacing(16)
        layout.addLayout(_demo_rows(demos, light))
        layout.addStretch(1)


def _demo_rows(demos: list[Way], light: str) -> QVBoxLayout:
    """The synthetic studies, two a row."""
    column = QVBoxLayout()
    column.setSpacing(8)
    label = QLabel("or try synthetic data:")
    label.setStyleSheet(light)
    label.setAlignment(Qt.AlignmentFlag.AlignCenter)
    column.addWidget(label)
    grid = QGridLayout()
    grid.setSpacing(8)
    for k, (name, tip, do) in enumerate(demos):
        button = QPushButton(name)
        button.setToolTip(tip)
        button.clicked.connect(lambda _=False, do=do: do())
        grid.addWidget(button, k // _PER_ROW, k % _PER_ROW)
    row = QHBoxLayout()
    row.addStretch(1)
    row.addLayout(grid)
    row.addStretch(1)
    column.addLayout(row)
    return column

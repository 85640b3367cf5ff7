"""What stands in the middle of an empty window: the ways to begin."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFont
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

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
        layout.addLayout(_demo_row(demos, light))
        layout.addStretch(1)


def _demo_row(demos: list[Way], light: str) -> QHBoxLayout:
    """The synthetic studies, smaller."""
    row = QHBoxLayout()
    row.setSpacing(8)
    row.addStretch(1)
    label = QLabel("or try synthetic data:")
    label.setStyleSheet(light)
    row.addWidget(label)
    for name, tip, do in demos:
        button = QPushButton(name)
        button.setToolTip(tip)
        button.clicked.connect(lambda _=False, do=do: do())
        row.addWidget(button)
    row.addStretch(1)
    return row

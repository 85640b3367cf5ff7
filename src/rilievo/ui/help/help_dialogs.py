"""Small windows of the Help menu: shortcuts, about, reporting a problem."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication, QKeySequence
from PyQt6.QtWidgets import (
    QDialog,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QTextBrowser,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo._version import __version__
from rilievo.ui.help.versions import packages, problem_facts, system
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import faint, side_by_side
from rilievo.ui.widgets.search_list import matches

Row = tuple[str, str, str, str]  # menu, what, keys, tip

# What no menu has.
POINTER_KEYS: tuple[Row, ...] = (
    ("Picture", "Move about", "drag, or Space and drag", "Pan the picture"),
    ("Picture", "Zoom", "wheel, + and −", "Around the pointer"),
    ("Picture", "Move the marker by a pixel", "arrow keys", "Shift: ten pixels"),
    ("Fields", "Step a number", "Up and Down", "Shift: ten times as much"),
    ("Fields", "Put a number back", "Esc", "As it was before typing"),
    ("Edges", "Fold away, bring back", "double click", "The line beside a part of the window"),
)


class ShortcutSheet(QDialog):
    """All keys in one list that can be searched."""

    def __init__(self, rows: Sequence[Row], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys")
        self.resize(620, 640)
        self._rows = [*rows, *POINTER_KEYS]
        self.field = QLineEdit()
        self.field.setPlaceholderText("Find an action or a key")
        self.field.setAccessibleName("Find an action or a key")
        self.list = QTreeWidget()
        self.list.setHeaderLabels(["Action", "Keys"])
        self.list.setRootIsDecorated(False)
        self.list.setColumnWidth(0, 400)
        self.list.setAccessibleName("Keys")
        layout = QVBoxLayout(self)
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        self.field.textChanged.connect(self.fill)
        self.fill("")

    def fill(self, words: str) -> None:
        """List what matches the words, under the menus."""
        self.list.clear()
        groups: dict[str, QTreeWidgetItem] = {}
        for menu, what, keys, tip in self._rows:
            if not keys or not matches(words, f"{menu} {what} {keys} {tip}"):
                continue
            group = groups.get(menu)
            if group is None:
                group = groups[menu] = QTreeWidgetItem([menu])
                group.setFlags(Qt.ItemFlag.ItemIsEnabled)
                font = group.font(0)
                font.setBold(True)
                group.setFont(0, font)
                self.list.addTopLevelItem(group)
            item = QTreeWidgetItem([what, keys])
            item.setToolTip(0, tip)
            group.addChild(item)
        self.list.expandAll()


def keys_text(shortcut: str) -> str:
    """Return keys as the desktop writes them."""
    return QKeySequence(shortcut).toString(QKeySequence.SequenceFormat.NativeText)


class AboutDialog(QDialog):
    """Version, licence, packages with theirs, and where the log is."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("About Rilievo")
        self.resize(560, 560)
        facts = "".join(f"<tr><td>{n}&nbsp;&nbsp;</td><td>{v}</td></tr>" for n, v in system())
        listed = "".join(
            f"<tr><td>{n}&nbsp;&nbsp;</td><td>{v}&nbsp;&nbsp;</td><td>{licence}</td></tr>"
            for n, v, licence in packages()
        )
        self.text = QTextBrowser()
        self.text.setAccessibleName("Versions and licences")
        self.text.setHtml(
            f"<h3>Rilievo {__version__}</h3><p>Measures pixel intensities in grayscale "
            "photographs: correct, outline, measure, compare. Licence: Apache 2.0. Typeface Inter: "
            f"SIL Open Font Licence 1.1.</p><table>{facts}</table><p>Made with</p>"
            f"<table>{listed}</table>"
        )
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        layout = QVBoxLayout(self)
        layout.addWidget(self.text)
        layout.addWidget(side_by_side(close), 0, Qt.AlignmentFlag.AlignRight)


class ProblemDialog(QDialog):
    """Collects what a report of a problem needs into a text to copy; nothing is sent."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Report a problem")
        self.resize(620, 560)
        self.what = QPlainTextEdit()
        self.what.setPlaceholderText("What did you do, what did you expect, what came?")
        self.what.setAccessibleName("What happened")
        self.what.setFixedHeight(scaled(96))
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setAccessibleName("Text of the report")
        self.copy = QPushButton("Copy the text")
        self.copy.setProperty("role", "main")
        self.copy.clicked.connect(self._copy)
        self.said = QLabel("")
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        layout = QVBoxLayout(self)
        layout.addWidget(self.what)
        layout.addWidget(
            faint(
                "Versions and the end of the log are added. Nothing is sent: copy the text, read "
                "it, and give it to whoever looks after Rilievo for you. Names of files are in it."
            )
        )
        layout.addWidget(self.text, 1)
        layout.addWidget(side_by_side(self.said, self.copy, close), 0, Qt.AlignmentFlag.AlignRight)
        self._facts = problem_facts()
        self.what.textChanged.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Write the text anew."""
        told = self.what.toPlainText().strip() or "(not told)"
        self.text.setPlainText(f"What happened:\n{told}\n\n{self._facts}")

    def _copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.text.toPlainText())
            self.said.setText("Copied.")

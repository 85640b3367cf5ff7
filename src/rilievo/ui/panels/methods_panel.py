"""The library of methods, each beside the present one: what differs, line by line."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QFont
from PyQt6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.errors import RilievoError
from rilievo.core.method.diff import compared
from rilievo.core.method.library import (
    NamedMethod,
    delete_method,
    own_methods,
    save_method,
    shipped,
)
from rilievo.core.method.method import Method
from rilievo.core.method.step_edits import taken_over
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import faint, side_by_side
from rilievo.ui.widgets.search_list import add_heading

_ITEM = Qt.ItemDataRole.UserRole


class MethodsView(QWidget):
    """Methods on the left, the comparison on the right; covers the picture."""

    closed = pyqtSignal()
    # A method of a file, which may lead elsewhere and is asked about before it is used.
    file_wanted = pyqtSignal(object)

    def __init__(self, session: StudySession, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("compareView")
        self._session, self._theme = session, theme
        self._files: list[NamedMethod] = []
        self.method: Method | None = None
        heading = QLabel("Methods")
        heading.setProperty("role", "heading")
        self.list = QListWidget()
        self.list.setAccessibleName("Methods")
        self.list.setFixedWidth(scaled(232))
        self.list.currentItemChanged.connect(lambda *_: self._show())
        self.name = QLineEdit()
        self.name.setPlaceholderText("Name for the present method")
        self.name.setAccessibleName("Name for the present method")
        self.name.returnPressed.connect(self.keep)
        self.keep_button = QPushButton("Keep")
        self.keep_button.setToolTip("Keep the method of this study in the library")
        self.keep_button.clicked.connect(self.keep)
        self.open_button = QPushButton("From a file …")
        self.open_button.clicked.connect(self.ask_file)
        self.remove_button = QPushButton("Remove")
        self.remove_button.setProperty("role", "link")
        self.remove_button.clicked.connect(self.remove)
        self.use_button = QPushButton("Use this method")
        self.use_button.setProperty("role", "main")
        self.use_button.clicked.connect(self.use)
        self.only = QCheckBox("Only what differs")
        self.only.setChecked(True)
        self.only.toggled.connect(lambda _: self._show())
        back = QPushButton("Back to the picture")
        back.clicked.connect(self.closed)
        self.tree = QTreeWidget()
        self.tree.setAccessibleName("Comparison of methods")
        self.tree.setUniformRowHeights(False)
        self.tree.setWordWrap(True)
        self.tree.setColumnWidth(0, 236)
        self.about = faint()
        self.say = QLabel()
        self.say.setProperty("role", "check")
        self.say.setWordWrap(True)
        self.say.hide()
        head = QHBoxLayout()
        head.setSpacing(12)
        head.addWidget(heading)
        head.addWidget(self.about, 1)
        head.addWidget(self.only)
        head.addWidget(self.use_button)
        head.addWidget(back)
        left = QVBoxLayout()
        left.addWidget(self.list, 1)
        left.addWidget(side_by_side(self.open_button, self.remove_button, stretch=True))
        left.addWidget(side_by_side(self.name, self.keep_button))
        columns = QHBoxLayout()
        columns.setSpacing(12)
        columns.addLayout(left)
        columns.addWidget(self.tree, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 8)
        layout.addLayout(head)
        layout.addWidget(self.say)
        layout.addLayout(columns, 1)
        session.changed.connect(lambda *_: self._show() if self.isVisible() else None)

    def open(self) -> None:
        """List the methods anew."""
        now = self.list.currentItem()
        chosen = now.text() if now is not None else ""
        self._fill()
        self.choose(chosen)

    def choose(self, name: str) -> None:
        """Choose a method by its name; the first one when there is none of it."""
        found = [
            row for row in range(self.list.count()) if self._text(row) == name and self._method(row)
        ]
        first = [row for row in range(self.list.count()) if self._method(row)]
        for row in (found or first)[:1]:
            self.list.setCurrentRow(row)

    def _text(self, row: int) -> str:
        item = self.list.item(row)
        return item.text() if item is not None else ""

    def _method(self, row: int) -> NamedMethod | None:
        item = self.list.item(row)
        found = item.data(_ITEM) if item is not None else None
        return found if isinstance(found, NamedMethod) else None

    def _fill(self) -> None:
        self.list.clear()
        for title, methods in (
            ("Come with Rilievo", shipped()),
            ("Your own", own_methods()),
            ("From files", self._files),
        ):
            if not methods:
                continue
            add_heading(self.list, title)
            for method in methods:
                item = QListWidgetItem(method.name)
                item.setData(_ITEM, method)
                item.setToolTip(str(method.path))
                self.list.addItem(item)

    def _show(self) -> None:
        """Compare the chosen method with the present one."""
        named = self._method(self.list.currentRow())
        self.tree.clear()
        self.method = None
        self.remove_button.setEnabled(named is not None and named.own)
        if named is not None:
            self._try(lambda: self._load(named))
        self.use_button.setEnabled(self.method is not None)
        if named is None or self.method is None:
            return
        self.tree.setHeaderLabels(["Setting", "This study", named.name])
        width = max(self.tree.width() - 252, 280) // 2
        self.tree.setColumnWidth(1, width)
        lines = compared(self._session.state.method, self.method)
        count = sum(line.differs for line in lines)
        self.about.setText(
            f"{count} settings differ from “{named.name}”."
            if count
            else f"Nothing differs from “{named.name}”."
        )
        parts: dict[str, QTreeWidgetItem] = {}
        for line in lines:
            if self.only.isChecked() and not line.differs:
                continue
            if line.part not in parts:
                parts[line.part] = QTreeWidgetItem([line.part])
                font = QFont(self.font())
                font.setBold(True)
                parts[line.part].setFont(0, font)
                self.tree.addTopLevelItem(parts[line.part])
            item = QTreeWidgetItem([line.what, line.one, line.other])
            for column, text in ((1, line.one), (2, line.other)):
                item.setToolTip(column, text)
                if line.differs:
                    item.setForeground(column, QBrush(self._theme.colour("accent_dark")))
            parts[line.part].addChild(item)
        self.tree.expandAll()

    def _load(self, named: NamedMethod) -> None:
        self.method = named.load()

    def _try(self, work: Callable[[], object]) -> bool:
        """Do something with a file; say in place what goes wrong."""
        try:
            work()
        except RilievoError as exc:
            self.say.setText(str(exc))
            self.say.show()
            return False
        self.say.hide()
        return True

    # -- what is done

    def use(self) -> None:
        """Make the chosen method that of the study; what is known of single samples stays."""
        named = self._method(self.list.currentRow())
        if self.method is None or named is None:
            return
        if named in self._files:
            self.file_wanted.emit(named.path)
        else:
            method = taken_over(self.method, self._session.state.method)
            self._session.change_method(f"Use method {named.name}", method)
        self.closed.emit()

    def keep(self) -> None:
        """Keep the method of the study under the typed name."""
        name = self.name.text().strip()
        if self._try(lambda: save_method(self._session.state.method, name)):
            self.name.clear()
            self._fill()
            self.choose(name)

    def remove(self) -> None:
        """Remove one of the user's methods."""
        named = self._method(self.list.currentRow())
        if named is not None and self._try(lambda: delete_method(named)):
            self.open()

    def ask_file(self) -> None:
        """Choose a method file to compare with or to use."""
        name, _ = QFileDialog.getOpenFileName(self, "Open method", "", "Methods (*.json)")
        if name:
            self.add_file(Path(name))

    def add_file(self, path: Path) -> None:
        """List a method file; it stays where it is."""
        named = NamedMethod(path.stem, path, own=False)
        if self._try(named.load):
            self._files = [*(f for f in self._files if f.path != path), named]
            self._fill()
            self.choose(named.name)

"""Which region classes there are, and which one is worked on."""

from __future__ import annotations

from PyQt6.QtWidgets import QLineEdit, QMenu, QPushButton, QToolButton, QVBoxLayout, QWidget

from rilievo.core.errors import MethodError
from rilievo.core.method import class_edits
from rilievo.core.regions.derived_classes import OPERATIONS
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, clear_rows, faint, side_by_side


class ClassesCard(Card):
    """A button a class, its name to type, and a menu that adds one."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__("Region classes", fold="region classes", folded=True)
        self._session, self._compute = session, compute
        self._rows_of_buttons = QWidget()
        self._layout = QVBoxLayout(self._rows_of_buttons)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(4)
        self.add(self._rows_of_buttons)
        self.buttons: list[QPushButton] = []
        self.add_button = QToolButton()
        self.add_button.setText("+ add")
        self.add_button.setProperty("role", "bare")
        self.add_button.setToolTip("Add a class that is thresholded, drawn, or made from another")
        self.add_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.add_button.setMenu(self.menu)
        self.name = QLineEdit()
        self.name.setAccessibleName("What one region is")
        self.name.setToolTip("What one region is, for example cell or droplet")
        self.name.editingFinished.connect(self.take_name)
        self.remove = QPushButton("Remove")
        self.remove.setToolTip("Take this class out of the method")
        self.remove.clicked.connect(self._remove)
        self.add_row("One region is a", side_by_side(self.name, self.remove), 0)
        self.name.setFixedWidth(scaled(112))
        self.say = faint()
        self.add(self.say)
        self.say.hide()

    def refresh(self) -> None:
        """Show the classes of the method."""
        names = self._session.state.method.class_names
        index = self._session.focus.class_index
        if [button.text() for button in self.buttons] != list(names):
            clear_rows(self._layout)
            self.buttons = []
            for k, name in enumerate(names):
                button = QPushButton(name)
                button.setCheckable(True)
                button.setAutoExclusive(True)
                button.setProperty("role", "choice")
                button.clicked.connect(lambda _, k=k: self._session.focus.set_class(k))
                self.buttons.append(button)
            for start in range(0, len(self.buttons), 3):
                row = [*self.buttons[start : start + 3]]
                last = start + 3 >= len(self.buttons)
                self._layout.addWidget(
                    side_by_side(*row, *([self.add_button] if last else []), stretch=True)
                )
            self.add_button.show()
        self.buttons[index].setChecked(True)
        if not self.name.hasFocus():
            self.name.setText(names[index])
        self.remove.setEnabled(len(names) > 1)
        self.set_about(f"{len(names)} classes" if len(names) > 1 else "")
        self.set_summary(", ".join(names))

    def _fill_menu(self) -> None:
        self.menu.clear()
        for source, text in (
            ("threshold", "By threshold, classes or colour"),
            ("drawn", "Drawn"),
            ("label_image", "From label images"),
        ):
            self.menu.addAction(text, lambda source=source: self.add_class(source))
        self.menu.addSeparator()
        name = self._session.focus.outline.region_class
        for operation, text in OPERATIONS.items():
            shown = text.replace("A", f"“{name}”", 1)
            self.menu.addAction(
                shown, lambda operation=operation: self.add_class("derived", operation)
            )

    def add_class(self, source: str, operation: str = "") -> None:
        """Add a class and work on it; a derived one is made from the class in focus."""
        method = class_edits.added(
            self._session.state.method, source, operation, self._session.focus.outline.region_class
        )
        self._session.change_method(f"Add class {method.class_names[-1]}", method)
        self._session.focus.set_class(len(method.outlines) - 1)

    def take_name(self) -> None:
        """Rename the class in focus to what was typed."""
        name = self.name.text().strip()
        if not name or name == self._session.focus.outline.region_class:
            return
        try:
            method = class_edits.renamed(
                self._session.state.method, self._session.focus.class_index, name
            )
        except MethodError as exc:
            self._tell(str(exc))
            return
        self._tell("")
        self._session.change_method("Name region class", method)

    def _remove(self) -> None:
        index = self._session.focus.class_index
        try:
            method = class_edits.without(self._session.state.method, index)
        except MethodError as exc:
            self._tell(str(exc))
            return
        self._tell("")
        name = self._session.focus.outline.region_class
        self._session.focus.set_class(max(index - 1, 0))
        self._session.change_method(f"Remove class {name}", method)

    def _tell(self, text: str) -> None:
        self.say.setText(text)
        self.say.setVisible(bool(text))

"""Above the tiles: which samples are shown, in which order, how large."""

from __future__ import annotations

from PyQt6.QtCore import QSettings, QTimer
from PyQt6.QtGui import QAction, QActionGroup
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QToolButton,
    QWidget,
)

from rilievo.ui.panels.tiles import SIZES, TileStrip
from rilievo.ui.session.sample_order import STUDY, orders
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import icon, scaled

_SIZE_WORDS = ("small", "medium", "large", "largest")
# What is typed is looked for once the hand rests.
_REST_MS = 120


class TileBar(QWidget):
    """Field, order and size; lies at the right of the drawer's tabs."""

    def __init__(self, session: StudySession, strip: TileStrip) -> None:
        super().__init__()
        self._session, self._strip = session, strip
        self.field = QLineEdit()
        self.field.setPlaceholderText("Find")
        self.field.setAccessibleName("Find samples")
        self.field.setToolTip(
            "Words of names, groups and attributes; “checks” for those with checks, “none” for "
            "those without regions"
        )
        self.field.setClearButtonEnabled(True)
        self.field.setFixedWidth(scaled(88))
        self.count = QLabel("")
        self.count.setProperty("role", "faint")
        self.order = QComboBox()
        self.order.setAccessibleName("Order of the samples")
        self.order.setToolTip("Order of the samples")
        self.order.setFixedWidth(scaled(124))
        self.sizes: dict[int, QAction] = {}
        self.size_button = QToolButton()
        self.size_button.setIcon(icon("sizes"))
        self.size_button.setAccessibleName("Size of the tiles")
        self.size_button.setToolTip("Size of the tiles")
        self.size_button.setProperty("role", "bare")
        self.size_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.size_button.setFixedWidth(scaled(26))
        self.size_button.setMenu(self._size_menu())
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        for widget in (self.count, self.field, self.order, self.size_button):
            row.addWidget(widget)
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.timeout.connect(lambda: strip.show_as(words=self.field.text()))
        self.field.textChanged.connect(lambda _: self._rest.start(_REST_MS))
        self.order.activated.connect(lambda _: strip.show_as(order=self.order.currentData()))
        session.changed.connect(lambda *_: self.refresh())
        session.measurements.changed.connect(self._on_measured)
        strip.arranged.connect(self._show_count)
        kept = str(QSettings().value("tile size", SIZES[1]))
        strip.side = int(kept) if kept.isdigit() and int(kept) in SIZES else SIZES[1]
        self.sizes[strip.side].setChecked(True)
        self.refresh()

    def _size_menu(self) -> QMenu:
        menu, together = QMenu(self), QActionGroup(self)
        for side, word in zip(SIZES, _SIZE_WORDS, strict=True):
            action = QAction(word, self)
            action.setCheckable(True)
            action.triggered.connect(lambda _, side=side: self._take_size(side))
            together.addAction(action)
            menu.addAction(action)
            self.sizes[side] = action
        return menu

    def fit(self, room: int) -> None:
        """Show what there is room for, in pixels; the field first."""
        for widget in (self.field, self.order, self.size_button):
            room -= widget.minimumWidth() + 6
            widget.setVisible(room >= 0)

    def refresh(self) -> None:
        """List what there is to sort by."""
        found = orders(self._session.state.samples, self._session.measurements.tables.values())
        if [self.order.itemData(k) for k in range(self.order.count())] == list(found):
            return
        self.order.clear()
        for key, words in found.items():
            self.order.addItem(words, key)
        kept = self.order.findData(self._strip.order)
        self.order.setCurrentIndex(max(kept, 0))
        if kept < 0 and self._strip.order != STUDY:
            self._strip.show_as(order=STUDY)

    def _on_measured(self) -> None:
        self.refresh()
        if self._strip.order.startswith(("summary:", "count")):
            self._strip.arrange()

    def _take_size(self, side: int) -> None:
        QSettings().setValue("tile size", side)
        self._strip.show_as(side=side)

    def _show_count(self) -> None:
        every, shown = len(self._session.state.samples), len(self._strip.tiles)
        self.count.setText(f"{shown} of {every}" if shown < every else "")

"""What all stage panels are made of: cards with rows of a name and a control."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QSettings, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QIcon, QKeyEvent, QPainter, QPaintEvent, QShowEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.wording.numbers import parsed, typed
from rilievo.ui.theme.style import icon, scaled

# Controls stand in a column of this width at the right of every card.
CONTROL_WIDTH = 172
ROW_GAP = 3


def chevron(way: str) -> QIcon:
    """Return the sign of a card that is open (down) or folded (right)."""
    return icon(f"chevron-{way}")


def faint(text: str = "") -> QLabel:
    """Return a small explaining text."""
    label = QLabel(text)
    label.setProperty("role", "faint")
    label.setWordWrap(True)
    return label


def side_by_side(*widgets: QWidget, stretch: bool = False) -> QWidget:
    """Return widgets in one row."""
    row = QWidget()
    layout = QHBoxLayout(row)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(6)
    for widget in widgets:
        layout.addWidget(widget)
    if stretch:
        layout.addStretch(1)
    return row


def column() -> tuple[QWidget, QVBoxLayout]:
    """Return an empty column and its layout."""
    widget = QWidget()
    layout = QVBoxLayout(widget)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(ROW_GAP)
    return widget, layout


def choice_box(name: str, options: Sequence[tuple[str, str]], width: int = 0) -> QComboBox:
    """Return a box to choose from; its data are the keys.

    name : what it is called for those who cannot see it. options : key and text.
    """
    box = QComboBox()
    for key, text in options:
        box.addItem(text, key)
    box.setAccessibleName(name)
    if width:
        box.setFixedWidth(scaled(width))
    return box


def clear_rows(layout: QLayout) -> None:
    """Remove all widgets of a layout, at once for the eye."""
    while layout.count():
        item = layout.takeAt(0)
        widget = item.widget() if item is not None else None
        if widget is not None:
            widget.hide()
            widget.deleteLater()


def named_row(name: str, control: QWidget, width: int = CONTROL_WIDTH) -> QWidget:
    """Return a control with its name at the left."""
    row = QWidget()
    layout = QHBoxLayout(row)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(12)
    label = QLabel(name)
    label.setBuddy(control)
    control.setAccessibleName(name)
    layout.addWidget(label)
    layout.addStretch(1)
    if width:
        control.setFixedWidth(scaled(width))
    layout.addWidget(control)
    return row


class ElidedLabel(QLabel):
    """One line that is shortened where there is no room, and whole in its tooltip."""

    def minimumSizeHint(self) -> QSize:
        return QSize(0, super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        metrics = self.fontMetrics()
        if metrics.horizontalAdvance(self.text()) <= self.width():
            super().paintEvent(event)
            return
        painter = QPainter(self)
        text = metrics.elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.rect(), int(self.alignment()), text)

    def setText(self, text: str | None) -> None:
        super().setText(text)
        self.setToolTip(text or "")


class Card(QFrame):
    """A titled block of rows; one with a name can be folded to a line that says what is set."""

    opened = pyqtSignal()  # by the user

    def __init__(
        self, title: str, about: str = "", *, fold: str = "", folded: bool = False
    ) -> None:
        """fold : name under which it is remembered whether the card is folded."""
        super().__init__()
        self.setObjectName("card")
        self._beside, self._summary = about, ""
        self._fold = f"folded {fold}" if fold else ""
        self.title_widget: QLabel | QPushButton = QPushButton(title) if fold else QLabel(title)
        self.title_widget.setProperty("role", "title")
        self._about = ElidedLabel(about)
        self._about.setProperty("role", "faint")
        self._about.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        head = QHBoxLayout()
        head.setSpacing(12)
        head.addWidget(self.title_widget)
        head.addWidget(self._about, 1)
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(16, 10, 16, 10)
        self._rows.setSpacing(ROW_GAP)
        self._rows.addLayout(head)
        self._body = QWidget()
        self._inner = QVBoxLayout(self._body)
        self._inner.setContentsMargins(0, 0, 0, 0)
        self._inner.setSpacing(ROW_GAP)
        self._rows.addWidget(self._body)
        if isinstance(self.title_widget, QPushButton):
            kept = QSettings().value(self._fold)
            self.title_widget.setToolTip("Fold or unfold this card")
            self.title_widget.setAccessibleName(f"{title}: fold or unfold")
            self.title_widget.clicked.connect(self._toggle)
            self._show_folded(folded if kept is None else kept in (True, "true"))

    @property
    def folded(self) -> bool:
        """Whether only the title shows."""
        return self._body.isHidden()

    @property
    def can_fold(self) -> bool:
        """Whether the card folds."""
        return bool(self._fold)

    def _toggle(self) -> None:
        self.set_folded(not self.folded)
        if not self.folded:
            self.opened.emit()

    def open(self) -> None:
        """Open the card, as the user does."""
        if self.can_fold and self.folded:
            self._toggle()

    def set_folded(self, folded: bool) -> None:
        """Fold or unfold, and remember it."""
        QSettings().setValue(self._fold, folded)
        self._show_folded(folded)

    def _show_folded(self, folded: bool) -> None:
        self._body.setVisible(not folded)
        self._show_about()
        if isinstance(self.title_widget, QPushButton):
            self.title_widget.setIcon(chevron("right" if folded else "down"))

    def set_title(self, text: str) -> None:
        """Change the title."""
        self.title_widget.setText(text)

    def set_about(self, text: str) -> None:
        """Change the small text beside the title."""
        self._beside = text
        self._show_about()

    def set_summary(self, text: str) -> None:
        """Change what stands beside the title while the card is folded: what is set in it."""
        self._summary = text
        self._show_about()

    def _show_about(self) -> None:
        self._about.setText(self._summary if self.folded and self._summary else self._beside)

    def add(self, widget: QWidget) -> None:
        """Add a widget over the whole width."""
        self._inner.addWidget(widget)

    def add_row(self, name: str, control: QWidget, width: int = CONTROL_WIDTH) -> QWidget:
        """Add a named control; return the row, to hide it."""
        row = named_row(name, control, width)
        self._inner.addWidget(row)
        return row


class NumberField(QLineEdit):
    """A number to type; Enter or leaving takes it, the arrow keys step it, Escape puts it back."""

    entered = pyqtSignal(object)  # float, or None for an empty field that may be empty

    def __init__(self, *, may_be_empty: str = "", unit: str = "", step: float = 1.0) -> None:
        """step : what an arrow key adds; Shift makes it ten times as much."""
        super().__init__()
        self._step = step
        self._value: float | None = None
        self._may_be_empty = bool(may_be_empty)
        self.setPlaceholderText(may_be_empty)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        if unit:
            self.setToolTip(f"in {unit}; the arrow keys step it")
        self.editingFinished.connect(self._take)
        self.textEdited.connect(lambda _: self._mark(False))

    @property
    def value(self) -> float | None:
        """The number last taken."""
        return self._value

    def set_value(self, value: float | None) -> None:
        """Show a number."""
        self._value = value
        text = "" if value is None else typed(value)
        if self.text() != text and not (self.hasFocus() and self.isModified()):
            self.setText(text)
            self._mark(False)

    def refuse(self) -> None:
        """Mark what was typed as wrong; it stays, to be mended."""
        self._mark(True)

    def _mark(self, wrong: bool) -> None:
        if self.property("wrong") != wrong:
            self.setProperty("wrong", wrong)
            style = self.style()
            if style is not None:
                style.polish(self)

    def _take(self) -> None:
        if not self.isModified():
            return
        text = self.text().strip()
        if not text and self._may_be_empty:
            self.setModified(False)
            self.entered.emit(None)
            return
        value = parsed(text)
        if value is None:
            self._mark(True)
            self.setToolTip(f"“{text}” is not a number.")
            return
        self.setModified(False)
        self.entered.emit(value)

    def enter(self, text: str) -> None:
        """Type a text and take it, as a person does."""
        self.setText(text)
        self.setModified(True)
        self._take()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        if event.key() == Qt.Key.Key_Escape:
            self.setModified(False)
            self.set_value(self._value)
            self.setText("" if self._value is None else typed(self._value))
            self._mark(False)
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self._value is not None:
            shift = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            step = self._step * (10.0 if shift else 1.0)
            self.setModified(False)
            # The next key steps on from here, also before the answer is back.
            self.set_value(self._value + (step if event.key() == Qt.Key.Key_Up else -step))
            self.entered.emit(self._value)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        self.selectAll()


class Choice(QWidget):
    """Rows of buttons of which one is chosen."""

    chosen = pyqtSignal(str)

    def __init__(self, options: Sequence[tuple[str, str, str]], per_row: int = 0) -> None:
        """options : key, text, tooltip. per_row : buttons in a row; 0 for all of them."""
        super().__init__()
        self._group = QButtonGroup(self)
        self._buttons: dict[str, QPushButton] = {}
        layout = QGridLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        per_row = per_row or len(options)
        for k, (key, text, tip) in enumerate(options):
            button = QPushButton(text)
            button.setCheckable(True)
            button.setProperty("role", "choice")
            button.setToolTip(tip)
            button.clicked.connect(lambda _, key=key: self.chosen.emit(key))
            self._group.addButton(button)
            self._buttons[key] = button
            layout.addWidget(button, *divmod(k, per_row))
        layout.setColumnStretch(per_row, 1)

    def set_chosen(self, key: str) -> None:
        """Show an option as chosen."""
        if key in self._buttons:
            self._buttons[key].setChecked(True)

    def button(self, key: str) -> QPushButton:
        """Return the button of an option."""
        return self._buttons[key]


# Controls whose middles are no farther apart stand in one row.
_ROW = 16


def chain_by_eye(first: QWidget, body: QWidget | None) -> None:
    """Have the Tab key go through a body as the eye does, row by row, also after it changed.

    first : has the keys before.
    """
    if body is None:
        return
    places = []
    for widget in body.findChildren(QWidget):
        if widget.focusPolicy() & Qt.FocusPolicy.TabFocus and widget.isVisibleTo(body):
            at = widget.mapTo(body, widget.rect().center())
            places.append((at.y() // _ROW, at.x(), widget))
    places.sort(key=lambda place: place[:2])
    for *_, widget in places:
        QWidget.setTabOrder(first, widget)
        first = widget


_ONE_OPEN = "one card open"


def one_card_open() -> bool:
    """Whether opening a card folds the others of its stage."""
    return QSettings().value(_ONE_OPEN, True) in (True, "true")


def keep_one_open(one: bool) -> None:
    """Choose whether opening a card folds the others."""
    QSettings().setValue(_ONE_OPEN, one)


class StagePanel(QScrollArea):
    """A column of cards that scrolls when it must; refreshed only while it is seen."""

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        body = QWidget()
        body.setObjectName("scrolled")
        self._cards = QVBoxLayout(body)
        self._cards.setContentsMargins(0, 0, 0, 0)
        self._cards.setSpacing(0)
        self._cards.addStretch(1)
        self.setWidget(body)
        self._refresh_timer = QTimer(self)
        self._refresh_timer.setSingleShot(True)
        self._refresh_timer.timeout.connect(self.refresh)

    def refresh(self) -> None:
        """Show the state anew."""

    def refresh_soon(self, *_: object) -> None:
        """Refresh once for all that changes in this turn, and not at all while hidden."""
        if self.isVisible():
            self._refresh_timer.start(0)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def focusNextPrevChild(self, next: bool) -> bool:  # noqa: A002 (as Qt calls it)
        chain_by_eye(self, self.widget())
        return super().focusNextPrevChild(next)

    def add_card(self, card: QWidget) -> None:
        """Add a card at the end; opening one folds the others, unless several may be open."""
        self._cards.insertWidget(self._cards.count() - 1, card)
        if isinstance(card, Card) and card.can_fold:
            card.opened.connect(lambda: self._on_opened(card))

    def _on_opened(self, opened: Card) -> None:
        # A folded card need not have kept up.
        self.refresh_soon()
        if not one_card_open():
            return
        for k in range(self._cards.count()):
            item = self._cards.itemAt(k)
            card = item.widget() if item is not None else None
            if isinstance(card, Card) and card is not opened and card.can_fold:
                card.set_folded(True)

    def sizeHint(self) -> QSize:
        body = self.widget()
        return QSize(384, body.sizeHint().height() if body else 300)

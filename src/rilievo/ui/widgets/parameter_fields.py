"""Controls for single parameters: numbers, words, channels, rectangles, positions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from pydantic.fields import FieldInfo
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.measure import QUANTITIES
from rilievo.core.method.describe import shown_value, unit_of
from rilievo.core.parameters import Parameters
from rilievo.core.signal.steps.repair_pixels import Repair
from rilievo.core.wording.numbers import parsed
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import NumberField, choice_box, faint, side_by_side

_NO_CHOICE = "–"


class Known:
    """What a form may offer: channels of the focused sample and samples of the study."""

    def __init__(
        self,
        channels: Sequence[str] = (),
        samples: Sequence[tuple[str, Path]] = (),
        classes: Sequence[str] = (),
        unit: str = "",
        numbers: Mapping[str, float] | None = None,
    ) -> None:
        """unit : of calibrated lengths; empty without a calibration. numbers : that a step told."""
        self.channels, self.samples = tuple(channels), tuple(samples)
        self.classes, self.unit = tuple(classes), unit
        self.numbers = dict(numbers or {})


class Field(QWidget):
    """A control for one parameter; `entered` has the new value."""

    entered = pyqtSignal(object)
    draw_wanted = pyqtSignal()
    wide = False

    def show_value(self, value: Any, known: Known) -> None:
        """Show a value."""

    def show_rest(self, parameters: Parameters) -> None:
        """Show what follows from this parameter together with the others."""

    def _lay(self, *widgets: QWidget) -> None:
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        for widget in widgets:
            layout.addWidget(widget)
        self.setFocusProxy(widgets[0])


class Number(Field):
    """A number with its unit."""

    def __init__(self, field: FieldInfo, *, whole: bool, optional: bool) -> None:
        super().__init__()
        extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        step = extra.get("step", 1)
        unit = unit_of(field)
        self.field = NumberField(
            may_be_empty=str(extra.get("empty", "none")) if optional else "",
            unit=unit or "no unit",
            step=float(step) if isinstance(step, int | float) else 1.0,
        )
        self._whole, self._odd = whole, bool(extra.get("odd"))
        self.field.entered.connect(self._take)
        label = QLabel(unit)
        label.setProperty("role", "faint")
        label.setFixedWidth(scaled(56))
        self._lay(self.field, label)

    def _take(self, value: float | None) -> None:
        if value is not None and self._whole:
            value = round(value) | 1 if self._odd else round(value)
        self.entered.emit(value)

    def show_value(self, value: Any, known: Known) -> None:
        self.field.set_value(value)


class Tick(Field):
    """Yes or no."""

    def __init__(self) -> None:
        super().__init__()
        self.box = QCheckBox()
        self.box.clicked.connect(lambda on: self.entered.emit(bool(on)))
        self._lay(self.box)

    def show_value(self, value: Any, known: Known) -> None:
        self.box.setChecked(bool(value))


class OneOf(Field):
    """One of a few words."""

    def __init__(self, title: str, options: Sequence[Any]) -> None:
        super().__init__()
        words = [(option, str(option).replace("_", " ")) for option in options]
        self.box: QComboBox = choice_box(title, words)
        self.box.activated.connect(lambda _: self.entered.emit(self.box.currentData()))
        self._lay(self.box)

    def show_value(self, value: Any, known: Known) -> None:
        self.box.setCurrentIndex(self.box.findData(value))


class _Text(QPlainTextEdit):
    """Takes its text when it is left, or on Ctrl+Enter."""

    left = pyqtSignal()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        super().focusOutEvent(event)
        self.left.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        enter = (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        control = Qt.KeyboardModifier.ControlModifier
        if event is not None and event.key() in enter and event.modifiers() & control:
            self.left.emit()
            return
        super().keyPressEvent(event)


class Words(Field):
    """A text, over several lines."""

    wide = True

    def __init__(self, lines: int) -> None:
        super().__init__()
        self.text = _Text()
        self.text.setTabChangesFocus(True)
        self.text.setFixedHeight(scaled(10 + 18 * lines))
        self.text.setToolTip("Taken with Ctrl+Enter, or when you leave the field")
        self.text.left.connect(self._take)
        self._lay(self.text)
        self._shown = ""

    def _take(self) -> None:
        if self.text.toPlainText() != self._shown:
            self.entered.emit(self.text.toPlainText())

    def enter(self, text: str) -> None:
        """Type a text and take it, as a person does."""
        self.text.setPlainText(text)
        self._take()

    def point_at(self, index: int) -> None:
        """Put the cursor where a text is wrong."""
        cursor = self.text.textCursor()
        cursor.setPosition(min(max(index, 0), len(self.text.toPlainText())))
        self.text.setTextCursor(cursor)

    def show_value(self, value: Any, known: Known) -> None:
        # A text that was refused stays, to be mended.
        if value != self._shown:
            self._shown = str(value)
            self.text.setPlainText(self._shown)


class OneChannel(Field):
    """Another channel, or none."""

    nothing: str | None = None

    def __init__(self, title: str) -> None:
        super().__init__()
        self.box = choice_box(title, [(_NO_CHOICE, _NO_CHOICE)])
        self.box.activated.connect(
            lambda i: self.entered.emit(self.nothing if i == 0 else self.box.currentData())
        )
        self._lay(self.box)

    def _names(self, known: Known) -> tuple[str, ...]:
        return known.channels

    def show_value(self, value: Any, known: Known) -> None:
        names = list(dict.fromkeys([*self._names(known), *([value] if value else [])]))
        if [self.box.itemData(i) for i in range(1, self.box.count())] != names:
            self.box.clear()
            self.box.addItem(_NO_CHOICE, _NO_CHOICE)
            for name in names:
                self.box.addItem(name, name)
        self.box.setCurrentIndex(self.box.findData(value or _NO_CHOICE))


class OneQuantity(OneOf):
    """A quantity, with its unit."""

    def __init__(self, title: str) -> None:
        families = ("intensity", "shape")
        keys = (q.key for q in QUANTITIES.values() if q.family in families)
        super().__init__(title, tuple(keys))

    def show_value(self, value: Any, known: Known) -> None:
        for k in range(self.box.count()):
            quantity = QUANTITIES[self.box.itemData(k)]
            self.box.setItemText(k, quantity.heading(known.unit or "calibrated"))
        super().show_value(value, known)


class OneClass(OneChannel):
    """A region class, or none."""

    nothing = ""

    def _names(self, known: Known) -> tuple[str, ...]:
        return known.classes


class SeveralChannels(Field):
    """Some channels; `whole` is what stands for all of them."""

    def __init__(self, title: str, whole: str) -> None:
        super().__init__()
        self._whole = whole
        self.button = QPushButton(whole)
        self.button.setAccessibleName(title)
        menu = QMenu(self.button)
        self.button.setMenu(menu)
        self._value: tuple[str, ...] = ()
        self._lay(self.button)

    def show_value(self, value: Any, known: Known) -> None:
        self._value = tuple(value or ())
        self.button.setText(", ".join(self._value) or self._whole)
        self.button.setToolTip(self.button.text())
        menu = self.button.menu()
        if menu is None:
            return
        menu.clear()
        everything = menu.addAction(self._whole)
        if everything is not None:
            everything.triggered.connect(lambda: self.entered.emit(()))
        menu.addSeparator()
        for name in dict.fromkeys([*known.channels, *self._value]):
            action = menu.addAction(name)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(name in self._value)
                action.triggered.connect(lambda _, name=name: self._toggle(name, known))

    def _toggle(self, name: str, known: Known) -> None:
        chosen = set(self._value) ^ {name}
        ordered = [n for n in dict.fromkeys([*known.channels, *self._value]) if n in chosen]
        self.entered.emit(tuple(ordered))


class Drawn(Field):
    """Rectangles that are drawn on the picture."""

    wide = True

    def __init__(self, title: str, *, several: bool) -> None:
        super().__init__()
        self._several = several
        self.draw = QPushButton("Draw on the picture")
        self.draw.clicked.connect(self.draw_wanted)
        self.clear = QPushButton("Clear")
        self.clear.setProperty("role", "link")
        self.clear.clicked.connect(lambda: self.entered.emit(() if several else None))
        self.text = faint()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addWidget(side_by_side(QLabel(title), self.draw, self.clear, stretch=True))
        layout.addWidget(self.text)
        self.setFocusProxy(self.draw)

    def show_value(self, value: Any, known: Known) -> None:
        self.clear.setVisible(bool(value))
        if not value:
            self.text.setText("Drag a rectangle over the picture.")
            return
        hint = "Drag inside to move it, outside to draw anew" + (
            ", with Shift to add one." if self._several else "."
        )
        self.text.setText(f"{shown_value(value)}. {hint}")


class Positions(Field):
    """Single pixels as typed or pasted lines of x, y and perhaps a value."""

    wide = True

    def __init__(self, title: str) -> None:
        super().__init__()
        self.words = Words(3)
        self.words.entered.connect(self._take)
        self.text = faint("One pixel a line: x, y or x, y, value. R clicks them on the picture.")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addWidget(self.text)
        layout.addWidget(self.words)
        self.words.text.setAccessibleName(title)
        self.setFocusProxy(self.words.text)
        self._patches: tuple[Repair, ...] = ()

    def _take(self, text: str) -> None:
        repairs: list[dict[str, Any]] = []
        for number, line in enumerate(text.splitlines(), start=1):
            if not line.strip():
                continue
            values = [parsed(word) for word in line.replace(";", ",").replace("\t", ",").split(",")]
            if len(values) not in (2, 3) or None in values:
                self.text.setText(f"Line {number} must be x, y or x, y, value. Got “{line}”.")
                return
            repairs.append({"x": round(values[0] or 0), "y": round(values[1] or 0)})
            if len(values) == 3:
                repairs[-1]["value"] = values[2]
        # Patches that were dragged are larger than a pixel and stay as they are.
        self.entered.emit((*self._patches, *(Repair(**one) for one in repairs)))

    def show_value(self, value: Any, known: Known) -> None:
        self._patches = tuple(one for one in value if one.width * one.height > 1)
        singles = [one for one in value if one.width * one.height == 1]
        lines = [
            f"{one.x}, {one.y}" + ("" if one.value is None else f", {one.value:g}")
            for one in singles
        ]
        self.words.show_value("\n".join(lines), known)
        patches = f" {len(self._patches)} larger patches." if self._patches else ""
        self.text.setText(
            f"One pixel a line: x, y or x, y, value.{patches} R clicks them on the picture."
        )

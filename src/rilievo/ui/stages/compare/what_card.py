"""What is compared: quantities, channel, class, by what, and what one value is."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QPushButton, QWidget

from rilievo.core.compare import Choices, Question
from rilievo.core.compare.question import REGION
from rilievo.core.compare.wording import why_unit
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import (
    CONTROL_WIDTH,
    Card,
    clear_rows,
    column,
    faint,
    named_row,
    side_by_side,
)
from rilievo.ui.widgets.choice_boxes import fill

_MOST = 6


class WhatCard(Card):
    """The first card of Compare."""

    wanted = pyqtSignal(str, dict)  # what it is called in the history, and fields of the question

    def __init__(self) -> None:
        super().__init__("Compare", fold="compare what")
        self.quantities: list[QComboBox] = []
        self._rows_of, self._layout_of = column()
        self.add(self._rows_of)
        self.more = QPushButton("+ another quantity")
        self.more.setProperty("role", "link")
        self.more.setToolTip("Several quantities stand side by side as small plots")
        self.more.clicked.connect(self._add)
        self.add(side_by_side(self.more, stretch=True))
        self.channel, self.region_class, self.by = QComboBox(), QComboBox(), QComboBox()
        self.unit, self.pairs = QComboBox(), QComboBox()
        for name, box, field in (
            ("Channel", self.channel, "channel"),
            ("Class", self.region_class, "region_class"),
            ("By", self.by, "by"),
            ("Paired by", self.pairs, "pairs"),
            ("One value is a", self.unit, "unit"),
        ):
            row = self.add_row(name, box)
            box.activated.connect(partial(self._choose, name, box, field))
            if field == "region_class":
                self._class_row = row
        self.why = faint()
        self.add(self.why)
        self._question, self._choices = Question(), Choices()

    def _choose(self, name: str, box: QComboBox, field: str, _: int) -> None:
        self.wanted.emit(f"Compare: {name.lower()} {box.currentText()}", {field: box.currentData()})

    def show_question(self, question: Question, choices: Choices) -> None:
        """Show what is compared and what else could be."""
        self._question, self._choices = question, choices
        if len(self.quantities) != len(question.quantities):
            self._build(len(question.quantities))
        for box, key in zip(self.quantities, question.quantities, strict=True):
            fill(box, choices.quantities.items(), key)
        fill(self.channel, ((name, name) for name in choices.channels), question.channel)
        fill(self.region_class, ((name, name) for name in choices.classes), question.region_class)
        self._class_row.setVisible(len(choices.classes) > 1 and question.by != "class")
        fill(self.by, choices.by.items(), question.by)
        what = ", ".join(choices.quantities.get(key, key) for key in question.quantities)
        self.set_summary(f"{what} by {choices.by.get(question.by, question.by)}")
        fill(self.pairs, choices.pairs.items(), question.pairs)
        fill(self.unit, choices.units.items(), question.unit)
        self.unit.setEnabled(not question.pairs)
        self.more.setVisible(len(question.quantities) < min(_MOST, len(choices.quantities)))
        self.why.setText(why_unit(question.unit))
        self.why.setProperty("role", "check" if question.unit == REGION else "faint")
        style = self.why.style()
        if style is not None:
            style.polish(self.why)

    def _build(self, count: int) -> None:
        clear_rows(self._layout_of)
        self.quantities = [QComboBox() for _ in range(count)]
        for index, box in enumerate(self.quantities):
            box.activated.connect(partial(self._change, index, box))
            self._layout_of.addWidget(self._row(index, box))

    def _row(self, index: int, box: QComboBox) -> QWidget:
        if index == 0:
            return named_row("Quantity", box)
        remove = QPushButton("Remove")
        remove.setProperty("role", "link")
        remove.clicked.connect(partial(self._remove, index))
        box.setFixedWidth(scaled(CONTROL_WIDTH))
        box.setAccessibleName(f"Quantity {index + 1}")
        row = named_row("", side_by_side(remove, box), 0)
        row.setAccessibleName(f"Quantity {index + 1}")
        return row

    def _change(self, index: int, box: QComboBox, _: int) -> None:
        keys = list(self._question.quantities)
        keys[index] = box.currentData()
        self._set(tuple(dict.fromkeys(keys)))

    def _add(self) -> None:
        now = self._question.quantities
        new = next((key for key in self._choices.quantities if key not in now), None)
        if new is not None:
            self._set((*now, new))

    def _remove(self, index: int) -> None:
        now = self._question.quantities
        self._set(now[:index] + now[index + 1 :])

    def _set(self, keys: tuple[str, ...]) -> None:
        titles = ", ".join(self._choices.quantities.get(key, key) for key in keys)
        self.wanted.emit(f"Compare {titles.lower()}", {"quantities": keys})

"""How it is shown: the kind of plot, and what belongs to that kind."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox

from rilievo.core.compare import Choices, Question
from rilievo.core.compare.question import FITS, OF_REGION, OF_SAMPLE, SHOWN_AS
from rilievo.ui.stages.card import Card, Choice, faint
from rilievo.ui.stages.comparing.boxes import WIDTH, fill


class ShownCard(Card):
    """The kind of plot."""

    wanted = pyqtSignal(str, dict)

    def __init__(self) -> None:
        super().__init__("Shown as")
        options = [(key, title, tip) for key, (title, tip) in SHOWN_AS.items()]
        self.kind = Choice(options, per_row=4)
        self.kind.chosen.connect(self._choose_kind)
        self.add(self.kind)
        self.fit, self.other, self.other_channel = QComboBox(), QComboBox(), QComboBox()
        self._fit_row = self.add_row("Fitted curve", self.fit, WIDTH)
        self._other_row = self.add_row("To the right", self.other, WIDTH)
        self._channel_row = self.add_row("Its channel", self.other_channel, WIDTH)
        for box, field in (
            (self.fit, "fit"),
            (self.other, "other_quantity"),
            (self.other_channel, "other_channel"),
        ):
            box.activated.connect(partial(self._choose, box, field))
        self.cumulative = QCheckBox("Cumulative")
        self.cumulative.clicked.connect(
            lambda on: self.wanted.emit("Compare cumulative histograms", {"cumulative": on})
        )
        self.add(self.cumulative)
        self.hint = faint()
        self.add(self.hint)

    def _choose_kind(self, key: str) -> None:
        self.wanted.emit(f"Show as {self.kind.button(key).text().lower()}", {"shown_as": key})

    def _choose(self, box: QComboBox, field: str, _: int) -> None:
        self.wanted.emit(f"Compare: {box.currentText().lower()}", {field: box.currentData()})

    def show_question(self, question: Question, choices: Choices) -> None:
        """Show the kind of plot, and only what it needs."""
        kind = question.shown_as
        self.kind.set_chosen(kind)
        fill(self.fit, ((key, title) for key, (title, _) in FITS.items()), question.fit)
        fill(self.other, choices.quantities.items(), question.other_quantity)
        channels = [("", "the same"), *((name, name) for name in choices.channels)]
        fill(self.other_channel, channels, question.other_channel)
        self.cumulative.setChecked(question.cumulative)
        self._fit_row.setVisible(kind == "series")
        self._other_row.setVisible(kind == "scatter")
        self._channel_row.setVisible(kind == "scatter" and len(choices.channels) > 1)
        self.cumulative.setVisible(kind == "histograms")
        self.hint.setText(_hint(question) or f"{SHOWN_AS[kind][1]}.")


def _hint(question: Question) -> str:
    """What to do where a kind of plot has nothing to show yet."""
    if question.shown_as == "series" and not question.by.startswith((OF_SAMPLE, OF_REGION)):
        return "A series needs numbers or dates: choose such an attribute above, under By."
    if question.shown_as == "pairs" and not question.pairs:
        return "Choose above what is paired by: the sample, the replicate, an attribute."
    return ""

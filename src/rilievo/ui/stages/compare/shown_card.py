"""How it is shown: the kind of plot, and what belongs to that kind."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox

from rilievo.core.compare import Choices, Question
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.question import FITS, OF_SAMPLE
from rilievo.ui.widgets.card import Card, Choice, faint
from rilievo.ui.widgets.choice_boxes import fill


class ShownCard(Card):
    """The kind of plot."""

    wanted = pyqtSignal(str, dict)

    def __init__(self) -> None:
        super().__init__("Shown as", fold="compare shown", folded=True)
        options = [(one.key, one.title, one.explanation) for one in PLOTS.values()]
        self.kind = Choice(options, per_row=4)
        self.kind.chosen.connect(self._choose_kind)
        self.add(self.kind)
        self.curves = QComboBox()
        self._curves_row = self.add_row("A curve for each", self.curves)
        self.fit, self.other, self.other_channel = QComboBox(), QComboBox(), QComboBox()
        self._fit_row = self.add_row("Fitted curve", self.fit)
        self._other_row = self.add_row("To the right", self.other)
        self._channel_row = self.add_row("Its channel", self.other_channel)
        for box, field in (
            (self.curves, "curves"),
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
        kind = PLOTS[question.shown_as]
        self.kind.set_chosen(kind.key)
        self.set_summary(kind.title.lower())
        fill(self.curves, choices.curves.items(), question.curves)
        fill(self.fit, ((key, title) for key, (title, _) in FITS.items()), question.fit)
        fill(self.other, choices.quantities.items(), question.other_quantity)
        channels = [("", "the same"), *((name, name) for name in choices.channels)]
        fill(self.other_channel, channels, question.other_channel)
        self.cumulative.setChecked(question.cumulative)
        by_sample = question.by.startswith(OF_SAMPLE) and len(choices.curves) > 1
        self._curves_row.setVisible("curves" in kind.options and by_sample)
        self._fit_row.setVisible("fit" in kind.options)
        self._other_row.setVisible("other_quantity" in kind.options)
        several = len(choices.channels) > 1
        self._channel_row.setVisible("other_channel" in kind.options and several)
        self.cumulative.setVisible("cumulative" in kind.options)
        self.hint.setText(kind.hint(question) or f"{kind.explanation}.")

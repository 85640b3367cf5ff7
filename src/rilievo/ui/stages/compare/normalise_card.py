"""What values are related to before they are compared; the measured ones stay a click away."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLabel

from rilievo.core.compare import Choices, Comparison, Normalising, Question
from rilievo.core.compare.question import NORMALISINGS
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, NumberField, faint, side_by_side
from rilievo.ui.widgets.choice_boxes import fill

_HOW = (("ratio", "ratio"), ("difference", "difference"))


class NormaliseCard(Card):
    """Relating values to a control, a reference region, or the first of a series."""

    wanted = pyqtSignal(str, dict)

    def __init__(self) -> None:
        super().__init__("Normalise", fold="compare normalise", folded=True)
        self.by, self.how, self.reference = QComboBox(), QComboBox(), QComboBox()
        self.add_row("Values", self.by)
        self._how_row = self.add_row("As", self.how)
        self._reference_row = self.add_row("Reference", self.reference)
        self.first, self.last = NumberField(), NumberField()
        for field, name in ((self.first, "Baseline from"), (self.last, "Baseline to")):
            field.setFixedWidth(scaled(64))
            field.setAccessibleName(name)
            field.entered.connect(lambda _: self._change())
        self._ends_row = self.add_row(
            "Baseline", side_by_side(self.first, QLabel("to"), self.last), 0
        )
        self._names: dict[str, tuple[str, ...]] = {}
        self.about = faint()
        self.add(self.about)
        for box in (self.by, self.how, self.reference):
            box.activated.connect(lambda _: self._change())

    def _change(self) -> None:
        by, chosen = self.by.currentData(), self.reference.currentData() or ""
        possible = self._names.get(by, ())
        reference = chosen if chosen in possible else next(iter(possible), "")
        first, last = self.first.value or 0.0, self.last.value or 0.0
        normalising = Normalising(
            by=by,
            how=self.how.currentData(),
            reference=reference,
            first=min(first, last),
            last=max(first, last),
        )
        self.wanted.emit(
            f"Normalise: {self.by.currentText().lower()}", {"normalising": normalising}
        )

    def show_question(
        self, question: Question, choices: Choices, comparisons: Sequence[Comparison]
    ) -> None:
        """Show what values are related to."""
        normalising = question.normalising
        self.set_summary("to nothing" if normalising.by == "none" else "")
        self.set_about("" if normalising.by == "none" else NORMALISINGS[normalising.by][0].lower())
        fill(self.by, ((key, title) for key, (title, _) in NORMALISINGS.items()), normalising.by)
        fill(self.how, _HOW, normalising.how)
        groups = comparisons[0].groups if comparisons else (normalising.reference,)
        # What is compared itself is the last to be a reference.
        own = question.region_class or next(iter(choices.classes), "")
        references = tuple(sorted(choices.references, key=lambda name: name == own))
        self._names = {"control": groups, "reference": references, "matched": references}
        names = self._names.get(normalising.by, ())
        fill(self.reference, ((name, name) for name in names), normalising.reference)
        self._how_row.setVisible(normalising.by != "none")
        self._reference_row.setVisible(normalising.by in ("control", "reference", "matched"))
        self.first.set_value(normalising.first)
        self.last.set_value(normalising.last)
        self._ends_row.setVisible(normalising.by == "baseline")
        about = NORMALISINGS[normalising.by][1]
        if normalising.by == "baseline" and comparisons:
            about += f", {comparisons[0].by_words}"
        self.about.setText(f"{about[:1].upper()}{about[1:]}." if about else "")
        self.about.setVisible(bool(about))

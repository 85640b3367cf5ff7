"""How it is tested: against what, by means or ranks, and what the test takes for granted."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox

from rilievo.core.compare import Comparison, Question
from rilievo.ui.widgets.card import Card, faint
from rilievo.ui.widgets.choice_boxes import fill

_CORRECTIONS = (("holm", "Holm"), ("none", "none"))


class TestsCard(Card):
    """The tests between the groups."""

    __test__ = False  # not one of pytest's

    wanted = pyqtSignal(str, dict)

    def __init__(self) -> None:
        super().__init__("Tests", fold="compare tests", folded=True)
        self.against, self.test, self.correction = QComboBox(), QComboBox(), QComboBox()
        self.add_row("Against", self.against)
        self.add_row("Test", self.test)
        self.add_row("Correction", self.correction)
        for box, field, what in (
            (self.against, "against", "Compare against"),
            (self.test, "test", "Test by"),
            (self.correction, "correction", "Correct p by"),
        ):
            box.activated.connect(partial(self._choose, box, field, what))
        self.every = QCheckBox("Every pair of groups")
        self.every.setToolTip("Instead of each group against one; more tests, so larger p")
        self.every.clicked.connect(
            lambda on: self.wanted.emit("Compare every pair", {"every_pair": on})
        )
        self.add(self.every)
        self.bootstrap = QCheckBox("Bootstrap intervals")
        self.bootstrap.setToolTip(
            "From units drawn again, so that no distribution is taken for granted"
        )
        self.bootstrap.clicked.connect(
            lambda on: self.wanted.emit("Bootstrap intervals", {"bootstrap": on})
        )
        self.add(self.bootstrap)
        self.said = faint()
        self.add(self.said)

    def _choose(self, box: QComboBox, field: str, what: str, _: int) -> None:
        self.wanted.emit(f"{what} {box.currentText()}", {field: box.currentData()})

    def show_question(self, question: Question, comparisons: Sequence[Comparison]) -> None:
        """Show how it is tested."""
        first = comparisons[0] if comparisons else None
        groups = first.groups if first is not None else ()
        reference = first.reference if first is not None else question.against
        fill(self.against, ((group, group) for group in groups), reference)
        self.against.setEnabled(not question.every_pair)
        kinds = (
            (("means", "Paired t"), ("ranks", "Wilcoxon, by ranks"))
            if question.pairs
            else (("means", "Welch's t"), ("ranks", "Mann–Whitney"))
        )
        fill(self.test, kinds, question.test)
        fill(self.correction, _CORRECTIONS, question.correction)
        self.every.setChecked(question.every_pair)
        self.bootstrap.setChecked(question.bootstrap)
        modelled = question.design.has_terms
        self.bootstrap.setEnabled(not modelled)
        self.test.setEnabled(not modelled)
        against = "every pair" if question.every_pair else f"against {reference}"
        kind = "model of the design" if modelled else dict(kinds)[question.test]
        self.set_summary(f"{kind} · {against}" if len(groups) > 1 else "")
        self.every.setVisible(len(groups) > 2)
        self.said.setText(" ".join(first.assumptions) if first is not None else "")
        self.said.setVisible(bool(self.said.text()))

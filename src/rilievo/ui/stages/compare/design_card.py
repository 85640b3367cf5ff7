"""The design: a second factor, what is taken out, what samples lie in, and what more would cost."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox, QWidget

from rilievo.core.compare import Choices, Comparison, Question
from rilievo.core.compare.design_wording import cost_names, unit_caution
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.question import Design, name_of
from rilievo.ui.widgets.card import Card, NumberField, clear_rows, column, faint, named_row
from rilievo.ui.widgets.choice_boxes import fill

_MOST = 3
_NONE = ("", "none")
_HOW = (("averaged", "averaged"), ("modelled", "modelled"))


class DesignCard(Card):
    """What else the values differ by, and how they are nested."""

    wanted = pyqtSignal(str, dict)

    def __init__(self) -> None:
        super().__init__("Design", fold="compare design", folded=True)
        self.factor = QComboBox()
        self.add_row("Second factor", self.factor)
        self.blocks, self._block_rows = self._several("Taken out", "also")
        self.levels, self._level_rows = self._several("Samples lie in a", "which lies in a")
        self.how = QComboBox()
        self._how_row = self.add_row("Levels are", self.how)
        self.anew = QCheckBox("Numbered anew in each group")
        self.anew.setToolTip("Whether animal 1 of one group is another than animal 1 of the next")
        self.add(self.anew)
        self.costs: list[NumberField] = []
        self._cost_names: tuple[str, ...] = ()
        self._costs, self._cost_rows = column()
        self.add(self._costs)
        self.about = faint()
        self.add(self.about)
        for box in (self.factor, *self.blocks, *self.levels, self.how):
            box.activated.connect(lambda _: self._change())
        self.anew.clicked.connect(lambda _: self._change())
        self._design = Design()

    def _several(self, first: str, more: str) -> tuple[list[QComboBox], list[QWidget]]:
        """Rows of which each appears when that above it is chosen."""
        boxes = [QComboBox() for _ in range(_MOST)]
        rows = [self.add_row(more if k else first, box) for k, box in enumerate(boxes)]
        for k, box in enumerate(boxes):
            box.setAccessibleName(f"{first} {k + 1}" if k else first)
        return boxes, rows

    def _change(self) -> None:
        levels = [box.currentData() for box in self.levels if box.currentData()]
        design = Design(
            factor=self.factor.currentData() or "",
            blocks=_once(box.currentData() for box in self.blocks),
            # They are asked for from the sample outwards, and kept from the outermost inwards.
            levels=_once(reversed(levels)),
            modelled=self.how.currentData() == "modelled" and bool(levels),
            numbered_anew=self.anew.isChecked(),
            costs=self._design.costs if tuple(levels[::-1]) == self._design.levels else (),
        )
        if design != self._design:
            self.wanted.emit("Compare: design", {"design": design})

    def _cost(self) -> None:
        costs = tuple(max(field.value or 0.0, 0.0) for field in self.costs)
        if costs != self._design.costs:
            design = self._design.model_copy(update={"costs": costs})
            self.wanted.emit("Compare: costs of the next experiment", {"design": design})

    def show_question(
        self, question: Question, choices: Choices, comparisons: Sequence[Comparison]
    ) -> None:
        """Show the design, and what samples can lie in."""
        design = self._design = question.design
        terms = [_NONE, *((k, w) for k, w in choices.terms.items() if k != question.by)]
        holders = [_NONE, *((k, w) for k, w in choices.terms.items() if k != "group")]
        fill(self.factor, terms, design.factor)
        _fill_each(self.blocks, self._block_rows, terms, design.blocks)
        _fill_each(self.levels, self._level_rows, holders, design.levels[::-1])
        fill(self.how, _HOW, "modelled" if design.modelled else "averaged")
        self._how_row.setVisible(bool(design.levels))
        self.anew.setChecked(design.numbered_anew)
        self.anew.setVisible(bool(design.levels))
        self.set_summary(_summary(design))
        first = comparisons[0] if comparisons else None
        self._show_costs(question, first)
        about = unit_caution(first) if first is not None else ""
        if not about and len(choices.terms) < 2:
            about = "Samples have no attributes yet: give them an animal, a dish or a day in Look."
        self.about.setText(about)
        self.about.setVisible(bool(about))

    def _show_costs(self, question: Question, comparison: Comparison | None) -> None:
        wanted = "costs" in PLOTS[question.shown_as].options or bool(question.design.levels)
        names = cost_names(comparison) if comparison is not None and wanted else ()
        if names != self._cost_names:
            self._cost_names = names
            clear_rows(self._cost_rows)
            self.costs = [NumberField() for _ in names]
            for name, field in zip(names, self.costs, strict=True):
                field.entered.connect(lambda _: self._cost())
                self._cost_rows.addWidget(named_row(f"Cost of one more {name}", field))
        self._costs.setVisible(bool(names))
        given = question.design.costs
        for k, (name, field) in enumerate(zip(names, self.costs, strict=True)):
            usual = 0.0 if name == "region" else 1.0
            field.set_value(given[k] if k < len(given) else usual)


def _once(keys: Iterable[str | None]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(key for key in keys if key))


def _fill_each(
    boxes: Sequence[QComboBox],
    rows: Sequence[QWidget],
    entries: Sequence[tuple[str, str]],
    chosen: Sequence[str],
) -> None:
    for k, (box, row) in enumerate(zip(boxes, rows, strict=True)):
        before = set(chosen[:k])
        fill(box, [one for one in entries if one[0] not in before],
             chosen[k] if k < len(chosen) else "")  # fmt: skip
        row.setVisible(k <= len(chosen) and len(entries) > 1)


def _summary(design: Design) -> str:
    parts = []
    if design.factor:
        parts.append(f"× {name_of(design.factor)}")
    if design.blocks:
        parts.append("without " + ", ".join(map(name_of, design.blocks)))
    if design.levels:
        parts.append("in " + " in ".join(name_of(key) for key in design.levels[::-1]))
    return " · ".join(parts) or "groups alone"

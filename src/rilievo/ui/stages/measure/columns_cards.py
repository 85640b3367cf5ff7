"""Columns beyond the quantities: formulas over columns, and pairs of classes."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from pydantic import ValidationError
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLabel, QLineEdit, QPushButton, QWidget

from rilievo.core.method.method import Measure
from rilievo.core.parameters import explain
from rilievo.core.table.compartments import Pair
from rilievo.core.table.derived_columns import DerivedColumn, missing_names
from rilievo.core.table.table import RegionTable
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, choice_box, clear_rows, column, faint, side_by_side

Change = Callable[..., None]


class _ListCard(Card):
    """Rows that can be removed, and a line to add one."""

    refused = pyqtSignal(str)

    def __init__(self, title: str, about: str, fold: str) -> None:
        super().__init__(title, about, fold=fold, folded=True)
        rows, self._layout = column()
        self.add(rows)
        self.say = faint()
        self._shown: tuple[Any, ...] | None = None

    def show_rows(self, texts: list[tuple[str, str]], remove: Callable[[int], None]) -> None:
        """Show texts with their tooltips, each with a way to remove it."""
        if tuple(texts) == self._shown:
            return
        self._shown = tuple(texts)
        clear_rows(self._layout)
        for k, (text, tip) in enumerate(texts):
            label = QLabel(text)
            label.setWordWrap(True)
            label.setToolTip(tip)
            gone = QPushButton("Remove")
            gone.setProperty("role", "link")
            gone.setAccessibleName(f"Remove {text}")
            gone.clicked.connect(partial(remove, k))
            row = side_by_side(label, gone)
            layout = row.layout()
            if layout is not None:
                layout.setStretch(0, 1)  # type: ignore[attr-defined]
            self._layout.addWidget(row)

    def tell(self, text: str) -> None:
        """Say what is wrong with what was typed."""
        self.say.setText(text)
        self.say.setVisible(bool(text))


class DerivedCard(_ListCard):
    """Columns made of others by a formula."""

    def __init__(self, change: Change) -> None:
        super().__init__("Derived columns", "formulas over columns", "derived columns")
        self._change = change
        self._measure = Measure()
        self._table: RegionTable | None = None
        self.name, self.formula, self.unit = QLineEdit(), QLineEdit(), QLineEdit()
        for field, hint, width in (
            (self.name, "Name", 84),
            (self.formula, "sum / area_unit", 0),
            (self.unit, "unit", 52),
        ):
            field.setPlaceholderText(hint)
            field.setAccessibleName(f"Derived column: {hint}")
            if width:
                field.setFixedWidth(scaled(width))
        self.formula.setToolTip(
            'Columns by their keys; mean("control") is the mean of the regions of that name, class '
            'or group; "lipid: mean" is a column of another channel'
        )
        self.plus = QPushButton("Add")
        self.plus.clicked.connect(self.add_typed)
        for field in (self.name, self.formula, self.unit):
            field.returnPressed.connect(self.add_typed)
        self.add(side_by_side(self.name, self.formula, self.unit, self.plus))
        self.add(self.say)
        self.tell("")

    def add_typed(self) -> None:
        """Add what is typed."""
        try:
            made = DerivedColumn(
                name=self.name.text().strip() or "derived",
                formula=self.formula.text().strip(),
                unit=self.unit.text().strip(),
            )
            # Names are compared with those that are taken.
            Measure.model_validate(
                {**dict(self._measure), "derived": (*self._measure.derived, made)}
            )
        except ValidationError as exc:
            self.tell(explain(exc))
            return
        missing = missing_names(made.formula, self._table) if self._table is not None else []
        earlier = {one.name for one in self._measure.derived}
        missing = [name for name in missing if name not in earlier]
        said = f"Not measured as yet, so undefined: {', '.join(missing)}." if missing else ""
        self.tell(said)
        self.name.clear()
        self.formula.clear()
        self.unit.clear()
        self._change("Add a derived column", derived=(*self._measure.derived, made))

    def refresh(self, measure: Measure, table: RegionTable | None) -> None:
        """Show the columns of the method."""
        self._measure, self._table = measure, table
        self.set_about(f"{len(measure.derived)}" if measure.derived else "formulas over columns")

        def remove(k: int, _: bool = False) -> None:
            kept = tuple(one for i, one in enumerate(measure.derived) if i != k)
            self._change("Remove a derived column", derived=kept)

        self.show_rows(
            [(f"{one.name} = {one.formula}", one.unit) for one in measure.derived], remove
        )


class PairsCard(_ListCard):
    """Classes whose regions lie in those of another."""

    def __init__(self, change: Change) -> None:
        super().__init__("Compartments", "pairs of classes", "pairs of classes")
        self._change = change
        self._measure = Measure()
        self.inner, self.outer = choice_box("Inside", ()), choice_box("Of", ())
        self.quantity = choice_box(
            "Compared by", tuple((q, q) for q in ("mean", "median", "sum", "area")), 76
        )
        self.plus = QPushButton("Add")
        self.plus.clicked.connect(self.add_chosen)
        self._row: QWidget = side_by_side(self.inner, QLabel("in"), self.outer, self.quantity,
                                          self.plus)  # fmt: skip
        self.add(self._row)
        self.add(self.say)

    def add_chosen(self) -> None:
        """Add the pair that is chosen."""
        try:
            pair = Pair(
                inner=self.inner.currentText(),
                outer=self.outer.currentText(),
                quantity=self.quantity.currentData(),
            )
        except ValidationError as exc:
            self.tell(explain(exc))
            return
        needed = [*([pair.quantity] if pair.quantity != "area" else ["area"]), "sum", "pixel_count"]
        missing = [key for key in needed if key not in self._measure.quantities]
        fields: dict[str, Any] = {"pairs": (*self._measure.pairs, pair)}
        if missing:
            fields["quantities"] = (*self._measure.quantities, *dict.fromkeys(missing))
        self._change("Add a pair of classes", **fields)

    def refresh(self, measure: Measure, classes: tuple[str, ...]) -> None:
        """Show the pairs of the method."""
        self._measure = measure
        self._row.setVisible(len(classes) > 1)
        self.set_about(f"{len(measure.pairs)}" if measure.pairs else "pairs of classes")
        if len(classes) < 2:
            self.tell(
                "With a second class in Outline, ratios of one inside the other are measured."
            )
        else:
            self.tell("")
        for k, box in enumerate((self.inner, self.outer)):
            if [box.itemText(i) for i in range(box.count())] != list(classes):
                box.clear()
                box.addItems(classes)
                box.setCurrentIndex(min(1 - k, len(classes) - 1))

        def remove(k: int, _: bool = False) -> None:
            kept = tuple(one for i, one in enumerate(measure.pairs) if i != k)
            self._change("Remove a pair of classes", pairs=kept)

        self.show_rows(
            [
                (f"{one.inner} in {one.outer}, by {one.quantity}",
                 "ratio, difference and share of the signal")
                for one in measure.pairs
            ],
            remove,
        )  # fmt: skip

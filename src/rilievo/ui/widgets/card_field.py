"""The card of known patches of a step: marked on the picture, with what each patch gave."""

from __future__ import annotations

import math
import re
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from rilievo.core.signal.steps.curve_card import Corner
from rilievo.core.wording.numbers import shown
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import faint, side_by_side
from rilievo.ui.widgets.parameter_fields import Field, Known

_TITLES = {
    "Patch": "Row by row, from the first corner",
    "Known": "Reflectance, from 0 to 1",
    "Measured": "Mean of the middle of the patch, in counts, its light made even",
    "Residual": "Known less curve, in % of what is known",
}
_EXAMPLE = "250, 190; 560, 170; 575, 390; 240, 380"
_CORNER = r"\(?\s*(-?\d+(?:\.\d*)?)\s*,\s*(-?\d+(?:\.\d*)?)\s*\)?"
_CORNERS = re.compile(r"[;\s]*".join([_CORNER] * 4))
_HINT = (
    "Click the four corners of its patches on the picture: first that of the first patch, then "
    "along its first row."
)


class CardField(Field):
    """Four corners, and a table of patches with the residuals of the curve."""

    wide = True

    def __init__(self, title: str) -> None:
        super().__init__()
        self.draw = QPushButton("Mark anew")
        self.draw.setToolTip("Click the four corners of the card on the picture")
        self.draw.clicked.connect(self.draw_wanted)
        self.typed = QLineEdit()
        self.typed.setPlaceholderText("x, y; x, y; x, y; x, y")
        self.typed.setAccessibleName("Corners in pixels, x, y of each")
        self.typed.editingFinished.connect(self._type)
        self._value: tuple[Corner, ...] = ()
        self.text = faint()
        self.table = QTableWidget(0, len(_TITLES))
        self.table.setHorizontalHeaderLabels(list(_TITLES))
        for k, text in enumerate(_TITLES.values()):
            head = self.table.horizontalHeaderItem(k)
            if head is not None:
                head.setToolTip(text)
        self.table.setAccessibleName("Patches of the card")
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.table.setFixedHeight(scaled(150))
        header, vertical = self.table.horizontalHeader(), self.table.verticalHeader()
        if header is not None and vertical is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
            vertical.hide()
            vertical.setDefaultSectionSize(scaled(20))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(3)
        layout.addWidget(side_by_side(QLabel(title), self.draw, stretch=True))
        layout.addWidget(self.typed)
        layout.addWidget(self.text)
        layout.addWidget(self.table)
        self.setFocusProxy(self.typed)

    def _type(self) -> None:
        """Take corners that were typed."""
        text = self.typed.text().strip()
        if text == _written(self._value):
            return
        found = _CORNERS.fullmatch(text)
        if text and found is None:
            self.text.setText(f"Type four corners in pixels, such as {_EXAMPLE}.")
            return
        numbers = [float(one) for one in found.groups()] if found else []
        pairs = zip(numbers[::2], numbers[1::2], strict=True)
        self.entered.emit([{"x": x, "y": y} for x, y in pairs])

    def show_value(self, value: Any, known: Known) -> None:
        self._value = tuple(value)
        self.typed.setText(_written(self._value))
        self.draw.setVisible(bool(value))
        self.text.setText("Drag a corner to move it; the first is round." if value else _HINT)
        count = sum(name.startswith("patch ") for name in known.numbers) if value else 0
        self.table.setVisible(count > 0)
        self.table.setRowCount(count)
        for row in range(count):
            known_value, measured, residual = (
                known.numbers.get(f"{name} {row + 1}", math.nan)
                for name in ("known", "patch", "residual")
            )
            texts = [str(row + 1), _shown(known_value), _shown(measured)]
            share = 100 * residual / known_value
            texts.append(
                f"{share:+.2f} %".replace("-", "−") if math.isfinite(share) else "left out"
            )
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(row, column, item)


def _written(corners: tuple[Corner, ...]) -> str:
    return "; ".join(f"{one.x:.5g}, {one.y:.5g}" for one in corners)


def _shown(value: float) -> str:
    return shown(value, 4) if math.isfinite(value) else "–"

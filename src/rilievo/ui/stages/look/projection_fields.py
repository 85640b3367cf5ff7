"""Fields of a channel that is made of many planes of a stack."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QComboBox, QLabel, QVBoxLayout, QWidget

from rilievo.core.files.channel_preparation import Over
from rilievo.core.image.stack import AXIS_WORDS, PROJECTIONS, Along
from rilievo.core.method.method import checked_copy
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import NumberField, side_by_side

_END = "last"


class ProjectionFields(QWidget):
    """What is made of a channel, along which axis, over which planes."""

    def __init__(self) -> None:
        super().__init__()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(4)
        self.how, self.channel, self.along = QComboBox(), QComboBox(), QComboBox()
        self.first, self.last = NumberField(), NumberField()
        for field, value, name in ((self.first, 1.0, "From plane"), (self.last, None, "To plane")):
            field.set_value(value)
            field.entered.connect(field.set_value)
            field.setFixedWidth(scaled(64))
            field.setAccessibleName(name)
        self.last.setPlaceholderText(_END)
        for box, name in (
            (self.how, "What is made of the planes"),
            (self.channel, "Of channel"),
            (self.along, "Along"),
        ):
            box.setAccessibleName(name)
        rows.addWidget(side_by_side(self.how, QLabel("of"), self.channel, stretch=True))
        rows.addWidget(
            side_by_side(
                QLabel("over"), self.along, self.first, QLabel("to"), self.last, stretch=True
            )
        )
        for key, words in PROJECTIONS.items():
            self.how.addItem(words, key)

    def show_choices(self, channels: Sequence[str], axes: Sequence[Along]) -> None:
        """Offer the channels and the axes of a stack."""
        self.channel.addItems(channels)
        for axis in axes:
            self.along.addItem(AXIS_WORDS[axis], axis)

    def chosen(self) -> Over:
        """What is made of which planes. Raises MethodError for a range that is none."""
        first, last = self.first.value, self.last.value
        return checked_copy(
            Over(),
            how=self.how.currentData(),
            along=self.along.currentData(),
            first=1 if first is None else int(first),
            last=None if last is None else int(last),
        )

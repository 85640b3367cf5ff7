"""What all ways to find regions have in common on their card."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from rilievo.core.errors import MethodError
from rilievo.core.image.histogram import Histogram
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse
from rilievo.core.parameters import explain
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import ROW_GAP
from rilievo.ui.widgets.parameter_fields import Known


class ClassBody(QWidget):
    """The controls of one way to find regions; changes the class in focus."""

    refused = pyqtSignal(str)

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self.session, self.compute, self.theme = session, compute, theme
        self.rows = QVBoxLayout(self)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.rows.setSpacing(ROW_GAP)

    @property
    def outline(self) -> ClassDefinition:
        """The class in focus."""
        return self.session.focus.outline

    def refresh(self) -> None:
        """Show the class in focus."""

    def change(self, text: str, **fields: Any) -> None:
        """Change the class; what is wrong is said on the card."""
        try:
            self.compute.session.change_class(text, **fields)
        except MethodError as exc:
            self.refused.emit(str(exc))
            self.refresh()

    def choose_way(self, way: str, **parameters: Any) -> None:
        """Choose a threshold with its parameters."""
        try:
            use = ThresholdUse.model_validate({"way": way, "parameters": parameters})
        except ValidationError as exc:
            self.refused.emit(explain(exc))
            self.refresh()
            return
        self.change(f"Threshold: {THRESHOLDS[way].title}", source="threshold", threshold=use)

    def set_parameter(self, name: str, value: Any) -> None:
        """Change a parameter of the threshold."""
        use = self.outline.threshold
        try:
            changed = ThresholdUse.model_validate(
                {**dict(use), "parameters": {**use.parameters.model_dump(), name: value}}
            )
        except ValidationError as exc:
            self.refused.emit(explain(exc))
            self.refresh()
            return
        self.change(f"Set {name.replace('_', ' ')}", threshold=changed)

    @property
    def known(self) -> Known:
        """What a form may offer."""
        sample = self.compute.store.focused
        return Known(sample.channel_names if sample is not None else ())

    def printed(self, value: float) -> str:
        """A level of the channel it is found on, on the number scale in force."""
        return shown(
            self.compute.ranges.number_scale(self.compute.store.outline_channel).value(value)
        )

    @property
    def histogram(self) -> Histogram | None:
        """Histogram of the channel in the sample in focus."""
        facts = self.compute.queue.focused
        return (
            facts.signal.get(self.compute.store.outline_channel or "")
            if facts is not None
            else None
        )

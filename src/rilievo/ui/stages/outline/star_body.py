"""How stars are found, and with which circles they are measured."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError

from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.parameters import explain
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.outline.class_body import ClassBody
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import faint
from rilievo.ui.widgets.form import ParameterForm


class StarBody(ClassBody):
    """The settings of a class whose regions are stars."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__(session, compute, theme)
        self.form = ParameterForm(StarUse)
        self.form.changed.connect(self.set)
        self.rows.addWidget(self.form)
        self.rows.addWidget(
            faint("Circles of the chosen star can be dragged in the picture, in Measure.")
        )

    def set(self, name: str, value: Any) -> None:
        """Change a setting."""
        try:
            use = StarUse.model_validate({**dict(self.outline.star), name: value})
        except ValidationError as exc:
            self.refused.emit(explain(exc))
            self.refresh()
            return
        self.change(f"Stars: {StarUse.model_fields[name].title}", star=use)

    def refresh(self) -> None:
        self.form.show_parameters(self.outline.star, self.known, {})

"""The circles with which stars are measured, changed by dragging."""

from __future__ import annotations

from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.ui.session.study_session import StudySession


def set_circle(session: StudySession, class_index: int, changed: StarUse) -> None:
    """Take the circles of a class of stars as they were changed, undoable."""
    method = session.state.method
    outline = method.outlines[class_index]
    if changed != outline.star:
        new = outline.model_copy(update={"star": changed})
        session.change_method("Change the circles of stars", method.with_outline(new, class_index))

"""The circles with which stars are measured, changed by dragging."""

from __future__ import annotations

from rilievo.ui.session.study_session import StudySession


def set_circle(session: StudySession, class_index: int, name: str, radius: float) -> None:
    """Change a circle of a class of stars, undoable."""
    method = session.state.method
    outline = method.outlines[class_index]
    changed = outline.star.with_circle(name, radius)
    if changed != outline.star:
        new = outline.model_copy(update={"star": changed})
        session.change_method("Change the circles of stars", method.with_outline(new, class_index))

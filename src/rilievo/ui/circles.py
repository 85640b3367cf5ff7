"""The circles with which stars are measured, changed by dragging."""

from __future__ import annotations

from rilievo.ui.model import StudyModel

# All changes of circles while a pointer is held become one.
_MERGE = 7401


def set_circle(
    model: StudyModel, place: int, name: str, radius: float, *, hold: bool = False
) -> None:
    """Change a circle of the star class at a place, undoable; `hold` joins it with the last one."""
    method = model.state.method
    outline = method.outlines[place]
    changed = outline.star.with_circle(name, radius)
    if changed != outline.star:
        new = outline.model_copy(update={"star": changed})
        model.change_method(
            "Change the circles of stars", method.with_outline(new, place), _MERGE if hold else -1
        )

"""Changes of picks, repaired pixels and single regions, each one entry of the undo list."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any

from rilievo.core.method.method import SampleException, checked_copy, step_use
from rilievo.core.method.picks import Pick, next_number
from rilievo.core.regions.manual_edits import HandEdit
from rilievo.core.signal.steps.repair_pixels import Repair
from rilievo.ui.session.study_session import StudySession

REPAIR_KEY = "repair.pixels"


def add_pick(session: StudySession, x: int, y: int) -> None:
    """Pin a reading of the focused sample, with the neighbourhood that is read now."""
    entry = session.focus.entry
    if entry is None:
        return
    picks = session.state.method.picks
    last = picks[-1] if picks else None
    pick = Pick(
        number=next_number(picks),
        # Several picks of a specimen are set one after the other.
        specimen=last.specimen if last is not None and last.sample == entry.name else "",
        x=x,
        y=y,
        size=session.focus.reach,
        form=session.view.form,
        sample=entry.name,
    )
    set_picks(session, f"Set pick {pick.number}", (*picks, pick))


def set_picks(session: StudySession, text: str, picks: tuple[Pick, ...]) -> None:
    """Make these the picks, undoable."""
    session.change_method(text, session.state.method.changed(picks=picks))


def change_picks(session: StudySession, text: str, numbers: Iterable[int], **fields: Any) -> None:
    """Change some picks by their numbers."""
    wanted = set(numbers)
    set_picks(
        session,
        text,
        tuple(
            checked_copy(pick, **fields) if pick.number in wanted else pick
            for pick in session.state.method.picks
        ),
    )


def remove_picks(session: StudySession, numbers: Iterable[int]) -> None:
    """Remove picks by their numbers."""
    gone = set(numbers)
    kept = tuple(pick for pick in session.state.method.picks if pick.number not in gone)
    set_picks(session, "Remove picks", kept)


def repair(session: StudySession, patch: Repair) -> None:
    """Replace a patch of the focused sample, in the step for repairs."""
    entry, method = session.focus.entry, session.state.method
    if entry is None:
        return
    use = next((use for use in method.steps if use.step == REPAIR_KEY), None)
    if use is None:
        # Repairs come before all else, so that no background is formed from a bad pixel.
        use = step_use("repair", REPAIR_KEY)
        method = method.changed(steps=(use, *method.steps))
    exception = method.exception_for(entry.name)
    known = exception.parameters.get(use.id, {}).get("repairs", ())
    repairs = [*known, patch.model_dump()]
    parameters = {**exception.parameters, use.id: {"repairs": repairs}}
    changed = SampleException(parameters=parameters, edits=exception.edits)
    session.change_method("Repair pixels", method.with_exception(entry.name, changed))


def edit_regions(session: StudySession, text: str, edits: Mapping[int, Iterable[HandEdit]]) -> None:
    """Change regions of samples by hand, as one change."""
    method = session.state.method
    for sample_id, own in edits.items():
        name = session.state.entry(sample_id).name
        exception = method.exception_for(name)
        changed = exception.model_copy(update={"edits": (*exception.edits, *own)})
        method = method.with_exception(name, changed)
    session.change_method(text, method)


def restore_edited(session: StudySession, text: str, kinds: Collection[str]) -> None:
    """Take back the edits by hand of some kinds in the focused sample."""
    entry = session.focus.entry
    if entry is not None:
        exception = session.state.method.exception_for(entry.name)
        kept = tuple(edit for edit in exception.edits if edit.kind not in kinds)
        changed = exception.model_copy(update={"edits": kept})
        session.change_method(text, session.state.method.with_exception(entry.name, changed))

"""The study by itself, without a window: changes, undo, history, file, stage."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from rilievo.core.errors import MethodError, StudyError
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.ui.session.study_session import StudySession


@pytest.fixture
def session(qtbot: QtBot) -> StudySession:
    return StudySession()


def with_samples(session: StudySession, *names: str) -> None:
    entries = tuple(SampleEntry(Path(f"/none/{n}.tif"), n, id=k + 1) for k, n in enumerate(names))
    session.change("Add images", replace(session.state, samples=entries))


def test_a_change_is_told_once_and_undone_exactly(session: StudySession) -> None:
    told: list[tuple[StudyState, StudyState]] = []
    session.changed.connect(lambda old, new: told.append((old, new)))
    before = session.state
    with_samples(session, "a", "b")
    after = session.state
    session.change("Nothing", replace(after))
    assert told == [(before, after)] and session.undo_stack.count() == 1
    session.undo_stack.undo()
    assert session.state == before
    session.undo_stack.redo()
    assert session.state == after


def test_changes_of_one_gesture_are_one_entry(session: StudySession) -> None:
    def rename(name: str, merge: str) -> None:
        method = session.state.method.changed(name=name)
        session.change_method("Rename the method", method, merge)

    for k in range(4):
        rename(f"n{k}", "gesture 1")
    rename("other", "gesture 2")
    assert session.undo_stack.count() == 2
    session.undo_stack.undo()
    assert session.state.method.name == "n3"
    session.undo_stack.undo()
    assert session.state.method == StudyState().method


def test_the_focus_goes_with_a_sample_that_is_gone(session: StudySession) -> None:
    with_samples(session, "a", "b")
    session.focus.set(sample_id=2)
    with_samples(session, "a")
    assert session.focus.sample_id == 1
    session.undo_stack.setIndex(0)
    assert session.focus.sample_id is None


def test_what_would_be_lost_is_known(session: StudySession, tmp_path: Path) -> None:
    assert not session.has_unsaved
    with_samples(session, "a")
    assert session.has_unsaved
    session.save(tmp_path / "s.rilievo")
    assert not session.has_unsaved and session.path == tmp_path / "s.rilievo"
    session.change("Rename", replace(session.state, name="other"))
    assert session.has_unsaved
    session.undo_stack.undo()
    assert not session.has_unsaved
    session.release()


def test_a_file_that_another_wrote_is_noticed(session: StudySession, tmp_path: Path) -> None:
    path = tmp_path / "s.rilievo"
    session.save(path)
    assert not session.changed_on_disk
    path.write_bytes(path.read_bytes() + b" ")
    assert session.changed_on_disk
    session.release()


def test_history_goes_on_over_files_and_leads_back(session: StudySession, tmp_path: Path) -> None:
    with_samples(session, "a")
    plain = session.state.method
    session.change_method("Rename the method", plain.changed(name="other"))
    session.save(tmp_path / "s.rilievo")
    session.release()
    again = StudySession()
    again.load(tmp_path / "s.rilievo")
    assert [entry.text for entry in again.history()] == ["Add images", "Rename the method"]
    again.go_back_to(1)
    assert again.state.method == plain
    assert again.history()[-1].text == "Go back to: Add images"
    again.release()


def test_a_wrong_value_leaves_everything_as_it_was(session: StudySession) -> None:
    before = session.state
    with pytest.raises(MethodError):
        session.change_class("Change", connectivity=5)
    assert session.state is before and session.undo_stack.count() == 0


def test_blinding_has_no_way_back_by_undo(session: StudySession) -> None:
    with pytest.raises(StudyError):
        session.blind()
    with_samples(session, "wt", "mut")
    session.blind()
    assert session.is_blind and not session.undo_stack.canUndo()
    assert not {"wt", "mut"} & {entry.name for entry in session.state.samples}
    session.unblind()
    assert {entry.name for entry in session.state.samples} == {"wt", "mut"}
    assert len(session.history()) == 3


def test_stages_say_what_they_show(session: StudySession) -> None:
    told: list[str] = []
    session.stage_changed.connect(told.append)
    shown = {}
    for stage in ("look", "look", "correct", "outline", "measure", "compare"):
        session.go_to(stage)
        shown[stage] = session.shows_signal, session.shows_regions
    assert told == ["correct", "outline", "measure", "compare"]
    assert shown == {
        "look": (False, False), "correct": (True, False), "outline": (True, True),
        "measure": (True, True), "compare": (True, True),
    }  # fmt: skip

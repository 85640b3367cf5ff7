"""What is derived from files and samples is no part of what is undone."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from pathlib import Path

import pytest

from rilievo.core.method.class_definition import ThresholdUse
from rilievo.core.method.method import Method
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.study.study_file import save_study
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.shell.window import Window
from tests.outlines import outline

ENTRY = SampleEntry(Path("/none/a.tif"), "a", id=1)
POOLED = Method(outlines=(outline(None, threshold={"pooled": True}),))


def levels(session: StudySession) -> list[float | None]:
    return [one.threshold.pooled_level for one in session.state.method.outlines]


def with_level(method: Method, level: float) -> Method:
    use = method.outline.threshold.model_copy(update={"pooled_level": level})
    assert isinstance(use, ThresholdUse)
    return method.with_outline(method.outline.model_copy(update={"threshold": use}))


def test_a_checksum_outlives_undo_and_redo(window: Window) -> None:
    session = window.session
    session.change("Add a", replace(session.state, samples=(ENTRY,)))
    session.change("Rename", replace(session.state, name="named"))
    session.note_checksum(1, "abc")
    session.undo_stack.undo()
    assert session.state.entry(1).checksum == "abc"
    session.undo_stack.undo()
    assert session.state.samples == ()
    session.undo_stack.redo()
    assert session.state.entry(1).checksum == "abc"
    # Another file under the same number is another sample.
    other = replace(ENTRY, path=Path("/none/b.tif"))
    session.change("Replace", replace(session.state, samples=(other,)))
    assert session.state.entry(1).checksum == ""
    session.clear()
    session.change("Add a", replace(session.state, samples=(ENTRY,)))
    assert session.state.entry(1).checksum == ""


def test_a_level_of_all_samples_outlives_undo_while_it_is_theirs(window: Window) -> None:
    session = window.session
    session.change("Add a", StudyState(samples=(ENTRY,), method=POOLED))
    session.change("Group a", session.state.with_groups({1: ("g", "")}))
    session.note_method(with_level(session.state.method, 321.0))
    session.undo_stack.undo()
    assert levels(session) == [321.0]
    # With other steps it would be another level.
    session.undo_stack.redo()
    changed = session.state.method.with_outline(outline(100.0))
    session.change_method("By hand", changed)
    session.undo_stack.undo()
    assert levels(session) == [321.0]


def test_the_name_that_a_file_gave_is_kept(window: Window, tmp_path: Path) -> None:
    session = window.session
    session.change("Add a", replace(session.state, samples=(ENTRY,)))
    session.save(tmp_path / "wool.rilievo")
    assert session.state.name == "wool"
    session.undo_stack.undo()
    assert session.state.name == "wool"


def test_a_study_is_opened_once_so_that_two_are_never_mixed(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    save_study(StudyState(samples=(ENTRY,), method=POOLED), tmp_path / "s.rilievo")
    opened: list[str] = []
    connect = sqlite3.connect

    def counted(address: str, **how: object) -> sqlite3.Connection:
        opened.append(address)
        return connect(address, **how)  # type: ignore[arg-type]

    session = window.session
    monkeypatch.setattr(sqlite3, "connect", counted)
    session.load(tmp_path / "s.rilievo")
    assert len([one for one in opened if "s.rilievo" in one]) == 1
    opened.clear()
    session.load_unsaved(tmp_path / "s.rilievo")
    assert len([one for one in opened if "s.rilievo" in one]) == 1

"""Studies as files: saved without blocking or losing, by one window at a time, led nowhere."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import threading
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QTimer
from pytestqt.qtbot import QtBot

from rilievo.core.method.method import Method, step_use
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from rilievo.ui.session import study_session
from rilievo.ui.session.study_lock import StudyLock
from rilievo.ui.shell.dialogs import WindowDialogs
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT
from tests.ui.opening import open_study


@pytest.fixture
def image(write_tiff: Callable[..., Path], blobs: np.ndarray) -> Path:
    return write_tiff("images/a.tif", blobs)


@pytest.fixture
def saved(image: Path, tmp_path: Path) -> Path:
    """A study beside the folder of its image."""
    path = tmp_path / "s.rilievo"
    save_study(StudyState("s").with_files([image]), path)
    return path


def rename(window: Window, name: str) -> None:
    window.session.change("Rename", replace(window.session.state, name=name))


def answer(monkeypatch: pytest.MonkeyPatch, question: str, said: object) -> list[tuple]:
    """Answer a dialog; the list gets what was asked."""
    asked: list[tuple] = []

    def ask(_self: object, *what: object) -> object:
        asked.append(what)
        return said

    monkeypatch.setattr(WindowDialogs, question, ask)
    return asked


@pytest.fixture
def goes_on(monkeypatch: pytest.MonkeyPatch) -> threading.Event:
    """Saving waits until this is set."""
    event, plain = threading.Event(), save_study

    def slowly(*given: object, **named: object) -> None:
        assert event.wait(WAIT / 1000)
        plain(*given, **named)  # type: ignore[arg-type]

    monkeypatch.setattr(study_session, "save_study", slowly)
    return event


def test_saving_never_blocks_and_keeps_what_was_asked_for(
    window: Window, saved: Path, qtbot: QtBot, goes_on: threading.Event
) -> None:
    """While the file is written the window goes on; later changes are not called saved."""
    open_study(window, saved)
    rename(window, "first")
    ticks: list[int] = []
    timer = QTimer()
    timer.timeout.connect(lambda: ticks.append(1))
    timer.start(1)
    window.commands.study.save()
    qtbot.waitUntil(lambda: len(ticks) > 20, timeout=WAIT)
    rename(window, "second")
    assert load_study(saved)[0].name == "s"
    goes_on.set()
    qtbot.waitUntil(lambda: "Saved s.rilievo" in window.views.notice.text, timeout=WAIT)
    assert load_study(saved)[0].name == "first"
    assert window.session.has_unsaved
    window.session.undo_stack.undo()
    assert not window.session.has_unsaved
    window.session.undo_stack.redo()
    assert window.session.has_unsaved


def test_another_change_in_place_of_the_saved_one_is_unsaved(window: Window, saved: Path) -> None:
    open_study(window, saved)
    rename(window, "first")
    assert window.commands.study.save_to(saved)
    assert not window.session.has_unsaved
    window.session.undo_stack.undo()
    rename(window, "second")
    assert window.session.has_unsaved


def test_a_save_that_fails_leaves_the_old_file(
    window: Window, saved: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    open_study(window, saved)
    rename(window, "first")
    before = saved.read_bytes()

    def full(*_: object, **__: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(sqlite3, "connect", full)
    assert not window.commands.study.save_to(saved)
    assert "No space left" in window.views.notice.text
    assert saved.read_bytes() == before
    assert window.session.has_unsaved
    assert not list(saved.parent.glob(".rilievo-*"))


@pytest.fixture
def other_window(saved: Path) -> Iterator[StudyLock]:
    """Another window that has the study."""
    lock = StudyLock(saved)
    assert lock.take()
    yield lock
    lock.leave()


@pytest.mark.parametrize("said", ["read only", "copy", "cancel"])
def test_a_study_of_another_window_is_opened_as_one_chooses(
    window: Window,
    saved: Path,
    other_window: StudyLock,
    said: str,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    (asked,) = [answer(monkeypatch, "ask_locked", said)]
    open_study(window, saved)
    assert asked[0][0] == "s.rilievo"
    assert str(os.getpid()) in asked[0][1]
    session = window.session
    if said == "cancel":
        assert not session.state.samples
        return
    assert [entry.name for entry in session.state.samples] == ["a"]
    before = saved.read_bytes()
    names = answer(monkeypatch, "ask_name", tmp_path / "mine.rilievo")
    if said == "copy":
        assert session.path is None
        assert session.has_unsaved
    else:
        assert session.is_read_only
        rename(window, "mine")
    assert window.commands.study._name_to_save() == tmp_path / "mine.rilievo"
    assert len(names) == 1
    assert window.commands.study.save_to(tmp_path / "mine.rilievo")
    assert not session.is_read_only
    assert saved.read_bytes() == before
    assert not window.commands.study.save_to(saved)
    assert "is open in another window" in window.views.notice.text


def test_a_study_is_left_to_others_when_it_is_closed(window: Window, saved: Path) -> None:
    open_study(window, saved)
    lock = StudyLock(saved)
    assert not lock.take()
    window.session.clear()
    assert lock.take()
    lock.leave()


@pytest.mark.parametrize("said", ["overwrite", "elsewhere", "cancel"])
def test_a_study_that_was_changed_on_disk_is_not_overwritten_unasked(
    window: Window,
    saved: Path,
    image: Path,
    said: str,
    tmp_path: Path,
    qtbot: QtBot,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    open_study(window, saved)
    rename(window, "mine")
    save_study(StudyState("theirs").with_files([image]), saved)
    asked = answer(monkeypatch, "ask_changed", said)
    answer(monkeypatch, "ask_name", tmp_path / "mine.rilievo")
    window.commands.study.save()
    qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
    assert asked == [("s.rilievo",)]
    assert load_study(saved)[0].name == ("mine" if said == "overwrite" else "theirs")
    assert (tmp_path / "mine.rilievo").exists() is (said == "elsewhere")
    assert window.session.has_unsaved is (said == "cancel")


# -- files that a study leads to


@pytest.fixture
def foreign(image: Path, tmp_path: Path) -> Path:
    """A study in a folder of its own, whose image lies elsewhere."""
    (tmp_path / "theirs").mkdir()
    path = tmp_path / "theirs" / "t.rilievo"
    save_study(StudyState("t").with_files([image]), path)
    return path


def test_a_study_that_leads_elsewhere_is_asked_about_once(
    window: Window, foreign: Path, image: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked = answer(monkeypatch, "ask_outside", False)
    open_study(window, foreign)
    assert asked == [("t.rilievo", [image])]
    assert not window.session.state.samples
    allowed = answer(monkeypatch, "ask_outside", True)
    open_study(window, foreign)
    assert [entry.name for entry in window.session.state.samples] == ["a"]
    window.session.clear()
    open_study(window, foreign)
    assert len(allowed) == 1


def test_files_that_the_user_chose_are_not_asked_about(
    window: Window,
    image: Path,
    tmp_path: Path,
    qtbot: QtBot,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    window.session.change("Add", window.session.state.with_files([image]))
    (tmp_path / "studies").mkdir()
    path = tmp_path / "studies" / "mine.rilievo"
    assert window.commands.study.save_to(path)
    window.session.clear()
    asked = answer(monkeypatch, "ask_outside", False)
    open_study(window, path)
    assert not asked
    assert window.session.path == path


def test_a_method_that_leads_elsewhere_is_asked_about(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "methods").mkdir()
    dark = tmp_path / "secret.tif"
    method = Method(steps=(step_use("d", "frames.dark", dark={"files": [{"file": str(dark)}]}),))
    method.save(tmp_path / "methods" / "m.json")
    asked = answer(monkeypatch, "ask_outside", False)
    window.commands.method_file.load_method(tmp_path / "methods" / "m.json")
    assert asked == [("m.json", [dark])]
    assert not window.session.state.method.steps
    answer(monkeypatch, "ask_outside", True)
    with contextlib.suppress(FileNotFoundError):
        window.commands.method_file.load_method(tmp_path / "methods" / "m.json")
    assert window.session.state.method.steps


def test_a_save_that_ends_after_another_study_was_opened_is_not_of_that(
    window: Window, saved: Path, qtbot: QtBot, goes_on: threading.Event
) -> None:
    open_study(window, saved)
    rename(window, "first")
    window.commands.study.save()
    window.session.clear()
    rename(window, "another")
    goes_on.set()
    qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
    assert load_study(saved)[0].name == "first"
    assert window.session.path is None
    assert window.session.has_unsaved


def test_a_read_only_study_is_not_saved_under_its_own_name(
    window: Window, saved: Path, other_window: StudyLock, monkeypatch: pytest.MonkeyPatch
) -> None:
    answer(monkeypatch, "ask_locked", "read only")
    open_study(window, saved)
    rename(window, "mine")
    before = saved.read_bytes()
    assert not window.commands.study.save_to(saved)
    assert "is open in another window" in window.views.notice.text
    assert saved.read_bytes() == before

"""Work that somebody waits for: shown with the time left, stopped by a button."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from threading import Event
from typing import Any

import pytest
from pytestqt.qtbot import QtBot

from rilievo.core.errors import FileUnreadable
from rilievo.core.study import study_file
from rilievo.ui.commands import study_commands
from rilievo.ui.compute import progress_tasks
from rilievo.ui.session import study_session
from rilievo.ui.shell.window import Window

WAIT = 20_000


@pytest.fixture(autouse=True)
def no_patience(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(progress_tasks, "_PATIENCE_MS", 0)


@pytest.fixture
def gate() -> Event:
    """Opened, lets slow work go on."""
    return Event()


def test_progress_and_time_left_are_shown_until_it_ends(
    window: Window, qtbot: QtBot, gate: Event
) -> None:
    line, told = window.views.status, []

    def work(report: Callable[[float], None]) -> int:
        report(0.25)
        gate.wait()
        return 7

    window.compute.awaited.run("slow", "Reading it", work, told.append, told.append)
    qtbot.waitUntil(lambda: line.progress.value() == 25, timeout=WAIT)
    assert line.progress_text.text().startswith("Reading it · ")
    assert line.progress_text.text().endswith(" left")
    assert line.progress.isVisible()
    # It has no way to be stopped.
    assert not line.cancel.isVisible()
    gate.set()
    qtbot.waitUntil(lambda: told == [7], timeout=WAIT)
    assert not line.progress.isVisible() and not line.progress_text.isVisible()


def test_all_that_is_asked_for_is_done_one_after_the_other(
    window: Window, qtbot: QtBot, gate: Event
) -> None:
    told: list[object] = []
    at_work, most, begun = [0], [0], []

    def work(report: Callable[[float], None], number: int) -> int:
        begun.append(number)
        at_work[0] += 1
        most[0] = max(most[0], at_work[0])
        gate.wait()
        at_work[0] -= 1
        if number == 1:
            raise FileUnreadable(Path("b.csv"), "cannot be written", "choose another folder")
        report(1.0)
        return number

    for number in range(5):
        window.compute.awaited.run(
            "write it",
            f"Writing {number}",
            lambda report, number=number: work(report, number),
            told.append,
            lambda _: told.append("failed"),
            stopped=lambda: told.append("stopped"),
        )
    # The last one is shown; it ends when its turn comes.
    qtbot.waitUntil(lambda: window.compute.awaited.text == "Writing 4", timeout=WAIT)
    window.compute.awaited.cancel()
    gate.set()
    qtbot.waitUntil(lambda: window.jobs.idle and len(told) == 5, timeout=WAIT)
    assert told == ["stopped", 0, "failed", 2, 3]
    assert begun == [0, 1, 2, 3]
    assert most == [1]
    assert window.compute.awaited.text == ""


def test_what_waits_is_written_when_the_window_is_closed(
    window: Window, gate: Event, tmp_path: Path
) -> None:
    def write(path: Path) -> None:
        gate.wait()
        path.write_text("whole")

    order: list[int] = []

    def one(number: int) -> None:
        write(tmp_path / f"{number}.csv")
        order.append(number)

    # All in one slot, as studies that are saved under several names.
    for number in range(4):
        window.compute.awaited.run(
            "write it", "Writing", lambda _, number=number: one(number), lambda _: None,
            lambda _: None,
        )  # fmt: skip
    threading.Timer(0.2, gate.set).start()
    window.close()
    assert order == [0, 1, 2, 3]
    assert [path.read_text() for path in sorted(tmp_path.glob("*.csv"))] == ["whole"] * 4


def test_what_is_quick_shows_nothing(
    window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(progress_tasks, "_PATIENCE_MS", 60_000)
    seen, told = [], []
    awaited = window.compute.awaited
    awaited.changed.connect(lambda: seen.append(awaited.text))
    awaited.run("quick", "Reading it", lambda report: report(0.5), told.append, told.append)
    qtbot.waitUntil(lambda: bool(told), timeout=WAIT)
    assert set(seen) == {""}


def test_an_error_is_told_and_a_fault_leaves_nothing_waiting(window: Window, qtbot: QtBot) -> None:
    told: list[object] = []

    def refuse(_report: object) -> None:
        raise FileUnreadable("a", "cannot be read", "choose another")

    def fault(_report: object) -> None:
        raise ZeroDivisionError

    awaited = window.compute.awaited
    awaited.run("refuse", "Reading it", refuse, told.append, lambda e: told.append(str(e)))
    qtbot.waitUntil(lambda: bool(told), timeout=WAIT)
    assert "cannot be read" in str(told[0])
    with qtbot.captureExceptions() as caught:
        awaited.run("fault", "…", fault, told.append, told.append, broke=lambda: told.append("b"))
        qtbot.waitUntil(lambda: told[-1] == "b", timeout=WAIT)
    assert caught and caught[0][0] is ZeroDivisionError
    assert awaited.text == ""


def test_opening_is_stopped_by_the_button(
    window: Window, lipid: Path, qtbot: QtBot, gate: Event, monkeypatch: pytest.MonkeyPatch
) -> None:
    ended, whole = Event(), study_file.load_study

    def slow(path: Path, report: Callable[[float], None]) -> object:
        try:
            report(0.5)
            gate.wait()
            report(0.75)
            return whole(path, report)
        finally:
            ended.set()

    monkeypatch.setattr(study_commands, "load_study", slow)
    before, line = window.session.state, window.views.status
    window.commands.study.open_study(lipid)
    qtbot.waitUntil(lambda: line.progress.value() == 50, timeout=WAIT)
    assert line.progress_text.text().startswith(f"Opening {lipid.name} · ")
    line.cancel.click()
    assert not line.progress.isVisible()
    assert "was not opened" in window.views.notice.text
    gate.set()
    qtbot.waitUntil(lambda: ended.is_set() and window.jobs.idle, timeout=WAIT)
    assert window.session.state is before
    # The next one opens.
    monkeypatch.setattr(study_commands, "load_study", whole)
    window.commands.study.open_study(lipid)
    qtbot.waitUntil(lambda: len(window.session.state.samples) == 12, timeout=WAIT)


def test_saving_is_stopped_and_the_old_file_stays(
    study: Window, tmp_path: Path, qtbot: QtBot, gate: Event, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "kept.rilievo"
    assert study.commands.study.save_to(path)
    old = path.read_bytes()

    def slow(*arguments: Any) -> None:
        report = next(one for one in arguments if callable(one))
        report(0.1)
        gate.wait()
        report(0.2)
        study_file.save_study(*arguments)

    monkeypatch.setattr(study_session, "save_study", slow)
    study.session.change("rename", replace(study.session.state, name="other"))
    assert study.session.has_unsaved
    study.commands.study.save()
    qtbot.waitUntil(lambda: study.views.status.progress.value() == 10, timeout=WAIT)
    assert study.views.status.progress_text.text().startswith("Saving kept.rilievo")
    study.views.status.cancel.click()
    assert "was stopped" in study.views.notice.text
    gate.set()
    qtbot.waitUntil(lambda: study.jobs.idle, timeout=WAIT)
    assert study.session.has_unsaved
    assert path.read_bytes() == old


def test_a_newer_opening_takes_the_place_of_an_older(
    window: Window, qtbot: QtBot, gate: Event
) -> None:
    told: list[object] = []

    def slow(report: Callable[[float], None]) -> str:
        gate.wait()
        report(0.5)
        return "older"

    awaited = window.compute.awaited
    awaited.run("open", "…", slow, told.append, told.append, newest=True)
    awaited.run("open", "…", lambda _report: "newer", told.append, told.append, newest=True)
    gate.set()
    qtbot.waitUntil(lambda: window.jobs.idle and bool(told), timeout=WAIT)
    assert told == ["newer"]

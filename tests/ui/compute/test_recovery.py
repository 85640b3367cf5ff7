"""A kill loses nothing that was shown as done."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from rilievo.ui.compute import recovery
from rilievo.ui.shell.window import Window
from tests.outlines import clean_up
from tests.ui.conftest import WAIT


@pytest.fixture(autouse=True)
def _folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(recovery, "recovery_folder", lambda: tmp_path / "unsaved")


def gone_process() -> int:
    process = subprocess.Popen([sys.executable, "-c", ""])
    process.wait()
    return process.pid


def test_unsaved_work_is_taken_up_after_a_kill(
    qtbot: QtBot, study: Window, settle: Callable[[], None], tmp_path: Path
) -> None:
    kept = recovery.Recovery(study.session, study.jobs, study)
    study.compute.session.change_class("change", clean=clean_up(True, 33.0))
    kept.write()
    qtbot.waitUntil(lambda: study.jobs.idle, timeout=WAIT)
    mine = tmp_path / "unsaved" / f"{os.getpid()}.rilievo"
    assert mine.exists()
    assert recovery.left_behind() == [], "this program still runs"
    left = mine.rename(mine.with_stem(str(gone_process())))
    assert recovery.left_behind() == [left]

    study.session.clear()
    study.commands.study.offer_unsaved()
    assert "unsaved work" in study.views.notice.text
    study.views.notice.do_button.click()
    settle()
    assert study.session.state.method.outline.clean == clean_up(True, 33.0)
    assert len(study.compute.store.samples) == 12
    assert study.session.path is None
    assert study.session.has_unsaved
    assert not left.exists()


def test_saving_and_closing_leave_nothing_behind(
    study: Window, tmp_path: Path, qtbot: QtBot
) -> None:
    kept = recovery.Recovery(study.session, study.jobs, study)
    study.compute.session.change_class("change", clean=clean_up(True, 33.0))
    kept.write()
    qtbot.waitUntil(lambda: study.jobs.idle, timeout=WAIT)
    assert list((tmp_path / "unsaved").iterdir())
    study.commands.study.save_to(tmp_path / "s.rilievo")
    kept.write()
    # The window keeps a copy as well, which may be on its way into the folder.
    qtbot.waitUntil(lambda: not list((tmp_path / "unsaved").iterdir()), timeout=WAIT)


@pytest.mark.slow
def test_a_folder_that_cannot_be_written_to_is_said_once(
    qtbot: QtBot, study: Window, tmp_path: Path
) -> None:
    (tmp_path / "unsaved").write_text("a file where the folder should be")
    kept = recovery.Recovery(study.session, study.jobs, study)
    said: list[str] = []
    kept.failed.connect(said.append)
    for area in (3.0, 4.0):
        study.compute.session.change_class("change", clean=clean_up(True, area))
        kept.write()
        qtbot.waitUntil(lambda: study.jobs.idle, timeout=WAIT)
    assert len(said) == 1
    assert "choose a folder" in said[0]

"""Unsaved work is written aside while it grows, and offered again after a crash.

One file a running program, named by its process, in the user's state folder; a clean close
removes it. A file whose process is gone is what a crash or a kill left behind.
"""

from __future__ import annotations

import os
from pathlib import Path

import platformdirs
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from rilievo.core.atomic_write import cannot_write
from rilievo.core.errors import RilievoError
from rilievo.core.study.study_file import SUFFIX, save_study
from rilievo.core.temporary_files import is_running
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.session.study_session import StudySession

_WRITE_AFTER_MS = 1000


def recovery_folder() -> Path:
    """Return where unsaved work is kept."""
    return Path(platformdirs.user_state_dir("rilievo")) / "unsaved"


def left_behind() -> list[Path]:
    """Return unsaved work of programs that are gone, newest first."""
    found = [
        path
        for path in recovery_folder().glob(f"*{SUFFIX}")
        if path.stem.isdigit() and not is_running(int(path.stem))
    ]
    return sorted(found, key=lambda path: path.stat().st_mtime, reverse=True)


class Recovery(QObject):
    """Keeps the unsaved state of one window on disk."""

    failed = pyqtSignal(str)

    def __init__(self, session: StudySession, jobs: Jobs, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._jobs = session, jobs
        self._path = recovery_folder() / f"{os.getpid()}{SUFFIX}"
        self._told = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_WRITE_AFTER_MS)
        self._timer.timeout.connect(self.write)
        session.changed.connect(lambda *_: self._timer.start())
        session.file_changed.connect(self._timer.start)

    def write(self) -> None:
        """Write what is unsaved, or remove the file when nothing is."""
        self._timer.stop()
        if not self._session.has_unsaved or not self._session.state.samples:
            self.remove()
            return
        now, path = self._session.snapshot(self._path), self._path
        state = self._session.state

        def work() -> None:
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
            except OSError as exc:
                raise cannot_write(path, exc) from exc
            save_study(state, path, history=now.history())

        self._jobs.run("recovery", work, lambda _: None, self._tell)

    def _tell(self, error: RilievoError) -> None:
        # Once is enough: it would come back with every change.
        if not self._told:
            self._told = True
            self.failed.emit(f"Unsaved work cannot be kept for after a crash: {error}")

    def remove(self) -> None:
        """Forget the file: all is saved, or given up on purpose."""
        self._timer.stop()
        if self._path.exists():
            self._path.unlink()

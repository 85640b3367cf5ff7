"""A study is written by one window at a time: the first has it, others are told who."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QLockFile


class StudyLock:
    """A file beside the study, `.NAME.lock`, for as long as a window has it open.

    It names the process and the machine; one whose process is gone counts for nothing.
    """

    def __init__(self, path: Path) -> None:
        self._file = QLockFile(str(path.with_name(f".{path.name}.lock")))
        # It never grows old: a window may stay open for weeks.
        self._file.setStaleLockTime(0)
        self.is_mine = True
        self.holder = ""

    def take(self) -> bool:
        """Take the study unless another window has it; return whether it is this one's.

        Where no lock can be written, as in a read-only folder, nobody else can write either.
        """
        if self._file.tryLock(0):
            self.is_mine = True
            return True
        self.is_mine = self._file.error() != QLockFile.LockError.LockFailedError
        known, process, machine, _ = self._file.getLockInfo()
        self.holder = f"process {process} on {machine}" if known else "another process"
        return self.is_mine

    def leave(self) -> None:
        """Leave the study to others."""
        if self._file.isLocked():
            self._file.unlock()

"""A folder that is watched: new files join the study and are measured as they become whole."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from rilievo.core.files.folder_watch import FolderWatch
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession

_LOOK_MS = 1000


class FolderWatcher(QObject):
    """Looks at one folder every second."""

    changed = pyqtSignal()

    def __init__(
        self, session: StudySession, compute: Compute, parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._compute = session, compute
        self._watch: FolderWatch | None = None
        self.taken = 0
        self.timer = QTimer(self)
        self.timer.setInterval(_LOOK_MS)
        self.timer.timeout.connect(self.look)

    @property
    def folder(self) -> Path | None:
        """The folder that is watched."""
        return None if self._watch is None else self._watch.folder

    def start(self, folder: Path, quiet: float | None = None) -> None:
        """Watch a folder; files that are in the study already are known.

        quiet : seconds for which a file must not have changed.
        """
        known = [part.path for e in self._session.state.samples for part in e.sources]
        self._watch = FolderWatch(folder, known) if quiet is None else FolderWatch(
            folder, known, quiet
        )  # fmt: skip
        self.taken = 0
        self.timer.start()
        self.look()

    def stop(self) -> None:
        """Watch no more."""
        self._watch = None
        self.timer.stop()
        self.changed.emit()

    @property
    def text(self) -> str:
        """What is watched, what came, and what is waited for; "" for nothing."""
        if self._watch is None:
            return ""
        said = f"Watching {self._watch.folder.name or self._watch.folder}: {self.taken} new"
        waiting = self._watch.waiting
        if waiting:
            path, why = next(iter(waiting.items()))
            more = f" and {len(waiting) - 1} more" if len(waiting) > 1 else ""
            said += f" · waiting for {path.name}{more} ({why})"
        return said

    def look(self) -> None:
        """Look at the folder, in a thread, unless the look before still lasts.

        A look tells of a file once: an answer that a newer look replaced would lose its files.
        """
        watch = self._watch
        if watch is None or self._compute.jobs.is_busy("watch"):
            return
        self._compute.jobs.run("watch", watch.look, lambda new: self._take(watch, new))

    def _take(self, watch: FolderWatch, new: list[Path]) -> None:
        if watch is not self._watch:
            return
        if new:
            before = {entry.id for entry in self._session.state.samples}
            what = new[0].name if len(new) == 1 else f"{len(new)} images"
            self._session.change(
                f"Add {what} from the watched folder", self._session.state.with_files(new)
            )
            self.taken += len(new)
            self._compute.batch.start(
                [entry.id for entry in self._session.state.samples if entry.id not in before]
            )
        self.changed.emit()

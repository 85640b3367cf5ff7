"""A folder that is watched: files are told of once they are whole.

A file that still grows, or cannot be read yet, is waited for.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from rilievo.core.errors import FileError
from rilievo.core.files import images_below, read_sample
from rilievo.core.files.reader import file_identity

# A file that has not changed for so long is looked at.
QUIET_SECONDS = 0.8


class FolderWatch:
    """Looks at a folder again and again.

    told_already : files that are not told of. clock : seconds, for tests.
    """

    def __init__(
        self,
        folder: Path,
        told_already: list[Path] | None = None,
        quiet: float = QUIET_SECONDS,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.folder, self._quiet, self._clock = folder, quiet, clock
        self._told = {path.absolute() for path in told_already or []}
        self._since: dict[Path, tuple[str, float]] = {}
        self.waiting: dict[Path, str] = {}

    def look(self) -> list[Path]:
        """Return the files that have become whole since the last look, sorted by name.

        `waiting` then holds the others, with the reason why each is waited for.
        """
        now, whole = self._clock(), []
        self.waiting = {}
        try:
            images = images_below([self.folder])
        except OSError:
            # An unmounted drive comes back, or the user stops watching.
            self.waiting[self.folder] = "the folder cannot be read"
            return []
        for path in (image.absolute() for image in images):
            if path in self._told:
                continue
            try:
                state = file_identity(path)
            except FileError:
                continue
            before, since = self._since.get(path, ("", now))
            if state != before:
                self._since[path] = (state, now)
                self.waiting[path] = "it still changes"
                continue
            if now - since < self._quiet:
                self.waiting[path] = "it changed a moment ago"
                continue
            try:
                read_sample(path, checksum=False)
            except FileError as exc:
                # Half written, perhaps; it is looked at again when it has changed.
                self.waiting[path] = exc.problem
                continue
            self._told.add(path)
            self._since.pop(path, None)
            whole.append(path)
        return whole

"""Results of a batch on disk, each committed as its sample finishes.

One SQLite file. A process that is killed at any moment leaves all finished results whole, and
nothing of the others. docs/file-formats.md describes it.
"""

from __future__ import annotations

import contextlib
import sqlite3
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path

from rilievo.core.atomic_write import cannot_write
from rilievo.core.errors import StudyError

APPLICATION_ID = 0x52494C52  # “RILR”
_VERSION = 1
_SCHEMA = """
CREATE TABLE IF NOT EXISTS result (
    key TEXT PRIMARY KEY, depends TEXT NOT NULL, failed INTEGER NOT NULL, outcome BLOB NOT NULL);
CREATE INDEX IF NOT EXISTS result_depends ON result (depends);
"""


class ResultStore:
    """Results by key. path : None keeps them in memory, for as long as the store lives.

    Raises FileUnreadable where the file cannot be written, StudyError where it is no such file.
    """

    def __init__(self, path: Path | None = None) -> None:
        self.path = path
        self._lock = threading.Lock()
        with self._refused():
            self._database = sqlite3.connect(
                ":memory:" if path is None else str(path), check_same_thread=False
            )
            self._prepare()

    def _prepare(self) -> None:
        database = self._database
        application = database.execute("PRAGMA application_id").fetchone()[0]
        version = database.execute("PRAGMA user_version").fetchone()[0]
        tables = database.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]
        if tables and (application != APPLICATION_ID or version != _VERSION):
            raise StudyError(
                f"“{self.path.name if self.path else ''}” holds no results of this version; remove "
                "it, or choose another folder."
            )
        # A log that is written ahead costs no waiting for the disk at each sample. Where a file
        # system cannot have one, SQLite stays with its journal.
        database.execute("PRAGMA journal_mode = WAL").fetchone()
        database.execute("PRAGMA synchronous = NORMAL")
        database.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        database.execute(f"PRAGMA user_version = {_VERSION}")
        database.executescript(_SCHEMA)
        database.commit()

    @contextlib.contextmanager
    def _refused(self) -> Iterator[None]:
        """Say in words what SQLite could not do; what was committed before stays."""
        try:
            yield
        except sqlite3.DatabaseError as exc:
            if self.path is None:
                raise
            if "not a database" in str(exc) or "malformed" in str(exc):
                raise StudyError(
                    f"“{self.path.name}” is damaged or no file of results; remove it and measure "
                    "again."
                ) from exc
            raise cannot_write(self.path, OSError(str(exc))) from exc

    def keys(self, depends: str) -> tuple[str, ...]:
        """Return the keys of finished results that depend on the same but the pixels."""
        with self._lock, self._refused():
            rows = self._database.execute(
                "SELECT key FROM result WHERE depends = ? AND failed = 0", (depends,)
            )
            return tuple(row[0] for row in rows)

    def has(self, key: str) -> bool:
        """Whether a sample was measured under a key; one that failed was not."""
        with self._lock, self._refused():
            row = self._database.execute(
                "SELECT 1 FROM result WHERE key = ? AND failed = 0", (key,)
            ).fetchone()
            return row is not None

    def get(self, key: str) -> bytes:
        """Return an outcome by its key, also one that failed. Raises KeyError."""
        with self._lock, self._refused():
            row = self._database.execute(
                "SELECT outcome FROM result WHERE key = ?", (key,)
            ).fetchone()
        if row is None:
            raise KeyError(key)
        return bytes(row[0])

    def put(self, key: str, depends: str, content: bytes, *, failed: bool) -> None:
        """Commit an outcome. Raises FileUnreadable."""
        self.put_all([(key, depends, failed, content)])

    def put_all(self, outcomes: Sequence[tuple[str, str, bool, bytes]]) -> None:
        """Commit outcomes together: key, depends, failed, content. Raises FileUnreadable."""
        with self._lock, self._refused():
            try:
                self._database.executemany(
                    "INSERT OR REPLACE INTO result VALUES (?, ?, ?, ?)",
                    [(key, depends, int(bad), content) for key, depends, bad, content in outcomes],
                )
                self._database.commit()
            except sqlite3.DatabaseError:
                self._database.rollback()
                raise

    def keep_within(self, most: int) -> None:
        """Forget the oldest results when all together take more than `most` bytes."""
        with self._lock, self._refused():
            query = "SELECT rowid, length(outcome) FROM result ORDER BY rowid DESC"
            total, first = 0, 0
            for row, size in self._database.execute(query):
                total += int(size)
                if total > most:
                    first = int(row)
                    break
            if first:
                self._database.execute("DELETE FROM result WHERE rowid <= ?", (first,))
                self._database.commit()

    def close(self) -> None:
        """Close the file."""
        with self._lock:
            self._database.close()

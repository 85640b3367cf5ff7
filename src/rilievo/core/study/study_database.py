"""A study file as a database that is opened to be read: what it is, and with limits on its cost.

SQLite can hold views and computed columns that never end; only plain tables are read.
"""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator, Mapping
from pathlib import Path

from rilievo.core.errors import NotAFile, StudyError

_LONGEST_VALUE = 200_000_000
_MOST_SECONDS = 120.0
_STEPS_BETWEEN_LOOKS = 100_000


@contextlib.contextmanager
def opened(
    path: Path, application: int, newest: int, most_rows: Mapping[str, int], suffix: str
) -> Iterator[sqlite3.Connection]:
    """Open a study file of this kind. Raises StudyError with its name and the reason.

    application, newest : its application id and the newest schema that is known. most_rows : of
    tables that are counted first. suffix : of study files, for the remedy.
    """
    try:
        if not path.exists():
            raise StudyError(f"“{path.name}” does not exist; look for it in {path.parent}.")
        if not path.is_file():
            raise NotAFile(path, "is a folder, device or pipe", f"open a {suffix} file")
        address = f"{path.as_uri()}?mode=ro&immutable=1"
        with contextlib.closing(sqlite3.connect(address, uri=True)) as database:
            _limit(database)
            _check_kind(database, path, application, newest, suffix)
            _check_tables(database)
            for table, most in most_rows.items():
                _check_count(database, path, table, most)
            yield database
    except (
        sqlite3.Error,
        KeyError,
        TypeError,
        ValueError,
        AttributeError,
        OverflowError,
        RecursionError,
        OSError,
        MemoryError,
    ) as exc:
        reason = str(exc).splitlines()[0][:300] if str(exc) else type(exc).__name__
        raise StudyError(
            f"“{path.name}” is damaged or no study ({reason}); open a copy of it, or the images "
            "again."
        ) from exc


def _limit(database: sqlite3.Connection) -> None:
    database.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _LONGEST_VALUE)
    database.execute("PRAGMA trusted_schema = OFF")
    database.execute("PRAGMA cell_size_check = ON")
    end = time.monotonic() + _MOST_SECONDS
    # A value that is not 0 ends the query with an error.
    database.set_progress_handler(lambda: int(time.monotonic() > end), _STEPS_BETWEEN_LOOKS)


def _check_kind(
    database: sqlite3.Connection, path: Path, application: int, newest: int, suffix: str
) -> None:
    version = int(database.execute("PRAGMA user_version").fetchone()[0])
    if database.execute("PRAGMA application_id").fetchone()[0] != application:
        raise StudyError(f"“{path.name}” is not a Rilievo study; open a {suffix} file.")
    if version > newest:
        raise StudyError(
            f"“{path.name}” was saved by a newer Rilievo (schema {version}); update this one."
        )


def _check_tables(database: sqlite3.Connection) -> None:
    for kind, name, text in database.execute("SELECT type, name, sql FROM sqlite_master"):
        words = str(text or "").upper()
        if kind in ("view", "trigger") or "VIRTUAL TABLE" in words or " AS (" in words:
            raise ValueError(f"its {kind} “{name}” is none of a study")


def _check_count(database: sqlite3.Connection, path: Path, table: str, most: int) -> None:
    exists = database.execute(
        "SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = ?", (table,)
    ).fetchone()[0]
    if not exists:
        return
    # One more than may be there is enough to know.
    query = f"SELECT count(*) FROM (SELECT 1 FROM {table} LIMIT {most + 1})"  # noqa: S608 (own names)
    if database.execute(query).fetchone()[0] > most:
        raise StudyError(
            f"“{path.name}” has more than {most} rows of “{table}”, which no study needs; open "
            "another file."
        )

"""The study file: one SQLite database with state, measurements and history.

docs/file-formats.md describes it. It refers to images by relative path, size and checksum. Files
of the schemas before are read.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import NamedTuple

from rilievo.core.atomic_write import cannot_write, write_safely
from rilievo.core.compare.question import Question
from rilievo.core.errors import MethodError, StudyError
from rilievo.core.files.sample_parts import Part
from rilievo.core.image.image import ValueSource
from rilievo.core.method.method import Method, digest
from rilievo.core.progress import no_report
from rilievo.core.study.history import HistoryEntry, changes_as_text, changes_from_text
from rilievo.core.study.preregistration import Preregistration
from rilievo.core.study.report_options import ReportOptions
from rilievo.core.study.sealed_study import Blinding
from rilievo.core.study.stored_measurements import fill_table, load_tables, method_name
from rilievo.core.study.study import OwnView, SampleEntry, StudyState
from rilievo.core.study.study_database import opened
from rilievo.core.study.study_rows import (
    MOST_PARTS,
    MOST_SAMPLES,
    HistoryRow,
    PartRow,
    RangeRow,
    SampleRow,
    StyleRow,
    checked,
)
from rilievo.core.table.table import RegionTable
from rilievo.core.untrusted_json import parsed
from rilievo.core.view.palettes import ViewStyle

SUFFIX = ".rilievo"
MOST_ENVIRONMENTS = 100
APPLICATION_ID = 0x52494C56  # “RILV”
SCHEMA_VERSION = 6
# From these versions on there are planes of stacks, and measurements with marks.
_WITH_FRAMES, _WITH_MARKS = 6, 5

# Stands for all samples where a view is stored.
_ALL_SAMPLES = 0

# Versions of the packages that made the measurements, under this key of the table “study”.
_ENVIRONMENTS = "measured_with"
_ROLE = "role"

_SCHEMA = """
CREATE TABLE study (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE sample (
    id INTEGER PRIMARY KEY, position INTEGER NOT NULL, name TEXT NOT NULL UNIQUE,
    path TEXT NOT NULL, size INTEGER NOT NULL, sha256 TEXT NOT NULL,
    sample_group TEXT NOT NULL, replicate TEXT NOT NULL,
    declared TEXT NOT NULL, attributes TEXT NOT NULL);
CREATE TABLE sample_part (
    sample INTEGER NOT NULL REFERENCES sample (id), position INTEGER NOT NULL,
    path TEXT NOT NULL, image INTEGER NOT NULL, planes TEXT, channel TEXT NOT NULL,
    frame TEXT,
    PRIMARY KEY (sample, position));
CREATE TABLE display_range (
    sample INTEGER NOT NULL, channel TEXT NOT NULL,
    lane TEXT NOT NULL CHECK (lane IN ('native', 'signal')),
    low REAL NOT NULL, high REAL NOT NULL, PRIMARY KEY (sample, channel, lane));
CREATE TABLE view_style (
    sample INTEGER NOT NULL, channel TEXT NOT NULL, style TEXT NOT NULL,
    PRIMARY KEY (sample, channel));
CREATE TABLE own_view (sample INTEGER PRIMARY KEY);
CREATE TABLE measured_sample (
    sample INTEGER PRIMARY KEY REFERENCES sample (id), class TEXT NOT NULL, unit TEXT NOT NULL,
    threshold TEXT NOT NULL, image_pixels INTEGER NOT NULL, channels TEXT NOT NULL,
    method_digest TEXT NOT NULL, known TEXT NOT NULL, flags TEXT NOT NULL, units TEXT NOT NULL,
    image_width INTEGER NOT NULL);
CREATE TABLE measurement (
    sample INTEGER NOT NULL REFERENCES measured_sample (sample), region INTEGER NOT NULL,
    channel TEXT NOT NULL, quantity TEXT NOT NULL, value REAL,
    PRIMARY KEY (sample, channel, quantity, region)) WITHOUT ROWID;
CREATE TABLE history_method (digest TEXT PRIMARY KEY, method TEXT NOT NULL);
CREATE TABLE history (
    position INTEGER PRIMARY KEY, time TEXT NOT NULL, text TEXT NOT NULL, sample TEXT NOT NULL,
    changes TEXT NOT NULL, method TEXT NOT NULL REFERENCES history_method (digest));
"""


def save_study(
    state: StudyState,
    path: Path,
    tables: Mapping[int, RegionTable] | None = None,
    history: Sequence[HistoryEntry] = (),
    report: Callable[[float], None] = no_report,
    environments: Sequence[Mapping[str, str]] = (),
    role: str = "",
) -> None:
    """Write the study file; the old one stays whole if that fails.

    Parameters
    ----------
    state : StudyState
        Samples, groups, method and views.
    path : Path
        Of the file, .rilievo.
    tables : mapping of int to RegionTable, optional
        Measurements by sample id.
    history : sequence of HistoryEntry, optional
        In the order of the changes.
    report : callable, optional
        Takes the fraction that is written, and may raise Cancelled.
    environments : sequence of mapping, optional
        Versions of the packages that made the tables.
    role : str, optional
        What the file is for, where it is no user's own; see `role_of`.

    Returns
    -------
    None

    Raises
    ------
    FileUnreadable
        With the reason.

    Examples
    --------
    >>> save_study(StudyState(name="Yeast"), Path("yeast.rilievo"))
    >>> Path("yeast.rilievo").is_file()
    True
    """
    path = path.absolute()

    def fill(target: Path) -> None:
        with contextlib.closing(sqlite3.connect(target)) as database:
            _fill(database, state, path.parent, tables or {}, report)
            if tables and environments:
                environments_text = _json([dict(environment) for environment in environments])
                database.execute(
                    "INSERT INTO study VALUES (?, ?)", (_ENVIRONMENTS, environments_text)
                )
            if role:
                database.execute("INSERT INTO study VALUES (?, ?)", (_ROLE, role))
            _fill_history(database, history, path.parent)
            database.commit()

    try:
        write_safely(path, fill)
    except sqlite3.Error as exc:
        raise cannot_write(path, OSError(str(exc))) from exc


def _relative(path: Path, folder: Path) -> str:
    return Path(os.path.relpath(path, folder)).as_posix()


def _fill(
    database: sqlite3.Connection,
    state: StudyState,
    folder: Path,
    tables: Mapping[int, RegionTable],
    report: Callable[[float], None],
) -> None:
    database.execute(f"PRAGMA application_id = {APPLICATION_ID}")
    database.execute(f"PRAGMA user_version = {SCHEMA_VERSION}")
    database.executescript(_SCHEMA)
    database.executemany(
        "INSERT INTO study VALUES (?, ?)",
        [
            ("name", state.name),
            ("method", state.method.to_json(folder)),
            ("question", state.question.model_dump_json()),
            ("report", state.report.model_dump_json()),
            ("blinding", state.blinding.model_dump_json()),
            ("agreement", state.preregistration.to_json(folder)),
        ],
    )
    _fill_samples(database, state, folder)
    _fill_view(database, _ALL_SAMPLES, state)
    for sample_id, own_view in state.own_views.items():
        database.execute("INSERT INTO own_view VALUES (?)", (sample_id,))
        _fill_view(database, sample_id, own_view)
    ids = {entry.id for entry in state.samples}
    for done, (sample_id, table) in enumerate(tables.items()):
        report(done / len(tables))
        if sample_id in ids:
            fill_table(database, sample_id, table, method_name(state.method, folder))


def _fill_samples(database: sqlite3.Connection, state: StudyState, folder: Path) -> None:
    database.executemany(
        "INSERT INTO sample VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (
                e.id,
                i,
                e.name,
                _relative(e.path, folder),
                e.size,
                e.checksum,
                e.group,
                e.replicate,
                e.overrides.model_dump_json(exclude_none=True),
                _json(dict(e.attributes)),
            )
            for i, e in enumerate(state.samples)
        ],
    )
    database.executemany(
        "INSERT INTO sample_part VALUES (?, ?, ?, ?, ?, ?, ?)",
        [
            (
                e.id,
                i,
                _relative(part.path, folder),
                part.image,
                None if part.planes is None else _json(part.planes),
                part.channel,
                None if part.frame is None else part.frame.text,
            )
            for e in state.samples
            for i, part in enumerate(e.parts)
        ],
    )


def _fill_history(
    database: sqlite3.Connection, history: Sequence[HistoryEntry], folder: Path
) -> None:
    # Most entries share their method with others, which is told apart by identity here.
    texts: dict[int, str] = {}
    for position, entry in enumerate(history):
        text = texts.setdefault(id(entry.method), entry.method.to_json(folder))
        name = digest(text)
        database.execute("INSERT OR IGNORE INTO history_method VALUES (?, ?)", (name, text))
        database.execute(
            "INSERT INTO history VALUES (?, ?, ?, ?, ?, ?)",
            (position, entry.time, entry.text, entry.sample, changes_as_text(entry), name),
        )


def role_of(path: Path) -> str:
    """Return what a study file is for; "" for a user's own. Raises StudyError."""
    with _opened(path.absolute()) as database:
        row = database.execute("SELECT value FROM study WHERE key = ?", (_ROLE,)).fetchone()
    return "" if row is None else str(row[0])


class StudyContent(NamedTuple):
    """All that a study file holds, read in one go: no part is of another state of the file.

    state : samples, method, views. tables : measurements by sample id, made with that method.
    history : in the order of the changes; files of older schemas have none. environments :
    versions of the packages that made the measurements, as far as recorded.
    """

    state: StudyState
    tables: dict[int, RegionTable]
    history: tuple[HistoryEntry, ...] = ()
    environments: Sequence[Mapping[str, str]] = ()


def _environments(text: str) -> list[dict[str, str]]:
    entries = parsed(text)
    if not isinstance(entries, list):
        return []
    return [
        {str(name): str(version) for name, version in environment.items()}
        for environment in entries[:MOST_ENVIRONMENTS]
        if isinstance(environment, dict)
    ]


def _load_history(database: sqlite3.Connection, path: Path) -> tuple[HistoryEntry, ...]:
    if _version(database) < 3:
        return ()
    try:
        methods = {
            name: Method.from_json(text, path.parent)
            for name, text in database.execute("SELECT digest, method FROM history_method")
        }
    except MethodError as exc:
        raise StudyError(f"The history in “{path.name}” is not valid: {exc}") from exc
    rows = (
        checked(HistoryRow, row, f"change {number} of the history")
        for number, row in enumerate(
            database.execute(
                "SELECT time, text, sample, changes, method FROM history ORDER BY position"
            ),
            start=1,
        )
    )
    return tuple(
        HistoryEntry(
            row.time, row.text, row.sample, changes_from_text(row.changes), methods[row.method]
        )
        for row in rows
    )


def _json(value: object) -> str:
    return json.dumps(value, ensure_ascii=False)


def _fill_view(database: sqlite3.Connection, sample: int, view: StudyState | OwnView) -> None:
    database.executemany(
        "INSERT INTO display_range VALUES (?, ?, ?, ?, ?)",
        [(sample, channel, source, *ends) for (channel, source), ends in view.ranges.items()],
    )
    database.executemany(
        "INSERT INTO view_style VALUES (?, ?, ?)",
        [(sample, channel, style.model_dump_json()) for channel, style in view.styles.items()],
    )


def load_study(path: Path, report: Callable[[float], None] = no_report) -> StudyContent:
    """Read a study file: its state, the measurements that were made with its method, its history.

    Parameters
    ----------
    path : Path
        Of the file, .rilievo.
    report : callable, optional
        Takes the fraction that is read, and may raise Cancelled.

    Returns
    -------
    StudyContent

    Raises
    ------
    StudyError
        With the file's name, the reason and the remedy.

    Examples
    --------
    >>> save_study(StudyState(name="Yeast"), Path("yeast.rilievo"))
    >>> load_study(Path("yeast.rilievo")).state.name
    'Yeast'
    """
    path = path.absolute()
    with _opened(path) as database:
        facts = {
            str(key): str(value)
            for key, value in database.execute("SELECT key, value FROM study LIMIT 100")
        }
        entries = _load_entries(database, path.parent)
        views = _load_views(database)
        try:
            method = Method.from_json(facts["method"], path.parent)
        except MethodError as exc:
            raise StudyError(f"The method in “{path.name}” is not valid: {exc}") from exc
        common = views.pop(_ALL_SAMPLES, OwnView())
        state = StudyState(
            facts["name"],
            entries,
            method,
            common.ranges,
            common.styles,
            views,
            Question.model_validate(parsed(facts.get("question", "{}"))),
            ReportOptions.model_validate(parsed(facts.get("report", "{}"))),
            Blinding.model_validate(parsed(facts.get("blinding", "{}"))),
            _preregistration(facts, path),
        )
        # What older versions measured has no marks of regions; it is measured again.
        has_marks = _version(database) >= _WITH_MARKS
        tables = load_tables(database, state, path.parent, report) if has_marks else {}
        environments = _environments(facts.get(_ENVIRONMENTS, "[]"))
        return StudyContent(state, tables, _load_history(database, path), environments)


def _preregistration(facts: Mapping[str, str], path: Path) -> Preregistration:
    try:
        return Preregistration.from_json(facts.get("agreement", "{}"), path.parent)
    except MethodError as exc:
        raise StudyError(f"The agreed method in “{path.name}” is not valid: {exc}") from exc


def _version(database: sqlite3.Connection) -> int:
    return int(database.execute("PRAGMA user_version").fetchone()[0])


def _load_entries(database: sqlite3.Connection, folder: Path) -> tuple[SampleEntry, ...]:
    old = _version(database) < 2
    parts: dict[int, list[Part]] = {}
    if not old:
        frame = "frame" if _version(database) >= _WITH_FRAMES else "NULL"
        for number, values in enumerate(
            database.execute(
                f"SELECT sample, path, image, planes, channel, {frame} FROM sample_part "  # noqa: S608 (two fixed texts)
                "ORDER BY sample, position"
            ),
            start=1,
        ):
            row = checked(PartRow, values, f"row {number} of “sample_part”")
            part = Part(_absolute(folder, row.path), row.image, row.planes, row.channel, row.frame)
            parts.setdefault(row.sample, []).append(part)
    further = "'{}', '{}'" if old else "declared, attributes"
    rows = (
        checked(SampleRow, values, f"sample {number}")
        for number, values in enumerate(
            database.execute(
                "SELECT id, name, path, size, sha256, sample_group, replicate, "  # noqa: S608 (two fixed texts)
                f"{further} FROM sample ORDER BY position"
            ),
            start=1,
        )
    )
    entries = tuple(
        SampleEntry(
            id=row.id,
            name=row.name,
            path=_absolute(folder, row.path),
            size=row.size,
            checksum=row.sha256,
            group=row.sample_group,
            replicate=row.replicate,
            parts=tuple(parts.get(row.id, ())),
            overrides=row.declared,
            attributes=row.attributes,
        )
        for row in rows
    )
    if len({entry.name for entry in entries}) < len(entries):
        raise ValueError("two samples have one name")
    return entries


def _absolute(folder: Path, path: str) -> Path:
    """A path of the file as one without “..”; links are left as they are."""
    return Path(os.path.normpath(folder / path))


def _load_views(database: sqlite3.Connection) -> dict[int, OwnView]:
    """Views by sample id; that of all samples under _ALL_SAMPLES."""
    old = _version(database) < 2
    who = str(_ALL_SAMPLES) if old else "sample"
    with_own_view = (
        [] if old else [int(row[0]) for row in database.execute("SELECT sample FROM own_view")]
    )
    ranges: dict[int, dict[tuple[str, ValueSource], tuple[float, float]]] = {}
    styles: dict[int, dict[str, ViewStyle]] = {}
    for values in database.execute(
        f"SELECT {who}, channel, lane, low, high FROM display_range"  # noqa: S608 (two fixed texts)
    ):
        shown = checked(RangeRow, values, "a display range")
        ranges.setdefault(shown.sample, {})[shown.channel, shown.lane] = (shown.low, shown.high)
    for values in database.execute(
        f"SELECT {who}, channel, style FROM view_style"  # noqa: S608 (two fixed texts)
    ):
        look = checked(StyleRow, values, "the style of a channel")
        styles.setdefault(look.sample, {})[look.channel] = look.style
    return {
        sample: OwnView(ranges.get(sample, {}), styles.get(sample, {}))
        for sample in {_ALL_SAMPLES, *with_own_view}
    }


def _opened(path: Path) -> AbstractContextManager[sqlite3.Connection]:
    most = {"sample": MOST_SAMPLES, "sample_part": MOST_PARTS, "measured_sample": MOST_SAMPLES}
    return opened(path, APPLICATION_ID, SCHEMA_VERSION, most, SUFFIX)

"""The study file: one SQLite database with state, measurements and history.

docs/file-formats.md describes it. It refers to images by relative path, size and checksum. Files
of the schemas before are read.
"""

from __future__ import annotations

import contextlib
import json
import math
import os
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.atomic_write import cannot_write, write_safely
from rilievo.core.compare.question import Question
from rilievo.core.errors import MethodError, StudyError
from rilievo.core.files.channel_preparation import MetadataOverrides
from rilievo.core.files.sample_parts import Part
from rilievo.core.image.image import Lane
from rilievo.core.method.method import Method, digest
from rilievo.core.method.signal_flags import marks_of
from rilievo.core.regions import RegionFacts
from rilievo.core.study.history import HistoryEntry, changes_as_text, changes_from_text
from rilievo.core.study.report_options import ReportOptions
from rilievo.core.study.study import OwnView, SampleEntry, StudyState
from rilievo.core.table.compartments import pair_columns
from rilievo.core.table.table import RegionTable
from rilievo.core.view.palettes import ViewStyle

SUFFIX = ".rilievo"
APPLICATION_ID = 0x52494C56  # “RILV”
SCHEMA_VERSION = 5

# Stands for all samples where a view is stored.
_ALL_SAMPLES = 0

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
) -> None:
    """Write the study file; the old one stays whole if that fails.

    tables : measurements by sample id. history : in the order of the changes.
    Raises FileUnreadable with the reason.
    """
    path = path.absolute()

    def fill(target: Path) -> None:
        with contextlib.closing(sqlite3.connect(target)) as database:
            _fill(database, state, path.parent, tables or {})
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
        ],
    )
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
                e.declared.model_dump_json(exclude_none=True),
                _json(dict(e.attributes)),
            )
            for i, e in enumerate(state.samples)
        ],
    )
    database.executemany(
        "INSERT INTO sample_part VALUES (?, ?, ?, ?, ?, ?)",
        [
            (
                e.id,
                i,
                _relative(part.path, folder),
                part.image,
                None if part.planes is None else _json(part.planes),
                part.channel,
            )
            for e in state.samples
            for i, part in enumerate(e.parts)
        ],
    )
    _fill_view(database, _ALL_SAMPLES, state)
    for sample_id, own in state.own_views.items():
        database.execute("INSERT INTO own_view VALUES (?)", (sample_id,))
        _fill_view(database, sample_id, own)
    ids = {entry.id for entry in state.samples}
    for sample_id, table in tables.items():
        if sample_id in ids:
            _fill_table(database, sample_id, table, _method_name(state.method, folder))


def _method_name(method: Method, folder: Path) -> str:
    """Name the part of a method on which measurements depend; the same after the study moved."""
    return digest(method.of_regions.to_json(folder))


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


def load_history(path: Path) -> tuple[HistoryEntry, ...]:
    """Return the history in a study file; files of older schemas have none. Raises StudyError."""
    path = path.absolute()
    with _opened(path) as database:
        _check_kind(database, path)
        if _version(database) < 3:
            return ()
        try:
            methods = {
                name: Method.from_json(text, path.parent)
                for name, text in database.execute("SELECT digest, method FROM history_method")
            }
        except MethodError as exc:
            raise StudyError(f"The history in “{path.name}” is not valid: {exc}") from exc
        return tuple(
            HistoryEntry(time, text, sample, changes_from_text(changes), methods[name])
            for time, text, sample, changes, name in database.execute(
                "SELECT time, text, sample, changes, method FROM history ORDER BY position"
            )
        )


def _json(value: object) -> str:
    return json.dumps(value, ensure_ascii=False)


def _fill_view(database: sqlite3.Connection, sample: int, view: StudyState | OwnView) -> None:
    database.executemany(
        "INSERT INTO display_range VALUES (?, ?, ?, ?, ?)",
        [(sample, channel, lane, *ends) for (channel, lane), ends in view.ranges.items()],
    )
    database.executemany(
        "INSERT INTO view_style VALUES (?, ?, ?)",
        [(sample, channel, style.model_dump_json()) for channel, style in view.styles.items()],
    )


def _facts_to_json(facts: RegionFacts) -> dict[str, Any]:
    return {name: value for name, value in vars(facts).items() if value and name != "drawn"}


def _or_null(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _fill_table(
    database: sqlite3.Connection, sample_id: int, table: RegionTable, method_digest: str
) -> None:
    database.execute(
        "INSERT INTO measured_sample VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            sample_id,
            json.dumps(table.classes, ensure_ascii=False),
            table.unit,
            json.dumps([_or_null(level) for level in table.thresholds]),
            table.image_pixels,
            json.dumps(table.channels, ensure_ascii=False),
            method_digest,
            json.dumps({k: _facts_to_json(v) for k, v in table.known.items()}, ensure_ascii=False),
            json.dumps({name: flags.tolist() for name, flags in table.flags.items()}),
            json.dumps(dict(table.units), ensure_ascii=False),
            table.image_width,
        ),
    )
    database.executemany(
        "INSERT INTO measurement VALUES (?, ?, ?, ?, ?)",
        (
            (sample_id, int(region), channel, key, _or_null(float(value)))
            for channel, columns in table.columns.items()
            for key, values in columns.items()
            for region, value in zip(table.ids, values, strict=True)
        ),
    )


def load_study(path: Path) -> tuple[StudyState, dict[int, RegionTable]]:
    """Read a study file: its state, and the measurements that were made with its method.

    Raises StudyError with the file's name, the reason and the remedy.
    """
    path = path.absolute()
    with _opened(path) as database:
        _check_kind(database, path)
        facts = dict(database.execute("SELECT key, value FROM study"))
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
            Question.model_validate_json(facts.get("question", "{}")),
            ReportOptions.model_validate_json(facts.get("report", "{}")),
        )
        return state, _load_tables(database, state, path.parent)


def _version(database: sqlite3.Connection) -> int:
    return int(database.execute("PRAGMA user_version").fetchone()[0])


def _load_entries(database: sqlite3.Connection, folder: Path) -> tuple[SampleEntry, ...]:
    old = _version(database) < 2
    parts: dict[int, list[Part]] = {}
    if not old:
        for sample, path, image, planes, channel in database.execute(
            "SELECT sample, path, image, planes, channel FROM sample_part ORDER BY sample, position"
        ):
            chosen = None if planes is None else tuple(str(name) for name in json.loads(planes))
            part = Part((folder / path).resolve(), image, chosen, channel)
            parts.setdefault(sample, []).append(part)
    further = "'{}', '{}'" if old else "declared, attributes"
    return tuple(
        SampleEntry(
            id=row[0],
            name=row[1],
            path=(folder / row[2]).resolve(),
            size=row[3],
            checksum=row[4],
            group=row[5],
            replicate=row[6],
            parts=tuple(parts.get(row[0], ())),
            declared=MetadataOverrides.model_validate_json(row[7]),
            attributes={str(k): str(v) for k, v in json.loads(row[8]).items()},
        )
        for row in database.execute(
            "SELECT id, name, path, size, sha256, sample_group, replicate, "  # noqa: S608 (two fixed texts)
            f"{further} FROM sample ORDER BY position"
        )
    )


def _load_views(database: sqlite3.Connection) -> dict[int, OwnView]:
    """Views by sample id; that of all samples under _ALL_SAMPLES."""
    old = _version(database) < 2
    who = str(_ALL_SAMPLES) if old else "sample"
    own = [] if old else [row[0] for row in database.execute("SELECT sample FROM own_view")]
    ranges: dict[int, dict[tuple[str, Lane], tuple[float, float]]] = {}
    styles: dict[int, dict[str, ViewStyle]] = {}
    for sample, channel, lane, low, high in database.execute(
        f"SELECT {who}, channel, lane, low, high FROM display_range"  # noqa: S608 (two fixed texts)
    ):
        ranges.setdefault(sample, {})[channel, lane] = (low, high)
    for sample, channel, text in database.execute(
        f"SELECT {who}, channel, style FROM view_style"  # noqa: S608 (two fixed texts)
    ):
        styles.setdefault(sample, {})[channel] = ViewStyle.model_validate_json(text)
    return {
        sample: OwnView(ranges.get(sample, {}), styles.get(sample, {}))
        for sample in {_ALL_SAMPLES, *own}
    }


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[sqlite3.Connection]:
    if not path.is_file():
        raise StudyError(f"“{path.name}” does not exist; look for it in {path.parent}.")
    try:
        with contextlib.closing(
            sqlite3.connect(f"{path.as_uri()}?mode=ro&immutable=1", uri=True)
        ) as database:
            yield database
    except (sqlite3.Error, KeyError, TypeError, ValueError) as exc:
        raise StudyError(
            f"“{path.name}” is damaged or no study ({exc}); open a copy of it, or the images again."
        ) from exc


def _check_kind(database: sqlite3.Connection, path: Path) -> None:
    application = database.execute("PRAGMA application_id").fetchone()[0]
    version = database.execute("PRAGMA user_version").fetchone()[0]
    if application != APPLICATION_ID:
        raise StudyError(f"“{path.name}” is not a Rilievo study; open a {SUFFIX} file.")
    if version > SCHEMA_VERSION:
        raise StudyError(
            f"“{path.name}” was saved by a newer Rilievo (schema {version}); update this one."
        )


def _load_tables(
    database: sqlite3.Connection, state: StudyState, folder: Path
) -> dict[int, RegionTable]:
    if int(database.execute("PRAGMA user_version").fetchone()[0]) < SCHEMA_VERSION:
        # What older versions measured has no marks of regions; it is measured again.
        return {}
    current = _method_name(state.method, folder)
    entries = {entry.id: entry for entry in state.samples}
    tables = {}
    for row in database.execute(
        "SELECT sample, class, unit, threshold, image_pixels, channels, method_digest, known, "
        "flags, units, image_width FROM measured_sample"
    ).fetchall():
        sample_id, classes, unit, levels, pixels, channels, made_with, known, flags, units, wide = (
            row
        )
        if made_with != current or sample_id not in entries:
            continue
        ids, columns = _load_columns(
            database, sample_id, json.loads(channels), state.method.measure.column_keys
        )
        entry = entries[sample_id]
        tables[sample_id] = RegionTable(
            sample=entry.name,
            file=entry.path.name,
            group=entry.group,
            classes=tuple(json.loads(classes)),
            ids=ids,
            columns=columns,
            unit=unit,
            thresholds=tuple(math.nan if v is None else v for v in json.loads(levels)),
            image_pixels=pixels,
            image_width=wide,
            marks={name: marks_of(state.method, entry.name, name) for name in columns},
            known={int(k): RegionFacts(**facts) for k, facts in json.loads(known).items()},
            flags={name: np.array(own, np.uint8) for name, own in json.loads(flags).items()},
            units=json.loads(units),
            derived=pair_columns(state.method.measure.pairs),
        )
    return tables


def _load_columns(
    database: sqlite3.Connection, sample_id: int, channels: Sequence[str], keys: Sequence[str]
) -> tuple[NDArray[np.int64], dict[str, dict[str, NDArray[np.float64]]]]:
    found: dict[tuple[str, str], dict[int, float]] = {}
    for channel, key, region, value in database.execute(
        "SELECT channel, quantity, region, value FROM measurement WHERE sample = ?",
        (sample_id,),
    ):
        found.setdefault((channel, key), {})[region] = math.nan if value is None else value
    ids = np.array(sorted({r for values in found.values() for r in values}), dtype=np.int64)
    return ids, {
        channel: {
            key: np.array(
                [found.get((channel, key), {}).get(int(region), math.nan) for region in ids],
                dtype=np.float64,
            )
            for key in keys
        }
        for channel in channels
    }

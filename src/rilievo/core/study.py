"""A study: samples, groups, method, display ranges; and its file with the measurements.

The state is immutable, so undo keeps old states. The file is one SQLite database that refers to
images by relative path, size and checksum; docs/file-formats.md describes it.
"""

from __future__ import annotations

import contextlib
import json
import math
import os
import sqlite3
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import MethodError, StudyError
from rilievo.core.files import sample_name
from rilievo.core.files.planes import unique_names
from rilievo.core.grouping import groups_for
from rilievo.core.method import Method, cannot_write, digest
from rilievo.core.palettes import ViewStyle
from rilievo.core.table import RegionTable

SUFFIX = ".rilievo"
APPLICATION_ID = 0x52494C56  # “RILV”
SCHEMA_VERSION = 1

Lane = Literal["native", "signal"]


@dataclass(frozen=True)
class SampleEntry:
    """A sample as the study knows it; its pixels stay in the file.

    id : names the sample within the study and never changes.
    """

    id: int
    name: str
    path: Path
    size: int = 0
    checksum: str = ""
    group: str = ""
    replicate: str = ""


@dataclass(frozen=True)
class StudyState:
    """Everything a study holds beside the measurements.

    ranges : (channel, lane) → display range, where it was set by hand. styles : channel → how
    it is shown, where it is not plain.
    """

    name: str = "Untitled study"
    samples: tuple[SampleEntry, ...] = ()
    method: Method = field(default_factory=Method)
    ranges: Mapping[tuple[str, Lane], tuple[float, float]] = field(default_factory=dict)
    styles: Mapping[str, ViewStyle] = field(default_factory=dict)

    def entry(self, sample_id: int) -> SampleEntry:
        """Return a sample by its id."""
        return next(entry for entry in self.samples if entry.id == sample_id)

    @property
    def groups(self) -> tuple[str, ...]:
        """Distinct groups in the order they first appear."""
        return tuple(dict.fromkeys(entry.group for entry in self.samples))

    def with_files(self, paths: Sequence[Path]) -> StudyState:
        """Return the study with files added, named, grouped, and put in order of group.

        A file that is in the study already is not added again.
        """
        known = {entry.path for entry in self.samples}
        new = [path for path in dict.fromkeys(p.absolute() for p in paths) if path not in known]
        names = unique_names([e.name for e in self.samples] + [sample_name(p) for p in new])
        next_id = max((entry.id for entry in self.samples), default=0) + 1
        added = [
            SampleEntry(next_id + i, name, path, _size(path), "", group, replicate)
            for i, (path, name, (group, replicate)) in enumerate(
                zip(new, names[len(self.samples) :], groups_for(new), strict=True)
            )
        ]
        return replace(self, samples=in_group_order((*self.samples, *added)))

    def without(self, sample_ids: Sequence[int]) -> StudyState:
        """Return the study without some samples and what the method says of them."""
        gone = {entry.name for entry in self.samples if entry.id in sample_ids}
        exceptions = {k: v for k, v in self.method.exceptions.items() if k not in gone}
        return replace(
            self,
            samples=tuple(entry for entry in self.samples if entry.id not in sample_ids),
            method=self.method.changed(exceptions=exceptions),
        )

    def with_groups(self, groups: Mapping[int, tuple[str, str]]) -> StudyState:
        """Return the study with group and replicate of some samples set."""
        changed = tuple(
            replace(entry, group=groups[entry.id][0], replicate=groups[entry.id][1])
            if entry.id in groups
            else entry
            for entry in self.samples
        )
        return replace(self, samples=in_group_order(changed))

    def with_entry(self, entry: SampleEntry) -> StudyState:
        """Return the study with one sample replaced."""
        return replace(self, samples=tuple(entry if e.id == entry.id else e for e in self.samples))


def in_group_order(entries: Sequence[SampleEntry]) -> tuple[SampleEntry, ...]:
    """Return samples of one group together, groups in the order they first appear."""
    order = {group: i for i, group in enumerate(dict.fromkeys(e.group for e in entries))}
    return tuple(sorted(entries, key=lambda entry: order[entry.group]))


def _size(path: Path) -> int:
    return path.stat().st_size if path.is_file() else 0


_SCHEMA = """
CREATE TABLE study (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE sample (
    id INTEGER PRIMARY KEY, position INTEGER NOT NULL, name TEXT NOT NULL UNIQUE,
    path TEXT NOT NULL, size INTEGER NOT NULL, sha256 TEXT NOT NULL,
    sample_group TEXT NOT NULL, replicate TEXT NOT NULL);
CREATE TABLE display_range (
    channel TEXT NOT NULL, lane TEXT NOT NULL CHECK (lane IN ('native', 'signal')),
    low REAL NOT NULL, high REAL NOT NULL, PRIMARY KEY (channel, lane));
CREATE TABLE view_style (channel TEXT PRIMARY KEY, style TEXT NOT NULL);
CREATE TABLE measured_sample (
    sample INTEGER PRIMARY KEY REFERENCES sample (id), class TEXT NOT NULL, unit TEXT NOT NULL,
    threshold REAL, image_pixels INTEGER NOT NULL, channels TEXT NOT NULL,
    method_digest TEXT NOT NULL);
CREATE TABLE measurement (
    sample INTEGER NOT NULL REFERENCES measured_sample (sample), region INTEGER NOT NULL,
    channel TEXT NOT NULL, quantity TEXT NOT NULL, value REAL,
    PRIMARY KEY (sample, channel, quantity, region)) WITHOUT ROWID;
"""


def save_study(
    state: StudyState, path: Path, tables: Mapping[int, RegionTable] | None = None
) -> None:
    """Write the study file; the old one stays whole if that fails.

    tables : measurements by sample id. Raises FileUnreadable with the reason.
    """
    path = path.absolute()
    temporary = ""
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        os.close(handle)
        with contextlib.closing(sqlite3.connect(temporary)) as database:
            _fill(database, state, path.parent, tables or {})
        with open(temporary, "rb") as file:  # noqa: PTH123
            os.fsync(file.fileno())
        os.chmod(temporary, 0o644)  # noqa: PTH101 (mkstemp makes it private)
        os.replace(temporary, path)  # noqa: PTH105
    except (OSError, sqlite3.Error) as exc:
        if temporary:
            Path(temporary).unlink(missing_ok=True)
        raise cannot_write(path, exc if isinstance(exc, OSError) else OSError(str(exc))) from exc


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
        [("name", state.name), ("method", state.method.to_json())],
    )
    database.executemany(
        "INSERT INTO sample VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (e.id, i, e.name, _relative(e.path, folder), e.size, e.checksum, e.group, e.replicate)
            for i, e in enumerate(state.samples)
        ],
    )
    database.executemany(
        "INSERT INTO display_range VALUES (?, ?, ?, ?)",
        [(channel, lane, *ends) for (channel, lane), ends in state.ranges.items()],
    )
    database.executemany(
        "INSERT INTO view_style VALUES (?, ?)",
        [(channel, style.model_dump_json()) for channel, style in state.styles.items()],
    )
    ids = {entry.id for entry in state.samples}
    for sample_id, table in tables.items():
        if sample_id in ids:
            _fill_table(database, sample_id, table, digest(state.method))
    database.commit()


def _or_null(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _fill_table(
    database: sqlite3.Connection, sample_id: int, table: RegionTable, method_digest: str
) -> None:
    database.execute(
        "INSERT INTO measured_sample VALUES (?, ?, ?, ?, ?, ?, ?)",
        (
            sample_id,
            table.region_class,
            table.unit,
            _or_null(table.threshold),
            table.image_pixels,
            json.dumps(table.channels, ensure_ascii=False),
            method_digest,
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
        entries = tuple(
            SampleEntry(
                id=row[0],
                name=row[1],
                path=(path.parent / row[2]).resolve(),
                size=row[3],
                checksum=row[4],
                group=row[5],
                replicate=row[6],
            )
            for row in database.execute(
                "SELECT id, name, path, size, sha256, sample_group, replicate FROM sample "
                "ORDER BY position"
            )
        )
        ranges = {
            (channel, lane): (low, high)
            for channel, lane, low, high in database.execute(
                "SELECT channel, lane, low, high FROM display_range"
            )
        }
        styles = {
            channel: ViewStyle.model_validate_json(text)
            for channel, text in database.execute("SELECT channel, style FROM view_style")
        }
        try:
            method = Method.from_json(facts["method"])
        except MethodError as exc:
            raise StudyError(f"The method in “{path.name}” is not valid: {exc}") from exc
        state = StudyState(facts["name"], entries, method, ranges, styles)
        return state, _load_tables(database, state)


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


def _load_tables(database: sqlite3.Connection, state: StudyState) -> dict[int, RegionTable]:
    current = digest(state.method)
    entries = {entry.id: entry for entry in state.samples}
    tables = {}
    for sample_id, region_class, unit, threshold, pixels, channels, made_with in database.execute(
        "SELECT sample, class, unit, threshold, image_pixels, channels, method_digest "
        "FROM measured_sample"
    ).fetchall():
        if made_with != current or sample_id not in entries:
            continue
        ids, columns = _load_columns(
            database, sample_id, json.loads(channels), state.method.measure.quantities
        )
        entry = entries[sample_id]
        tables[sample_id] = RegionTable(
            sample=entry.name,
            file=entry.path.name,
            group=entry.group,
            region_class=region_class,
            ids=ids,
            columns=columns,
            unit=unit,
            threshold=math.nan if threshold is None else threshold,
            image_pixels=pixels,
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

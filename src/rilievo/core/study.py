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
from rilievo.core.files.parts import Part
from rilievo.core.files.planes import unique_names
from rilievo.core.intake import Proposal, propose
from rilievo.core.method import Method, cannot_write, checked_copy, digest
from rilievo.core.palettes import ViewStyle
from rilievo.core.reading import Declared
from rilievo.core.table import RegionTable

SUFFIX = ".rilievo"
APPLICATION_ID = 0x52494C56  # “RILV”
SCHEMA_VERSION = 2

Lane = Literal["native", "signal"]

# Stands for all samples where a view is stored.
_ALL_SAMPLES = 0


@dataclass(frozen=True)
class SampleEntry:
    """A sample as the study knows it; its pixels stay in the file.

    id : names the sample within the study and never changes. path : its first file. parts : what
    it is made of, when it is more or less than that file. declared : what stands in place of what
    the file says. attributes : dose, hours, filter …; those of the file come with its pixels.
    """

    id: int
    name: str
    path: Path
    size: int = 0
    checksum: str = ""
    group: str = ""
    replicate: str = ""
    parts: tuple[Part, ...] = ()
    declared: Declared = field(default_factory=Declared)
    attributes: Mapping[str, str] = field(default_factory=dict)

    @property
    def sources(self) -> tuple[Part, ...]:
        """What the sample is made of."""
        return self.parts or (Part(self.path),)


@dataclass(frozen=True)
class OwnView:
    """How one sample is shown when it is not shown as the others; keys as in StudyState."""

    ranges: Mapping[tuple[str, Lane], tuple[float, float]] = field(default_factory=dict)
    styles: Mapping[str, ViewStyle] = field(default_factory=dict)


@dataclass(frozen=True)
class StudyState:
    """Everything a study holds beside the measurements.

    ranges : (channel, lane) → display range, where it was set by hand. styles : channel → how
    it is shown, where it is not plain. own_views : sample id → how that sample alone is shown.
    """

    name: str = "Untitled study"
    samples: tuple[SampleEntry, ...] = ()
    method: Method = field(default_factory=Method)
    ranges: Mapping[tuple[str, Lane], tuple[float, float]] = field(default_factory=dict)
    styles: Mapping[str, ViewStyle] = field(default_factory=dict)
    own_views: Mapping[int, OwnView] = field(default_factory=dict)

    def range_of(
        self, sample_id: int | None, channel: str, lane: Lane
    ) -> tuple[float, float] | None:
        """Return the display range set by hand for a sample, or for all; None for none."""
        own = self.own_views.get(sample_id) if sample_id is not None else None
        return (self if own is None else own).ranges.get((channel, lane))

    def style_of(self, sample_id: int | None, channel: str) -> ViewStyle:
        """Return how a channel of a sample is shown."""
        own = self.own_views.get(sample_id) if sample_id is not None else None
        return (self if own is None else own).styles.get(channel, ViewStyle())

    def with_view(
        self,
        sample_id: int | None,
        channel: str,
        *,
        display: tuple[Lane, tuple[float, float] | None] | None = None,
        style: ViewStyle | None = None,
    ) -> StudyState:
        """Return the study with the view of a channel changed, where the sample has its own, there.

        display : lane and range; a range of None is the automatic one again.
        """
        own = self.own_views.get(sample_id) if sample_id is not None else None
        place: StudyState | OwnView = self if own is None else own
        ranges, styles = dict(place.ranges), dict(place.styles)
        if display is not None:
            lane, ends = display
            ranges.pop((channel, lane), None)
            if ends is not None:
                ranges[channel, lane] = ends
        if style is not None:
            styles.pop(channel, None)
            if style != ViewStyle():
                styles[channel] = style
        if own is None or sample_id is None:
            return replace(self, ranges=ranges, styles=styles)
        return self.with_own_view(sample_id, OwnView(ranges, styles))

    def with_own_view(self, sample_id: int, view: OwnView | None) -> StudyState:
        """Return the study with a sample shown in its own way, or for None as the others."""
        own = {key: kept for key, kept in self.own_views.items() if key != sample_id}
        if view is not None:
            own[sample_id] = view
        return replace(self, own_views=own)

    def as_shown(self, view: OwnView) -> StudyState:
        """Return the study with all samples shown in one way, and none in its own."""
        return replace(self, ranges=view.ranges, styles=view.styles, own_views={})

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
        return self.with_proposals(propose(new))

    def with_proposals(self, proposals: Sequence[Proposal]) -> StudyState:
        """Return the study with samples added as they were proposed, names made unique.

        A sample of the very same parts is not added again.
        """
        known = {entry.sources for entry in self.samples}
        fresh = [(p, _absolute(p.parts)) for p in proposals]
        new = [(p, parts) for p, parts in fresh if parts not in known]
        names = unique_names([e.name for e in self.samples] + [p.name for p, _ in new])
        next_id = max((entry.id for entry in self.samples), default=0) + 1
        added = [
            SampleEntry(
                id=next_id + i,
                name=name,
                path=parts[0].path,
                size=sum(_size(part.path) for part in parts),
                group=proposal.group,
                replicate=proposal.replicate,
                parts=() if parts == (Part(parts[0].path),) else parts,
                attributes=dict(proposal.attributes),
            )
            for i, ((proposal, parts), name) in enumerate(
                zip(new, names[len(self.samples) :], strict=True)
            )
        ]
        return replace(self, samples=in_group_order((*self.samples, *added)))

    def with_declared(self, sample_ids: Sequence[int], **fields: object) -> StudyState:
        """Return the study with something declared of some samples. Raises MethodError."""
        changed = {
            entry.id: replace(entry, declared=checked_copy(entry.declared, **fields))
            for entry in self.samples
            if entry.id in sample_ids
        }
        return replace(self, samples=tuple(changed.get(e.id, e) for e in self.samples))

    def without(self, sample_ids: Sequence[int]) -> StudyState:
        """Return the study without some samples and what the method says of them."""
        gone = {entry.name for entry in self.samples if entry.id in sample_ids}
        exceptions = {k: v for k, v in self.method.exceptions.items() if k not in gone}
        picks = tuple(pick for pick in self.method.picks if pick.sample not in gone)
        return replace(
            self,
            samples=tuple(entry for entry in self.samples if entry.id not in sample_ids),
            method=self.method.changed(exceptions=exceptions, picks=picks),
            own_views={k: v for k, v in self.own_views.items() if k not in sample_ids},
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


def _absolute(parts: Sequence[Part]) -> tuple[Part, ...]:
    return tuple(replace(part, path=part.path.absolute()) for part in parts)


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
            _fill_table(database, sample_id, table, digest(state.method.of_regions))
    database.commit()


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
        entries = _load_entries(database, path.parent)
        views = _load_views(database)
        try:
            method = Method.from_json(facts["method"])
        except MethodError as exc:
            raise StudyError(f"The method in “{path.name}” is not valid: {exc}") from exc
        common = views.pop(_ALL_SAMPLES, OwnView())
        state = StudyState(facts["name"], entries, method, common.ranges, common.styles, views)
        return state, _load_tables(database, state)


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
            declared=Declared.model_validate_json(row[7]),
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


def _load_tables(database: sqlite3.Connection, state: StudyState) -> dict[int, RegionTable]:
    current = digest(state.method.of_regions)
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

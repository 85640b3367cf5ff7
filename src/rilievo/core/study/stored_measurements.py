"""Measurements in a study file: a row for each sample, and one for each number."""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.files.sample_parts import files_of_channels
from rilievo.core.method.method import Method, digest
from rilievo.core.method.signal_flags import marks_of
from rilievo.core.regions import RegionAnnotation
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_rows import MeasuredRow, checked
from rilievo.core.table.compartments import pair_columns
from rilievo.core.table.table import RegionTable


def method_name(method: Method, folder: Path) -> str:
    """Name the part of a method on which measurements depend; the same after the study moved."""
    return digest(method.of_regions.to_json(folder))


def fill_table(
    database: sqlite3.Connection, sample_id: int, table: RegionTable, method_digest: str
) -> None:
    """Write the measurements of a sample. method_digest : names what made them."""
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


def load_tables(
    database: sqlite3.Connection,
    state: StudyState,
    folder: Path,
    report: Callable[[float], None],
) -> dict[int, RegionTable]:
    """Return the measurements that were made with the present method, by sample id.

    folder : of the study file. report : takes the fraction that is read, and may raise Cancelled.
    Raises ValueError for what is damaged.
    """
    current = method_name(state.method, folder)
    entries = {entry.id: entry for entry in state.samples}
    tables = {}
    rows = database.execute(
        "SELECT sample, class, unit, threshold, image_pixels, channels, method_digest, known, "
        "flags, units, image_width FROM measured_sample"
    ).fetchall()
    for done, values in enumerate(rows):
        report(done / len(rows))
        if values[6] != current or values[0] not in entries:
            continue
        entry = entries[values[0]]
        row = checked(MeasuredRow, values, f"the measurements of “{entry.name}”")
        ids, columns = _load_columns(
            database, row.sample, row.channels, state.method.measure.column_keys
        )
        tables[row.sample] = RegionTable(
            sample=entry.name,
            file=entry.path.name,
            group=entry.group,
            classes=row.classes,
            ids=ids,
            columns=columns,
            unit=row.unit,
            thresholds=tuple(math.nan if v is None else v for v in row.thresholds),
            image_pixels=row.image_pixels,
            image_width=row.image_width,
            marks={name: marks_of(state.method, entry.name, name) for name in columns},
            known={k: RegionAnnotation(**facts.model_dump()) for k, facts in row.known.items()},
            flags=_flags(row, ids),
            units=row.units,
            derived=pair_columns(state.method.measure.pairs),
            files=files_of_channels(entry.sources, columns),
        )
    return tables


def _facts_to_json(facts: RegionAnnotation) -> dict[str, Any]:
    return {name: value for name, value in vars(facts).items() if value and name != "drawn"}


def _or_null(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _flags(row: MeasuredRow, ids: NDArray[np.int64]) -> dict[str, NDArray[np.uint8]]:
    if any(len(flags) != ids.size for flags in row.flags.values()):
        raise ValueError(f"the measurements of sample {row.sample} lack marks of regions")
    return {name: np.array(flags, np.uint8) for name, flags in row.flags.items()}


def _load_columns(
    database: sqlite3.Connection, sample_id: int, channels: Sequence[str], keys: Sequence[str]
) -> tuple[NDArray[np.int64], dict[str, dict[str, NDArray[np.float64]]]]:
    values_of: dict[tuple[str, str], dict[int, float]] = {}
    for channel, key, region, value in database.execute(
        "SELECT channel, quantity, region, value FROM measurement WHERE sample = ?",
        (sample_id,),
    ):
        values_of.setdefault((str(channel), str(key)), {})[int(region)] = (
            math.nan if value is None else float(value)
        )
    ids = np.array(sorted({r for values in values_of.values() for r in values}), dtype=np.int64)
    return ids, {
        channel: {
            key: np.array(
                [values_of.get((channel, key), {}).get(int(region), math.nan) for region in ids],
                dtype=np.float64,
            )
            for key in keys
        }
        for channel in channels
    }

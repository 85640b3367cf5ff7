"""What stands beside an exported table: how, when and from which files its numbers came."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from rilievo._version import __version__
from rilievo.core.image.image import DEFECT_KINDS
from rilievo.core.measure.region_flags import REGION_MARKS
from rilievo.core.method.method import Method, digest
from rilievo.core.method.signal_flags import MARKS
from rilievo.core.pipeline.checks import Check
from rilievo.core.pipeline.fingerprints import package_versions
from rilievo.core.table.table import RegionTable, has_length


def method_checksum(method: Method) -> str:
    """Return the name of all of a method on which measurements depend.

    Files stand in it by their names: moved to another folder, it is the same method.
    """
    measure = method.measure
    placed = method.of_regions.with_files(lambda file: Path(file).name)
    return digest(placed, *measure.derived, list(measure.comparison_stars))


def metadata_of(
    tables: Sequence[RegionTable],
    method: Method,
    files: Mapping[str, Sequence[tuple[str, str]]],
    when: datetime,
    checks: Iterable[Check] = (),
) -> dict[str, Any]:
    """Return the metadata of a table as plain values.

    files : sample → each of its files with its own SHA-256, as far as known. checks : of the
    samples, among which what is missing or damaged in their data is told.
    """
    keys = dict.fromkeys(key for table in tables for key in table.quantities)
    columns = []
    for key in keys:
        table = next(t for t in tables if key in t.quantities)
        quantity = table.quantity(key)
        columns.append(
            {
                "key": key,
                "title": quantity.title,
                "unit": quantity.unit_text(table.unit, _signal_units(table)),
                "definition": quantity.definition,
                "formula": quantity.formula,
                "source": quantity.source,
            }
        )
    return {
        "program": "Rilievo",
        "version": __version__,
        "date": when.isoformat(timespec="seconds"),
        "method": method.name,
        "method_checksum": method_checksum(method),
        "packages": package_versions(),
        "files": [
            {"sample": t.sample, "file": _beside(t.file, name), "sha256": checksum}
            for t in tables
            for name, checksum in files.get(t.sample, [(t.file, "")])
        ],
        "defects": [
            {"sample": c.sample, "kind": c.kind, "channel": c.channel, "text": c.text}
            for c in checks
            if c.kind in DEFECT_KINDS
        ],
        "attributes": {t.sample: dict(t.attributes) for t in tables if t.attributes},
        "length_units": sorted({t.unit for t in tables if has_length(t)}),
        "columns": columns,
        "marks": {**MARKS, **REGION_MARKS},
    }


def _beside(label: str, name: str) -> str:
    """A file's path below the folder that was given, as its sample's first one has it."""
    folder = label.rpartition("/")[0]
    return f"{folder}/{name}" if folder else name


def _signal_units(table: RegionTable) -> str:
    return " or ".join(sorted(set(table.units.values()))) or "counts"

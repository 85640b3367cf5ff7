"""What stands beside an exported table: how, when and from which files its numbers came."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from rilievo._version import __version__
from rilievo.core.measure.region_flags import REGION_MARKS
from rilievo.core.method.method import Method, digest
from rilievo.core.method.signal_flags import MARKS
from rilievo.core.table.table import RegionTable


def method_checksum(method: Method) -> str:
    """Return the name of all of a method on which measurements depend."""
    measure = method.measure
    return digest(method.of_regions, *measure.derived, list(measure.comparison_stars))


def metadata_of(
    tables: Sequence[RegionTable],
    method: Method,
    checksums: Mapping[str, str],
    when: datetime,
) -> dict[str, Any]:
    """Return the metadata of a table as plain values.

    checksums : sample → SHA-256 of its file, as far as known.
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
        "files": [
            {"sample": t.sample, "file": t.file, "sha256": checksums.get(t.sample, "")}
            for t in tables
        ],
        "columns": columns,
        "marks": {**MARKS, **REGION_MARKS},
    }


def _signal_units(table: RegionTable) -> str:
    return " or ".join(sorted(set(table.units.values()))) or "counts"

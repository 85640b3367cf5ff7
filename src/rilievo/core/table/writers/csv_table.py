"""CSV: every digit, in the shortest form that reads back to the same number."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rilievo.core.table.table import write_csv
from rilievo.core.table.writers.table_writer import table_writer

if TYPE_CHECKING:
    import pandas


@table_writer("csv", title="CSV", suffix=".csv", holds_metadata=False, order=10)
def write_csv_table(frame: pandas.DataFrame, path: Path, metadata: Mapping[str, Any]) -> None:  # noqa: ARG001
    """Write a table as UTF-8 CSV."""
    write_csv(frame, path)

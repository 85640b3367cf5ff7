"""CSV: every digit, in the shortest form that reads back to the same number."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.writers.table_writer import table_writer


@table_writer("csv", title="CSV", suffix=".csv", holds_metadata=False, order=10)
def write_csv_table(frame: ResultFrame, path: Path, metadata: Mapping[str, Any]) -> None:  # noqa: ARG001
    """Write a table as UTF-8 CSV."""
    frame.write_csv(path)

"""Parquet: columns with their types."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from rilievo.core.atomic_write import write_safely
from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.writers.table_writer import table_writer


@table_writer("parquet", title="Parquet", suffix=".parquet", holds_metadata=False, order=40)
def write_parquet_table(frame: ResultFrame, path: Path, metadata: Mapping[str, Any]) -> None:  # noqa: ARG001
    """Write the columns with their types, as programs that know DataFrames expect them."""
    write_safely(path, lambda target: write_parquet(frame, target))


def write_parquet(frame: ResultFrame, path: Path) -> None:
    """Write the columns with their types."""
    frame.to_pandas().to_parquet(path, engine="pyarrow", index=False)


def read_parquet(path: Path) -> ResultFrame:
    """Return what was written."""
    import pyarrow.parquet  # noqa: PLC0415 (slow to import)

    return ResultFrame(pyarrow.parquet.read_table(path).to_pydict())

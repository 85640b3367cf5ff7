"""Parquet: columns with their types."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rilievo.core.atomic_write import write_safely
from rilievo.core.table.writers.table_writer import table_writer

if TYPE_CHECKING:
    import pandas


@table_writer("parquet", title="Parquet", suffix=".parquet", holds_metadata=False, order=40)
def write_parquet_table(frame: pandas.DataFrame, path: Path, metadata: Mapping[str, Any]) -> None:  # noqa: ARG001
    """Write the columns with their types."""
    write_safely(path, lambda target: frame.to_parquet(target, engine="pyarrow", index=False))

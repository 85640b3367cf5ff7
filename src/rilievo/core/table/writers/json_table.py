"""JSON: the rows, and the metadata under a key."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rilievo.core.atomic_write import write_text_safely
from rilievo.core.table.writers.table_writer import table_writer

if TYPE_CHECKING:
    import pandas


@table_writer("json", title="JSON", suffix=".json", holds_metadata=True, order=30)
def write_json_table(frame: pandas.DataFrame, path: Path, metadata: Mapping[str, Any]) -> None:
    """Write the rows as objects; undefined numbers are null."""
    plain = frame.astype(object)
    rows = plain.where(plain.notna(), None).to_dict("records")
    body = {"metadata": dict(metadata), "rows": rows}
    write_text_safely(path, json.dumps(body, indent=1, ensure_ascii=False) + "\n")

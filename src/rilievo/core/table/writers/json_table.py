"""JSON: the rows, and the metadata under a key."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from rilievo.core.atomic_write import write_text_safely
from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.writers.table_writer import table_writer


@table_writer("json", title="JSON", suffix=".json", holds_metadata=True, order=30)
def write_json_table(frame: ResultFrame, path: Path, metadata: Mapping[str, Any]) -> None:
    """Write the rows as objects; undefined numbers are null."""
    rows = [
        {name: None if value != value else value for name, value in row.items()}  # noqa: PLR0124 (NaN)
        for row in frame.records()
    ]
    body = {"metadata": dict(metadata), "rows": rows}
    write_text_safely(path, json.dumps(body, indent=1, ensure_ascii=False) + "\n")

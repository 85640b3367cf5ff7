"""Excel (Office Open XML): the metadata in sheets of their own."""

from __future__ import annotations

from collections.abc import Mapping
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rilievo.core.atomic_write import write_bytes_safely
from rilievo.core.errors import FileUnreadable
from rilievo.core.table.table import safe_texts
from rilievo.core.table.writers.table_writer import table_writer

if TYPE_CHECKING:
    import pandas

# A sheet of the Office Open XML format has no more rows.
MOST_SHEET_ROWS = 1_048_576


@table_writer("excel", title="Excel", suffix=".xlsx", holds_metadata=True, order=20)
def write_excel_table(frame: pandas.DataFrame, path: Path, metadata: Mapping[str, Any]) -> None:
    """Write a table as a sheet, with the metadata in further sheets."""
    import pandas  # noqa: PLC0415 (slow to import)

    if len(frame) >= MOST_SHEET_ROWS:
        raise FileUnreadable(
            path,
            f"has {len(frame)} rows, more than a sheet holds ({MOST_SHEET_ROWS - 1})",
            "save it as Parquet or CSV",
        )
    plain = [
        (name, "" if isinstance(value, (list, dict)) else value) for name, value in metadata.items()
    ]
    sheets = {
        "measurements": safe_texts(frame),
        "metadata": safe_texts(pandas.DataFrame(plain, columns=["name", "value"])),
        "columns": safe_texts(pandas.DataFrame(metadata.get("columns", []))),
        "defects": safe_texts(pandas.DataFrame(metadata.get("defects", []))),
        "files": safe_texts(pandas.DataFrame(metadata.get("files", []))),
        "marks": safe_texts(
            pandas.DataFrame(list(metadata.get("marks", {}).items()), columns=["mark", "meaning"])
        ),
    }

    # In memory first: on a full disk the library would leave its archive half closed.
    content = BytesIO()
    with pandas.ExcelWriter(content, engine="openpyxl") as book:
        for name, sheet in sheets.items():
            sheet.to_excel(book, sheet_name=name, index=False, freeze_panes=(1, 0))
    write_bytes_safely(path, content.getvalue())

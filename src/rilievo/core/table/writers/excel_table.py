"""Excel (Office Open XML): the metadata in sheets of their own."""

from __future__ import annotations

from collections.abc import Mapping
from io import BytesIO
from pathlib import Path
from typing import Any

from rilievo.core.atomic_write import write_bytes_safely
from rilievo.core.errors import FileUnreadable
from rilievo.core.result_frame import ResultFrame, neutralised
from rilievo.core.table.writers.table_writer import table_writer

# A sheet of the Office Open XML format has no more rows.
MOST_SHEET_ROWS = 1_048_576


@table_writer("excel", title="Excel", suffix=".xlsx", holds_metadata=True, order=20)
def write_excel_table(frame: ResultFrame, path: Path, metadata: Mapping[str, Any]) -> None:
    """Write a table as a sheet, with the metadata in further sheets."""
    from openpyxl import Workbook  # noqa: PLC0415 (slow to import)

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
        "measurements": frame,
        "metadata": ResultFrame.of_rows(("name", "value"), plain),
        "columns": ResultFrame.of_records(metadata.get("columns", [])),
        "defects": ResultFrame.of_records(metadata.get("defects", [])),
        "files": ResultFrame.of_records(metadata.get("files", [])),
        "marks": ResultFrame.of_rows(("mark", "meaning"), list(metadata.get("marks", {}).items())),
    }
    book = Workbook(write_only=True)
    for name, sheet in sheets.items():
        page = book.create_sheet(name)
        page.freeze_panes = "A2"
        page.append([neutralised(heading) for heading in sheet.names])
        for row in sheet.rows():
            page.append([_cell(value) for value in row])
    # In memory first: on a full disk the library would leave its archive half closed.
    content = BytesIO()
    book.save(content)
    write_bytes_safely(path, content.getvalue())


def _cell(value: Any) -> Any:
    """A value as a cell holds it: undefined numbers are empty."""
    if isinstance(value, str):
        return neutralised(value)
    return None if value != value else value  # noqa: PLR0124 (NaN)

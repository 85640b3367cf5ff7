"""Tables as files: CSV, Excel, JSON and Parquet, long or wide, with their metadata.

CSV and Parquet have the metadata in a file of their own beside them, Excel in a second sheet, JSON
under a key. Texts that a spreadsheet would run as a formula get an apostrophe in front.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rilievo.core.atomic_write import write_safely, write_text_safely
from rilievo.core.errors import FileUnreadable
from rilievo.core.table.table import IDENTITY_COLUMNS, safe_texts, write_csv

if TYPE_CHECKING:
    import pandas

Write = Callable[["pandas.DataFrame", Path, Mapping[str, Any]], None]

# A sheet of the Office Open XML format has no more rows.
MOST_SHEET_ROWS = 1_048_576


@dataclass(frozen=True)
class TableFormat:
    """One kind of table file. beside : whether the metadata is a file of its own."""

    suffix: str
    title: str
    write: Write
    beside: bool


def _csv(frame: pandas.DataFrame, path: Path, _: Mapping[str, Any]) -> None:
    write_csv(frame, path)


def _excel(frame: pandas.DataFrame, path: Path, metadata: Mapping[str, Any]) -> None:
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
        "files": safe_texts(pandas.DataFrame(metadata.get("files", []))),
        "marks": safe_texts(
            pandas.DataFrame(list(metadata.get("marks", {}).items()), columns=["mark", "meaning"])
        ),
    }

    def fill(target: Path) -> None:
        with pandas.ExcelWriter(target, engine="openpyxl") as book:
            for name, sheet in sheets.items():
                sheet.to_excel(book, sheet_name=name, index=False, freeze_panes=(1, 0))

    write_safely(path, fill)


def _json(frame: pandas.DataFrame, path: Path, metadata: Mapping[str, Any]) -> None:
    plain = frame.astype(object)
    rows = plain.where(plain.notna(), None).to_dict("records")
    body = {"metadata": dict(metadata), "rows": rows}
    write_text_safely(path, json.dumps(body, indent=1, ensure_ascii=False) + "\n")


def _parquet(frame: pandas.DataFrame, path: Path, _: Mapping[str, Any]) -> None:
    write_safely(path, lambda target: frame.to_parquet(target, engine="pyarrow", index=False))


FORMATS: dict[str, TableFormat] = {
    one.suffix: one
    for one in (
        TableFormat(".csv", "CSV", _csv, beside=True),
        TableFormat(".xlsx", "Excel", _excel, beside=False),
        TableFormat(".json", "JSON", _json, beside=False),
        TableFormat(".parquet", "Parquet", _parquet, beside=True),
    )
}


def wide(frame: pandas.DataFrame) -> pandas.DataFrame:
    """Return one row per sample and region, with a column “channel: quantity” for each channel.

    Marks are per channel too.
    """
    import pandas  # noqa: PLC0415 (slow to import)

    shared = [n for n in IDENTITY_COLUMNS if n not in ("channel", "marks")]
    channels = list(dict.fromkeys(frame["channel"]))
    if not channels:
        return frame.drop(columns=["channel"])
    # What is known of regions beside numbers is the same on all channels.
    numbers = [
        n
        for n in frame.columns
        if n == "marks" or (n not in IDENTITY_COLUMNS and _differs(frame, n))
    ]
    facts = [n for n in frame.columns if n not in (*IDENTITY_COLUMNS, *numbers)]
    # A region has a row for each channel; the row number within a channel tells regions apart.
    keys = frame[shared].copy()
    parts = [frame.loc[frame["channel"] == channels[0], [*shared, *facts]].reset_index(drop=True)]
    base = pandas.MultiIndex.from_frame(keys.loc[frame["channel"] == channels[0]])
    for channel in channels:
        rows = frame["channel"] == channel
        part = frame.loc[rows, numbers].set_axis(
            pandas.MultiIndex.from_frame(keys.loc[rows]), axis=0
        )
        part = part.reindex(base).reset_index(drop=True)
        parts.append(part.rename(columns=lambda name, channel=channel: f"{channel}: {name}"))
    joined: pandas.DataFrame = pandas.concat(parts, axis=1)
    return joined


def _differs(frame: pandas.DataFrame, name: str) -> bool:
    return frame[name].dtype.kind in "if" and name not in ("parent", "children")


def metadata_path(path: Path) -> Path:
    """Return where the metadata of a table file stands that has no place for it."""
    return path.with_name(f"{path.stem}.metadata.json")


def write_table(frame: pandas.DataFrame, path: Path, metadata: Mapping[str, Any]) -> list[Path]:
    """Write a table in the format of its suffix; return the files that were written.

    Raises FileUnreadable for a suffix that is not known or a place that cannot be written to.
    """
    kind = FORMATS.get(path.suffix.lower())
    if kind is None:
        raise FileUnreadable(
            path, "has an ending that names no kind of table", f"use {', '.join(FORMATS)}"
        )
    kind.write(frame, path, metadata)
    if not kind.beside:
        return [path]
    beside = metadata_path(path)
    write_text_safely(beside, json.dumps(metadata, indent=1, ensure_ascii=False) + "\n")
    return [path, beside]

"""Tables as files, long or wide, with their metadata; the kinds of files are in `writers`.

CSV and Parquet have the metadata in a file of their own beside them, Excel in a second sheet, JSON
under a key. Texts that a spreadsheet would run as a formula get an apostrophe in front.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rilievo.core.atomic_write import write_text_safely
from rilievo.core.table.table import IDENTITY_COLUMNS
from rilievo.core.table.writers import writer_for

if TYPE_CHECKING:
    import pandas


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

    Raises FileUnreadable for a suffix that is not known or a folder that cannot be written to.
    """
    writer = writer_for(path)
    writer.write(frame, path, metadata)
    if writer.holds_metadata:
        return [path]
    return [path, write_metadata(path, metadata)]


def write_metadata(path: Path, metadata: Mapping[str, Any]) -> Path:
    """Write the metadata of a table file into one of their own beside it; return where."""
    beside = metadata_path(path)
    write_text_safely(beside, json.dumps(metadata, indent=1, ensure_ascii=False) + "\n")
    return beside

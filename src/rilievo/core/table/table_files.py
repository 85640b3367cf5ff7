"""Tables as files, long or wide, with their metadata; the kinds of files are in `writers`.

CSV and Parquet have the metadata in a file of their own beside them, Excel in a second sheet, JSON
under a key. Texts that a spreadsheet would run as a formula get an apostrophe in front.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from rilievo.core.atomic_write import write_text_safely
from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.table import IDENTITY_COLUMNS
from rilievo.core.table.writers import writer_for


def wide(frame: ResultFrame) -> ResultFrame:
    """Return one row per sample and region, with a column “channel: quantity” for each channel.

    Marks are per channel too, and so are files where a sample is made of several.
    """
    channels = list(dict.fromkeys(frame["channel"]))
    if not channels:
        return frame.chosen([name for name in frame.names if name != "channel"])
    regions: dict[tuple[Any, ...], dict[str, int]] = {}
    keys = zip(frame["sample"], frame["class"], frame["region"], strict=True)
    for position, (key, channel) in enumerate(zip(keys, frame["channel"], strict=True)):
        regions.setdefault(key, {})[channel] = position
    rows = [places for places in regions.values() if channels[0] in places]
    files = frame["file"]
    one_file = all(len({files[k] for k in places.values()}) == 1 for places in rows)
    # What is known of regions beside numbers is the same on all channels.
    differing = [
        name
        for name in frame.names
        if name == "marks"
        or (name == "file" and not one_file)
        or (name not in (*IDENTITY_COLUMNS, "parent", "children") and frame.is_numeric(name))
    ]
    shared = [name for name in frame.names if name not in ("channel", *differing)]
    first_rows = frame.taken([places[channels[0]] for places in rows])
    columns = {name: first_rows[name] for name in shared}
    for channel in channels:
        for name in differing:
            values = frame[name]
            columns[f"{channel}: {name}"] = [
                values[places[channel]] if channel in places else None for places in rows
            ]
    return ResultFrame(columns)


def metadata_path(path: Path) -> Path:
    """Return where the metadata of a table file stands that has no place for it."""
    return path.with_name(f"{path.stem}.metadata.json")


def write_table(frame: ResultFrame, path: Path, metadata: Mapping[str, Any]) -> list[Path]:
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

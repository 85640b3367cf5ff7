"""Groups and attributes of samples from a table, and whether its rows fit the files."""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from rilievo.cli.console import say

if TYPE_CHECKING:
    from rilievo.core.files.sample_ref import SampleRef

# What stands under “file” → the row.
SampleSheet = dict[str, dict[str, str]]


def read_sample_sheet(path: Path) -> SampleSheet:
    """Return the rows of a CSV with the columns file and group. Raises a FileError."""
    from rilievo.core.errors import FileMissing, FileUnreadable  # noqa: PLC0415

    try:
        with path.open(newline="", encoding="utf-8-sig") as file:
            rows = list(csv.DictReader(file))
    except FileNotFoundError as exc:
        raise FileMissing(path, "does not exist", "choose a CSV file") from exc
    except (OSError, UnicodeDecodeError, csv.Error) as exc:
        raise FileUnreadable(path, f"cannot be read ({exc})", "choose a CSV file") from exc
    if not rows or not {"file", "group"} <= set(rows[0]):
        raise FileUnreadable(
            path, "has no columns “file” and “group”", "put both into its first line"
        )
    often = Counter(str(row["file"]) for row in rows)
    twice, times = often.most_common(1)[0]
    if times > 1:
        raise FileUnreadable(path, f"names “{twice}” twice", "keep one row a file")
    return {str(row["file"]): {str(k): str(v or "") for k, v in row.items() if k} for row in rows}


def match_rows(items: Sequence[SampleRef], given: SampleSheet) -> tuple[list[SampleRef], list[str]]:
    """Return the items with groups and attributes of their rows, and what does not fit, said.

    A row fits the file of which it names the path below the folder that was given; or the file's
    name, or the sample's, where only one file has it.
    """
    by_name: dict[str, list[int]] = {}
    for index, item in enumerate(items):
        for name in {item.label, item.path.name, item.name}:
            by_name.setdefault(name, []).append(index)
    labels = {item.label: index for index, item in enumerate(items)}
    rows: dict[int, dict[str, str]] = {}
    problems = []
    for name, row in given.items():
        indices = [labels[name]] if name in labels else by_name.get(name, [])
        if len(indices) == 1:
            rows[indices[0]] = row
        elif indices:
            files = ", ".join(items[k].label for k in indices)
            problems.append(f"the row “{name}” fits several files ({files}); name the path of one")
        else:
            problems.append(f"no file fits the row “{name}”")
    without = [item.label for index, item in enumerate(items) if index not in rows]
    if without:
        more = f" and {len(without) - 5} more" if len(without) > 5 else ""
        problems.append(f"no row names {', '.join(without[:5])}{more}")
    result = []
    for index, item in enumerate(items):
        own = rows.get(index)
        if own is not None:
            attributes = {k: v for k, v in own.items() if k not in ("file", "group") and v}
            attributes = {**item.attributes, **attributes}
            item = replace(item, group=own.get("group", item.group), attributes=attributes)  # noqa: PLW2901
        result.append(item)
    return result, problems


def apply_sample_sheet(
    items: list[SampleRef], given: SampleSheet, rows_told: set[str]
) -> list[SampleRef]:
    """Return the items with what a table says of them; say what does not fit, once.

    rows_told : what was said already.
    """
    if not given:
        return items
    items, unfitting = match_rows(items, given)
    for text in unfitting:
        if text not in rows_told:
            say(f"rilievo: {text}")
    rows_told.update(unfitting)
    return items

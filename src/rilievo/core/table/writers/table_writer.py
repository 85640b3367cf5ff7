"""What a kind of table file is, and the registry of all of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

from rilievo.core.errors import FileUnreadable
from rilievo.core.registry import Registry
from rilievo.core.result_frame import ResultFrame

Write = Callable[[ResultFrame, Path, Mapping[str, Any]], None]


@dataclass(frozen=True)
class TableWriter:
    """One kind of table file.

    suffix : of the file's name, with its dot. write : (table, path, metadata) writes the file
    whole or not at all. holds_metadata : whether it has a place for the metadata; otherwise they
    stand in a file of their own beside it.
    """

    key: str
    title: str
    suffix: str
    write: Write
    holds_metadata: bool


WRITERS: Registry[TableWriter] = Registry(
    "table writer", "rilievo.core.table.writers", "rilievo.writers"
)

Writing = TypeVar("Writing", bound=Write)


def table_writer(
    key: str, *, title: str, suffix: str, holds_metadata: bool, order: float | None = None
) -> Callable[[Writing], Writing]:
    """Register the decorated function, see `TableWriter`. order : where it stands in lists."""

    def register(write: Writing) -> Writing:
        WRITERS.add(key, TableWriter(key, title, suffix, write, holds_metadata), order)
        return write

    return register


def writer_for(path: Path) -> TableWriter:
    """Return the writer for the ending of a name. Raises FileUnreadable when there is none."""
    for writer in WRITERS.values():
        if writer.suffix == path.suffix.lower():
            return writer
    endings = ", ".join(writer.suffix for writer in WRITERS.values())
    raise FileUnreadable(path, "has an ending that names no kind of table", f"use {endings}")

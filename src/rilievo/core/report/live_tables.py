"""Tables that grow while a folder is watched: rows are added at the end of the files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rilievo.core.atomic_write import cannot_write
from rilievo.core.batch import Outcome, measured
from rilievo.core.method.method import Method
from rilievo.core.pipeline.shared_threshold import pooled_classes
from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.derived_columns import refers_to_others, with_derived
from rilievo.core.table.summaries import sample_frame
from rilievo.core.table.table import region_frame

# So much of a file holds its heading.
_HEAD_BYTES = 1 << 20


def stands_alone(method: Method) -> bool:
    """Whether what is measured of a sample does not depend on other samples."""
    return not pooled_classes(method) and not refers_to_others(method.measure.derived)


def add_rows(outcomes: Sequence[Outcome], method: Method, folder: Path) -> bool:
    """Add the rows of samples to regions.csv and samples.csv, whatever is in these already.

    Return False, with nothing written, where a file is missing or has other columns, so that all
    of it must be written anew. The other files of a run stay as they are.
    Raises FileUnreadable.
    """
    tables = with_derived(measured(outcomes), method.measure.derived)
    if not tables:
        return True
    frames = {"regions.csv": region_frame(tables), "samples.csv": sample_frame(tables)}
    if not all(_has_columns(folder / name, frame) for name, frame in frames.items()):
        return False
    for name, frame in frames.items():
        path = folder / name
        try:
            with path.open("a", encoding="utf-8", newline="") as file:
                file.write(frame.csv_text(header=False))
        except OSError as exc:
            raise cannot_write(path, exc) from exc
    return True


def _has_columns(path: Path, frame: ResultFrame) -> bool:
    """Whether a file has just the columns of a table, and ends with a whole row."""
    heading = frame.taken([]).csv_text().encode()
    try:
        with path.open("rb") as file:
            head = file.read(min(len(heading), _HEAD_BYTES))
            file.seek(-1, 2)
            return head == heading and file.read(1) == b"\n"
    except OSError:
        return False

"""The tables of a run with very many samples, written as their results are read.

Only what the comparison and the report need of each sample stays in memory, and what many samples
have in common once; the regions go into a folder of Parquet files, a part for some thousand
samples, and into regions.csv. A reader of Parquet datasets takes the folder as one table.
"""

from __future__ import annotations

import shutil
from collections.abc import Hashable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from rilievo.core.atomic_write import cannot_write
from rilievo.core.batch import Outcome, measured
from rilievo.core.method.method import Method
from rilievo.core.regions import RegionAnnotation
from rilievo.core.result_frame import ResultFrame, write_parts
from rilievo.core.study.report_options import ReportOptions
from rilievo.core.table.derived_columns import refers_to_others, with_derived
from rilievo.core.table.summaries import sample_frame
from rilievo.core.table.table import RegionTable, region_frame
from rilievo.core.table.track_columns import can_follow
from rilievo.core.table.writers.parquet_table import read_parquet, write_parquet

# From so many samples on.
LARGE = 5_000
_PART = 2_000
# Of so many samples one sees whether they are times of stacks.
_LOOKED_AT = 50
PARTS = "regions.parquet"
# What summaries and the standard comparison look at.
_KEPT = ("area", "pixel_count", "mean", "flux")

Value = TypeVar("Value", bound=Hashable)


def is_large(outcomes: Sequence[Outcome], method: Method) -> bool:
    """Whether a run is written in parts: nothing in it needs all regions at a time."""
    follows_stars = any(outline.source == "stars" for outline in method.outlines)
    refers = refers_to_others(method.measure.derived)
    return len(outcomes) > LARGE and not (
        follows_stars or refers or _follows_regions(outcomes, method)
    )


def _follows_regions(outcomes: Sequence[Outcome], method: Method) -> bool:
    """Whether samples are times of stacks, told by the first of them: each is read from a file."""
    first = (outcome.item.attributes for outcome in outcomes[:_LOOKED_AT])
    return can_follow(first, method.measure.quantities)


def write_regions_in_parts(
    outcomes: Sequence[Outcome], method: Method, options: ReportOptions, folder: Path
) -> tuple[list[Outcome], ResultFrame]:
    """Write the regions of all samples; return the outcomes with what is compared, and a row a
    sample.

    outcomes : each is read once. What an earlier run left under these names is replaced once all
    is written. Raises FileUnreadable.
    """
    columns = {*_KEPT, *method.measure.quantities[:1]}
    columns |= {key for question in options.questions for key in question.quantities}
    small: list[Outcome] = []
    summaries: list[ResultFrame] = []
    names: dict[str, None] = {}
    shared = _Shared()
    new = folder / f".{PARTS}.new"
    try:
        shutil.rmtree(new, ignore_errors=True)
        new.mkdir(parents=True)
        for part, some in enumerate(_in_parts(outcomes)):
            tables = with_derived(measured(some), method.measure.derived)
            small += _slimmed(some, tables, columns, shared)
            if not tables:
                continue
            frame = region_frame(tables)
            names |= dict.fromkeys(frame.names)
            write_parquet(frame, new / f"part-{part:05}.parquet")
            summaries.append(sample_frame(tables))
        remove_regions(folder)
        new.rename(folder / PARTS)
    except OSError as exc:
        raise cannot_write(folder / PARTS, exc) from exc
    parts = sorted((folder / PARTS).glob("*.parquet"))
    write_parts(folder / "regions.csv", list(names), map(read_parquet, parts))
    return small, ResultFrame.joined(summaries) if summaries else sample_frame([])


def remove_regions(folder: Path) -> None:
    """Remove what an earlier run left as regions.parquet, parts or one file. Raises OSError."""
    former = folder / PARTS
    if former.is_dir():
        for part in former.glob("part-*.parquet"):
            part.unlink()
        # Whatever else lies in it is not ours to remove.
        former.rmdir()
    else:
        former.unlink(missing_ok=True)


def _in_parts(outcomes: Sequence[Outcome]) -> Iterator[list[Outcome]]:
    for first in range(0, len(outcomes), _PART):
        yield list(outcomes[first : first + _PART])


class _Shared:
    """Keeps one object for all that are equal: what a hundred thousand samples have in common."""

    def __init__(self) -> None:
        self._known: dict[Hashable, Hashable] = {}

    def one(self, value: Value) -> Value:
        """Return the first object that was equal to this one."""
        # Equal is not the same for numbers: 1, 1.0 and True.
        return self._known.setdefault((type(value), value), value)  # type: ignore[return-value]

    def texts(self, texts_by_name: Mapping[str, str]) -> dict[str, str]:
        """Return texts by name."""
        return {self.one(name): self.one(value) for name, value in texts_by_name.items()}


def _slimmed(
    outcomes: Sequence[Outcome], tables: Sequence[RegionTable], columns: set[str], shared: _Shared
) -> list[Outcome]:
    """The outcomes with few columns of each table."""
    table_of = {table.sample: table for table in tables}
    result = []
    for outcome in outcomes:
        table = table_of.get(outcome.item.name)
        properties = outcome.properties
        if properties is not None:
            properties = replace(
                properties,
                depth=shared.one(properties.depth),
                size=shared.one(properties.size),
                pixel_size=shared.one(properties.pixel_size),
                exposure=shared.one(properties.exposure),
            )
        result.append(
            replace(
                outcome,
                table=None if table is None else _slim_table(table, outcome, columns, shared),
                properties=properties,
                changes={shared.one(name): changes for name, changes in outcome.changes.items()},
                attributes=shared.texts(outcome.attributes),
            )
        )
    return result


def _slim_table(
    table: RegionTable, outcome: Outcome, keys: set[str], shared: _Shared
) -> RegionTable:
    """A table with few columns, and what the comparison looks at of single regions."""
    return replace(
        table,
        sample=outcome.item.name,
        group=outcome.item.group,
        classes=shared.one(tuple(map(shared.one, table.classes))),
        # A copy each: a part of an array holds all of it.
        columns={
            shared.one(channel): {
                shared.one(key): values.copy()
                for key, values in channel_columns.items()
                if key in keys
            }
            for channel, channel_columns in table.columns.items()
        },
        unit=shared.one(table.unit),
        marks={
            shared.one(channel): shared.one(tuple(map(shared.one, marks)))
            for channel, marks in table.marks.items()
        },
        known={
            region: RegionAnnotation(
                shared.one(facts.name), shared.one(facts.group), shared.texts(facts.attributes)
            )
            for region, facts in table.known.items()
            if facts.name or facts.group or facts.attributes
        },
        flags={},
        units=shared.texts(table.units),
        attributes=shared.texts(table.attributes),
        files=shared.texts(table.files),
    )

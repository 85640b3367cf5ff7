"""One sample of a batch, what becomes of it, and measuring it.

A sample that fails is reported and does not stop the others.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import Any

from rilievo.core.batch.label_files import write_labels
from rilievo.core.errors import Cancelled, RilievoError
from rilievo.core.files import read_sample, sample_name
from rilievo.core.files.channel_preparation import NOTHING_DECLARED, MetadataOverrides
from rilievo.core.files.grouping import file_labels, groups_for
from rilievo.core.files.reader_helpers import unique_names
from rilievo.core.files.remote import local_copy, path_of, public_url
from rilievo.core.files.sample_parts import Part, named_checksums, read_parts
from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.checks import BatchProperties, Check
from rilievo.core.pipeline.checks_measured import check_measured
from rilievo.core.pipeline.checks_of_steps import check_steps, joined, unmended
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.small_pictures import small_pictures
from rilievo.core.pipeline.threshold_stability import Change, change_of_result
from rilievo.core.study.study import SampleEntry
from rilievo.core.table.table import RegionTable


@dataclass(frozen=True)
class BatchItem:
    """One sample of a batch, with its name and group in it.

    parts : what it is made of, where that is more or less than its file. declared : what stands
    in place of what the file says. attributes : what is known of it beside what the file says.
    file : its path below the folder that was given. url : where it is copied from to be measured;
    its path is then a name only.
    """

    path: Path
    name: str
    group: str = ""
    parts: tuple[Part, ...] = ()
    declared: MetadataOverrides = NOTHING_DECLARED
    attributes: Mapping[str, str] = field(default_factory=dict)
    file: str = ""
    url: str = ""

    @property
    def place(self) -> str:
        """Where its file is, in words: a path, or a URL without what is secret."""
        return public_url(self.url) if self.url else str(self.path)

    @property
    def label(self) -> str:
        """The path below the folder that was given, or the file's name."""
        return self.file or self.path.name

    @property
    def sources(self) -> tuple[Part, ...]:
        """What the sample is made of."""
        return self.parts or (Part(self.path),)


@dataclass(frozen=True, eq=False)
class Outcome:
    """What became of one item: a table, or the reason why not.

    picks : what its picks read, a row a pick and channel. properties : to compare it with
    the others. changes : class → result at 90, 100 and 110 % of its threshold.
    checksum : SHA-256 of the file, where it is known. attributes : of the sample, those of the
    file among them. pictures : small ones, packed (`SmallPictures`); empty where none were made.
    """

    item: BatchItem
    table: RegionTable | None
    checks: tuple[Check, ...]
    failure: str | None = None
    picks: tuple[dict[str, Any], ...] = ()
    properties: BatchProperties | None = None
    changes: Mapping[str, tuple[Change, ...]] = field(default_factory=dict)
    checksum: str = ""
    attributes: Mapping[str, str] = field(default_factory=dict)
    pictures: bytes = b""

    @property
    def date(self) -> str:
        """When it was recorded, as the file states it."""
        return str(self.attributes.get("date", ""))

    @property
    def checksums(self) -> list[tuple[str, str]]:
        """What each of its files is called, with its own SHA-256, "" where it is not known."""
        named = named_checksums(self.item.sources, self.checksum)
        return [(self.item.place, named[0][1])] if self.item.url else named


def items_for(paths: Sequence[Path], folders: Sequence[Path] = ()) -> list[BatchItem]:
    """Return the items for files: unique names, guessed groups, paths below the folders given."""
    names = unique_names(sample_name(path) for path in paths)
    guessed = groups_for(paths)
    labels = file_labels(paths, folders)
    return [
        BatchItem(path, name, group, attributes={"replicate": number} if number else {}, file=label)
        for path, name, (group, number), label in zip(paths, names, guessed, labels, strict=True)
    ]


def items_at(urls: Sequence[str], folders: Sequence[str] = ()) -> list[BatchItem]:
    """As `items_for`, of images at URLs and below URLs."""
    items = items_for([path_of(url) for url in urls])
    roots = [path_of(folder) for folder in folders]
    return [
        replace(item, url=url, file=_below(item, roots) or item.file)
        for item, url in zip(items, urls, strict=True)
    ]


def _below(item: BatchItem, roots: Sequence[Path]) -> str:
    """The path of an item below the first root that holds it; "" where none does."""
    for root in roots:
        if item.path != root and item.path.is_relative_to(root):
            return item.path.relative_to(root).as_posix()
    return ""


@contextlib.contextmanager
def on_this_machine(item: BatchItem) -> Iterator[BatchItem]:
    """The item with files that can be read here: itself, or a copy of what is at its URL.

    Raises a FileError, RemoteError.
    """
    if not item.url:
        yield item
        return
    with local_copy(item.url, item.sources[0].image) as path:
        yield replace(item, path=path, parts=tuple(replace(p, path=path) for p in item.parts))


def items_of(entries: Sequence[SampleEntry]) -> list[BatchItem]:
    """Return the samples of a study as those of a batch."""
    labels = file_labels([entry.path for entry in entries])
    return [
        replace(item_of(entry), file=label) for entry, label in zip(entries, labels, strict=True)
    ]


def item_of(entry: SampleEntry) -> BatchItem:
    """Return a sample of a study as one of a batch."""
    attributes = dict(entry.attributes)
    if entry.replicate:
        attributes.setdefault("replicate", entry.replicate)
    return BatchItem(entry.path, entry.name, entry.group, entry.parts, entry.declared, attributes)


def read_item(item: BatchItem, checksum: str = "") -> Sample:
    """Read the files of an item. checksum : theirs, where it is known. Raises a FileError."""
    read = read_parts(item.sources, item.name, partial(read_sample, checksum=False))
    return replace(read, checksum=checksum)


def measure_item(
    item: BatchItem,
    method: Method,
    evaluator: Evaluator,
    checksum: str = "",
    *,
    kept: bool = False,
    stability: bool = True,
    picture_side: int = 0,
    labels: str = "",
) -> Outcome:
    """Read and measure one sample; an error meant for the user becomes the outcome's failure.

    evaluator : keeps what samples share, such as frames; with `kept` also the samples themselves.
    stability : whether the method also runs at 90 and 110 % of each threshold. picture_side : of
    small pictures that are made beside; 0 for none. labels : folder for its label images.
    """
    try:
        if kept:
            read = replace(evaluator.sample(item.sources, item.name), checksum=checksum)
        else:
            read = read_item(item, checksum)
        sample = evaluator.prepared(read, method, item.declared)
    except Cancelled:
        raise
    except RilievoError as exc:
        return Outcome(item, None, (), failure=str(exc))
    return measure_sample(
        item,
        sample,
        method,
        evaluator,
        stability=stability,
        picture_side=picture_side,
        labels=labels,
    )


def measure_sample(
    item: BatchItem,
    sample: Sample,
    method: Method,
    evaluator: Evaluator,
    *,
    stability: bool = True,
    picture_side: int = 0,
    labels: str = "",
) -> Outcome:
    """Measure one sample that was read; an error meant for the user becomes its failure."""
    try:
        if labels:
            write_labels(evaluator, sample, method, Path(labels))
        table = evaluator.measure(sample, method, item.group)
        picks = evaluator.picks(sample, method, item.group)
        changes = {
            name: change_of_result(evaluator, sample, method, index)
            for index, name in enumerate(method.class_names if stability else ())
        }
    except Cancelled:
        raise
    except RilievoError as exc:
        return Outcome(item, None, (), failure=str(exc))
    noticed, properties = evaluator.checks(sample)
    checks = joined(
        unmended(noticed, method, table.channels),
        check_steps(
            sample.name,
            method,
            evaluator.step_reports(sample, method, table.channels),
            sample.channel_names,
        ),
        check_measured(table),
    )
    return Outcome(
        item,
        table,
        checks,
        picks=tuple(picks),
        properties=properties,
        changes=changes,
        checksum=sample.checksum,
        attributes={**sample.attributes, **item.attributes},
        pictures=_pictures(evaluator, sample, method, picture_side) if picture_side else b"",
    )


def _pictures(evaluator: Evaluator, sample: Sample, method: Method, side: int) -> bytes:
    """Small pictures, packed; none where a channel that is not measured cannot be corrected."""
    try:
        return small_pictures(evaluator, sample, method, side).to_bytes()
    except Cancelled:
        raise
    except RilievoError:
        return b""


def measured(outcomes: Iterable[Outcome]) -> list[RegionTable]:
    """Return the tables of the items that did not fail, with what is known of the samples."""
    return [
        replace(outcome.table, file=outcome.item.label, attributes=outcome.attributes)
        for outcome in outcomes
        if outcome.table is not None
    ]

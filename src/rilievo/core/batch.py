"""A method over many samples: one after another or in a process pool, with the same bits.

A sample that fails is reported and does not stop the others. Results come in the given order.
"""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from rilievo.core.checks import Check, Traits, check_sample, traits_of
from rilievo.core.checks_measured import check_measured
from rilievo.core.errors import FileError, RilievoError
from rilievo.core.evaluate import Evaluator
from rilievo.core.files import read_sample, sample_name
from rilievo.core.files.planes import unique_names
from rilievo.core.grouping import groups_for
from rilievo.core.image import Sample
from rilievo.core.method import Method
from rilievo.core.pooling import pooled_places, with_pooled_levels
from rilievo.core.stability import Change, change_of_result
from rilievo.core.table import RegionTable

Report = Callable[[float], None]


@dataclass(frozen=True)
class BatchItem:
    """One file of a batch, with its name and group in it."""

    path: Path
    name: str
    group: str = ""


@dataclass(frozen=True, eq=False)
class Outcome:
    """What became of one item: a table, or the reason why not.

    picks : what its picks read, a row a pick and channel. traits : to compare it with the others.
    changes : class → result at 90, 100 and 110 % of its threshold. date : as the file states it.
    checksum : SHA-256 of the file, where it is known.
    """

    item: BatchItem
    table: RegionTable | None
    checks: tuple[Check, ...]
    failure: str | None = None
    picks: tuple[dict[str, Any], ...] = ()
    traits: Traits | None = None
    changes: Mapping[str, tuple[Change, ...]] = field(default_factory=dict)
    date: str = ""
    checksum: str = ""


def no_report(fraction: float) -> None:
    """Take the share that is done and ignore it; a report that raises Cancelled stops the work."""


def items_for(paths: Sequence[Path], groups: dict[str, str] | None = None) -> list[BatchItem]:
    """Return the items for files: unique names, groups given by file or sample name or guessed."""
    names = unique_names(sample_name(path) for path in paths)
    guessed = [group for group, _ in groups_for(paths)]
    given = groups or {}
    return [
        BatchItem(path, name, given.get(path.name, given.get(name, guess)))
        for path, name, guess in zip(paths, names, guessed, strict=True)
    ]


def measure_item(item: BatchItem, method: Method) -> Outcome:
    """Read and measure one file; an error meant for the user becomes the outcome's failure."""
    try:
        read = read_sample(item.path).renamed(item.name)
        evaluator = Evaluator()
        sample = evaluator.prepared(read, method)
    except RilievoError as exc:
        return Outcome(item, None, (), failure=str(exc))
    return measure_sample(item, sample, method, evaluator)


def measure_sample(
    item: BatchItem, sample: Sample, method: Method, evaluator: Evaluator
) -> Outcome:
    """Measure one sample that was read; an error meant for the user becomes its failure."""
    try:
        table = evaluator.measure(sample, method, item.group)
        picks = evaluator.picks(sample, method, item.group)
        changes = {
            name: change_of_result(evaluator, sample, method, place)
            for place, name in enumerate(method.class_names)
        }
    except RilievoError as exc:
        return Outcome(item, None, (), failure=str(exc))
    checks = (*check_sample(sample), *check_measured(table))
    return Outcome(
        item,
        table,
        checks,
        picks=tuple(picks),
        traits=traits_of(sample),
        changes=changes,
        date=str(sample.attributes.get("date", "")),
        checksum=sample.checksum,
    )


def run_batch(
    items: Sequence[BatchItem], method: Method, *, jobs: int = 1, report: Report = no_report
) -> list[Outcome]:
    """Measure all items.

    jobs : worker processes; 1 works in this one. report : is told the share done after each
    item; when it raises Cancelled, nothing further is started and the exception goes on.
    """
    outcomes = []
    method = _pooled(items, method)
    for done, outcome in enumerate(_outcomes(items, method, jobs), start=1):
        outcomes.append(outcome)
        report(done / len(items))
    return outcomes


def _pooled(items: Sequence[BatchItem], method: Method) -> Method:
    """The method with the levels that all samples have in common; files that fail are left out."""
    if not pooled_places(method):
        return method
    samples = []
    for item in items:
        try:
            samples.append(read_sample(item.path).renamed(item.name))
        except FileError:
            # Said where the file is measured.
            continue
    return with_pooled_levels(method, samples, Evaluator())


def _outcomes(items: Sequence[BatchItem], method: Method, jobs: int) -> Iterator[Outcome]:
    if jobs <= 1 or len(items) <= 1:
        yield from (measure_item(item, method) for item in items)
        return
    # Fresh processes: a fork of a program with threads can hang.
    context = multiprocessing.get_context("spawn")
    pool = ProcessPoolExecutor(min(jobs, len(items)), mp_context=context)
    try:
        yield from pool.map(_measure_job, ((item, method.to_json()) for item in items))
    finally:
        pool.shutdown(cancel_futures=True)


def _measure_job(job: tuple[BatchItem, str]) -> Outcome:
    item, method = job
    return measure_item(item, Method.from_json(method))


def measured(outcomes: Iterable[Outcome]) -> list[RegionTable]:
    """Return the tables of the items that did not fail."""
    return [outcome.table for outcome in outcomes if outcome.table is not None]

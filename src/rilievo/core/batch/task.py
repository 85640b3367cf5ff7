"""What a worker does with one sample, wherever it runs: in this process, another, or a cluster."""

from __future__ import annotations

import os
import threading
import time
from dataclasses import dataclass
from functools import lru_cache

from rilievo.core.batch.item import BatchItem, Outcome, measure_item, on_this_machine
from rilievo.core.batch.outcome_codec import packed
from rilievo.core.errors import Cancelled, FileError
from rilievo.core.files.file_state import changed_meanwhile
from rilievo.core.files.remote import RemoteError
from rilievo.core.files.sample_parts import parts_checksum, parts_identity
from rilievo.core.method.method import Method, digest
from rilievo.core.pipeline.evaluator import Evaluator

# What a worker keeps of frames and of the sample it is at.
WORKER_BUDGET = 512_000_000


@dataclass(frozen=True)
class Task:
    """A sample to measure.

    method : as JSON, which every worker reads the same. depends : names all that the result
    depends on but the pixels; known : keys of results that are there already under that name.
    stability : whether the method also runs at 90 and 110 % of each threshold. picture_side : of
    the small pictures that are kept with the outcome, in pixels; 0 for none. labels : the folder
    into which label images are written; "" for none.
    """

    item: BatchItem
    method: str
    depends: str
    known: tuple[str, ...] = ()
    budget: int = WORKER_BUDGET
    stability: bool = True
    picture_side: int = 0
    labels: str = ""


@dataclass(frozen=True)
class Done:
    """What became of a task. content : the outcome packed; empty when it was known already."""

    key: str
    checksum: str
    content: bytes
    failed: bool
    regions: int
    failure: str
    seconds: float


def key_of(checksum: str, depends: str) -> str:
    """Name a result by the pixels and all else that it depends on."""
    return digest(checksum, depends)


@lru_cache(maxsize=2)
def _method(text: str) -> Method:
    return Method.from_json(text)


_own = threading.local()


def _evaluator(budget: int) -> Evaluator:
    """One for a thread, so that frames are read once by each worker."""
    known: Evaluator | None = getattr(_own, "evaluator", None)
    if known is None:
        known = _own.evaluator = Evaluator(budget)
    known.budget = budget
    known.turn()
    return known


def perform(task: Task, evaluator: Evaluator | None = None) -> Done:
    """Measure a sample, unless its result is known. A failure is an outcome; Cancelled goes on.

    evaluator : whose kept files and results are used; None has one of this thread, which reads
    every file anew.
    """
    start = time.perf_counter()
    try:
        with on_this_machine(task.item) as item:
            return _performed(task, item, evaluator, start)
    except (FileError, RemoteError) as exc:
        return _done(task, "", Outcome(task.item, None, (), failure=str(exc)), start)


def _performed(task: Task, item: BatchItem, evaluator: Evaluator | None, start: float) -> Done:
    """Measure an item whose files are on this machine."""
    try:
        identity = parts_identity(item.sources)
        checksum = parts_checksum(item.sources)
    except FileError as exc:
        return _done(task, "", Outcome(item, None, (), failure=str(exc)), start)
    key = key_of(checksum, task.depends)
    if key in task.known:
        return Done(key, checksum, b"", False, 0, "", time.perf_counter() - start)
    try:
        method = _method(task.method)
        outcome = measure_item(
            item,
            method,
            _evaluator(task.budget) if evaluator is None else evaluator,
            checksum,
            kept=evaluator is not None,
            stability=task.stability,
            picture_side=task.picture_side,
            labels=task.labels,
        )
    except Cancelled:
        raise
    except MemoryError:
        text = f"“{item.path.name}” does not fit into the memory; measure it with fewer processes."
        outcome = Outcome(item, None, (), failure=text)
    except Exception as exc:  # a fault of the program must not lose the other samples
        text = f"“{item.path.name}” could not be measured: {type(exc).__name__}: {exc} (a fault of "
        outcome = Outcome(item, None, (), failure=f"{text}Rilievo; please report it).")
    return _done(task, checksum, _unchanged(outcome, identity), start)


def _unchanged(outcome: Outcome, identity: str) -> Outcome:
    """The outcome, or a failure where the files are not those that the checksum was read of."""
    if outcome.failure:
        return outcome
    sources = outcome.item.sources
    try:
        if parts_identity(sources) == identity:
            return outcome
        why: FileError = changed_meanwhile(sources[0].path)
    except FileError as exc:
        why = exc
    return Outcome(outcome.item, None, (), failure=str(why))


def failed(task: Task, why: str) -> Done:
    """Return what becomes of a task that could not be performed at all."""
    failure = f"“{task.item.path.name}” could not be measured: {why}."
    return _done(task, "", Outcome(task.item, None, (), failure=failure), time.perf_counter())


def _done(task: Task, checksum: str, outcome: Outcome, start: float) -> Done:
    failure = outcome.failure or ""
    return Done(
        # A failure is kept under another name: it is no result.
        key=digest(checksum, task.depends, "failed") if failure else key_of(checksum, task.depends),
        checksum=checksum,
        content=packed(outcome),
        failed=bool(failure),
        regions=0 if outcome.table is None else int(outcome.table.ids.size),
        failure=failure,
        seconds=time.perf_counter() - start,
    )


def read_ahead(item: BatchItem) -> None:
    """Ask the system to have a sample's files in memory when they are read."""
    for part in item.sources:
        if not part.path.is_file():
            continue
        try:
            handle = os.open(part.path, os.O_RDONLY)
        except OSError:
            # Said where the sample is measured.
            continue
        try:
            os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_WILLNEED)
        finally:
            os.close(handle)

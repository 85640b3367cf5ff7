"""What a worker does with one sample, wherever it runs: in this process, another, or a cluster."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache, partial

from rilievo.core.batch.outcome import Outcome, outcome_of
from rilievo.core.batch.outcome_codec import encode_outcome
from rilievo.core.errors import Cancelled, FileError, RilievoError
from rilievo.core.files import read_sample
from rilievo.core.files.file_state import changed_meanwhile
from rilievo.core.files.sample_parts import parts_checksum, parts_identity, read_parts
from rilievo.core.files.sample_ref import SampleRef, on_this_machine
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method, digest
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.shared_threshold import pooled_histograms

# What a worker keeps of frames and of the sample it is at.
WORKER_BUDGET = 512_000_000


@dataclass(frozen=True)
class Task:
    """A sample to measure, by one method or by several that share what they share.

    methods : as JSON, which every worker reads the same. depends : for each, names all that its
    result depends on but the pixels; known : keys of results that are there already under these
    names. stability : whether each also runs at 90 and 110 % of each threshold. picture_side : of
    the small pictures that are kept with the outcome, in pixels; 0 for none. labels : the folder
    into which label images are written; "" for none.
    """

    item: SampleRef
    methods: tuple[str, ...]
    depends: tuple[str, ...] = ()
    known: frozenset[str] = frozenset()
    budget: int = WORKER_BUDGET
    stability: bool = True
    picture_side: int = 0
    labels: str = ""


@dataclass(frozen=True)
class TaskResult:
    """What became of a task under one of its methods.

    content : the outcome packed; empty when it was known already.
    """

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


@lru_cache(maxsize=64)
def _method(text: str) -> Method:
    return Method.from_json(text)


_here = threading.local()


def _cache(budget: int) -> AnalysisCache:
    """One for a thread, so that frames are read once by each worker."""
    held: AnalysisCache | None = getattr(_here, "cache", None)
    if held is None:
        held = _here.cache = AnalysisCache(budget)
    held.budget = budget
    held.advance()
    return held


@contextlib.contextmanager
def opened(ref: SampleRef, cache: AnalysisCache | None = None) -> Iterator[Sample]:
    """The sample as its files give it, wherever they are: the one way from files to pixels.

    cache : keeps the pixels; they are read anew for None. Raises a FileError, RemoteError.
    """
    with on_this_machine(ref) as here:
        yield _read(here, cache)


def _read(ref: SampleRef, cache: AnalysisCache | None) -> Sample:
    if ref.in_memory is not None:
        return ref.in_memory.renamed(ref.name)
    if cache is not None:
        return cache.sample(ref.sources, ref.name)
    return read_parts(ref.sources, ref.name, partial(read_sample, checksum=False))


def _state(ref: SampleRef) -> tuple[str, str]:
    """The present state of a sample's files, and their checksum. Raises a FileError."""
    if ref.in_memory is not None:
        return ref.in_memory.content, ref.in_memory.content
    return parts_identity(ref.sources), parts_checksum(ref.sources)


def run_task(task: Task, cache: AnalysisCache | None = None) -> list[TaskResult]:
    """Measure a sample by each method whose result is not known. Cancelled goes on.

    cache : whose kept files and results are used; None has one of this thread, and reads every
    file anew. A failure is an outcome.
    """
    start = time.perf_counter()
    try:
        with on_this_machine(task.item) as here:
            return _results_of_task(task, here, cache, start)
    except RilievoError as exc:
        if isinstance(exc, Cancelled):
            raise
        return failed(task, str(exc), start)


def _results_of_task(
    task: Task, ref: SampleRef, cache: AnalysisCache | None, start: float
) -> list[TaskResult]:
    """Measure a sample whose files are on this machine."""
    identity, checksum = _state(ref)
    keys = [key_of(checksum, depends) for depends in task.depends]
    sample: Sample | None = None
    shared = _cache(task.budget) if cache is None else cache
    results = []
    for number, key in enumerate(keys):
        if key in task.known:
            seconds = time.perf_counter() - start
            results.append(TaskResult(key, checksum, b"", False, 0, "", seconds))
            continue
        try:
            if sample is None:
                sample = _read(ref, cache)
                if ref.in_memory is None:
                    sample = replace(sample, checksum=checksum)
            analysis = Analysis(sample, _method(task.methods[number]), shared, ref.overrides)
            outcome = outcome_of(
                ref,
                analysis,
                stability=task.stability,
                picture_side=task.picture_side,
                labels=task.labels,
            )
        except Cancelled:
            raise
        except RilievoError as exc:
            outcome = Outcome(ref, None, failure=str(exc))
        except MemoryError:
            text = f"“{ref.path.name}” does not fit into the memory; measure it with fewer "
            outcome = Outcome(ref, None, failure=f"{text}processes.")
        except Exception as exc:  # a fault of the program must not lose the other samples
            text = f"“{ref.path.name}” could not be measured: {type(exc).__name__}: {exc} (a fault"
            outcome = Outcome(ref, None, failure=f"{text} of Rilievo; please report it).")
        results.append(_done(task, number, checksum, _unchanged(outcome, identity), start))
    return results


def _unchanged(outcome: Outcome, identity: str) -> Outcome:
    """The outcome, or a failure where the files are not those that the checksum was read of."""
    ref = outcome.item
    if outcome.failure or ref.in_memory is not None:
        return outcome
    try:
        if parts_identity(ref.sources) == identity:
            return outcome
        why: FileError = changed_meanwhile(ref.sources[0].path)
    except FileError as exc:
        why = exc
    return Outcome(ref, None, failure=str(why))


def failed(task: Task, why: str, start: float | None = None) -> list[TaskResult]:
    """Return what becomes of a task that could not be performed, under each of its methods."""
    begun = time.perf_counter() if start is None else start
    outcome = Outcome(task.item, None, failure=why)
    return [_done(task, number, "", outcome, begun) for number in range(len(task.methods))]


def lost(task: Task, why: str) -> list[TaskResult]:
    """Return what becomes of a task whose worker was ended."""
    return failed(task, f"“{task.item.path.name}” could not be measured: {why}.")


def _done(task: Task, number: int, checksum: str, outcome: Outcome, start: float) -> TaskResult:
    failure, depends = outcome.failure or "", task.depends[number]
    return TaskResult(
        # A failure is kept under another name: it is no result.
        key=digest(checksum, depends, "failed") if failure else key_of(checksum, depends),
        checksum=checksum,
        content=encode_outcome(outcome),
        failed=bool(failure),
        regions=0 if outcome.table is None else int(outcome.table.ids.size),
        failure=failure,
        seconds=time.perf_counter() - start,
    )


def histograms_of(task: Task, cache: AnalysisCache | None = None) -> list[dict[int, Histogram]]:
    """Return what a sample adds to the levels that samples have in common, for each method.

    cache : as for `run_task`. Nothing for one that fails; that is said where it is measured.
    """
    shared = _cache(task.budget) if cache is None else cache
    try:
        with opened(task.item, cache) as sample:
            return [
                pooled_histograms(Analysis(sample, _method(text), shared, task.item.overrides))
                for text in task.methods
            ]
    except RilievoError as exc:
        if isinstance(exc, Cancelled):
            raise
        return [{} for _ in task.methods]


def read_ahead(ref: SampleRef) -> None:
    """Ask the system to have a sample's files in memory when they are read."""
    for part in ref.sources:
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

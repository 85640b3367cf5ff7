"""A method over many samples, with the same bits wherever they are measured.

Reading, measuring and keeping overlap: the files of the next samples are on their way into memory
while the present ones are measured, and results are committed meanwhile. Only the samples under
way are held in memory.
"""

from __future__ import annotations

import logging
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from pathlib import Path
from typing import overload

from rilievo.core.batch.control import Control
from rilievo.core.batch.item import BatchItem, Outcome, on_this_machine, read_item
from rilievo.core.batch.outcome_codec import unpacked
from rilievo.core.batch.result_keys import ResultKeys
from rilievo.core.batch.store import ResultStore
from rilievo.core.batch.task import WORKER_BUDGET, Done, Task, failed, key_of, read_ahead
from rilievo.core.batch.workers import OneThread, Processes, Workers
from rilievo.core.errors import FileError, RilievoError, WorkerError
from rilievo.core.files.sample_parts import known_parts_checksum, parts_checksum
from rilievo.core.image.histogram import Histogram
from rilievo.core.method.method import Method
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.shared_threshold import (
    pooled_classes,
    pooled_histograms,
    with_pooled_level,
)
from rilievo.core.pipeline.small_pictures import chosen_evenly, side_for

_ENDED = (
    "the system ended the process that worked at it, most often for want of memory; measure it "
    "with fewer processes"
)
_NONE_BEGAN = (
    "No worker process could be started: each ended before it took a sample. A script that "
    'measures in several processes must begin its work below `if __name__ == "__main__":`, since '
    "every process reads the script anew; or measure in one."
)
_CHANGED = "a frame or label image changed meanwhile; measure it again"


_LOG = logging.getLogger("rilievo")


@dataclass(frozen=True)
class Progress:
    """One sample of a batch has ended.

    index : of the sample in the batch. key : of its outcome in the store. known : whether it was
    measured before and stayed the same.
    """

    index: int
    key: str
    item: BatchItem
    done: int
    total: int
    known: bool
    regions: int
    failure: str
    seconds: float


def no_report(progress: Progress) -> None:
    """Take the progress and ignore it; a report that raises Cancelled stops the batch."""


class Results(Sequence[Outcome]):
    """The outcomes in the order of the items, each read from the store when it is asked for."""

    def __init__(
        self, items: Sequence[BatchItem], method: Method, store: ResultStore, keys: Sequence[str]
    ) -> None:
        self._items, self._keys, self._store = items, keys, store
        self.method = method

    @property
    def items(self) -> Sequence[BatchItem]:
        """What was to be measured."""
        return self._items

    def __len__(self) -> int:
        return len(self._items)

    @overload
    def __getitem__(self, position: int) -> Outcome: ...

    @overload
    def __getitem__(self, position: slice) -> list[Outcome]: ...

    def __getitem__(self, position: int | slice) -> Outcome | list[Outcome]:
        if isinstance(position, slice):
            return [self[k] for k in range(*position.indices(len(self)))]
        content = self._store.get(self._keys[position])
        return unpacked(content, self._items[position], self.method)


def run_batch(
    items: Sequence[BatchItem],
    method: Method,
    *,
    jobs: int = 1,
    scheduler: str = "",
    store: ResultStore | None = None,
    control: Control | None = None,
    report: Callable[[Progress], None] = no_report,
    memory: int = WORKER_BUDGET,
    evaluator: Evaluator | None = None,
    stability: bool = True,
    pictures: int = 0,
    labels: Path | None = None,
) -> Results:
    """Measure all items that the store has no result of; return the outcomes of all.

    jobs : worker processes; 1 works in a thread of this one. scheduler : address of a Dask
    cluster that works instead. store : where results are committed as they finish; None keeps
    them in memory. control : pauses and cancels. memory : bytes that the workers may keep
    together beside the samples they are at. evaluator : used by the thread of this process, with
    what it holds already. stability : whether the method also runs at 90 and 110 % of each
    threshold, for the report; without it, `store` must be none that other batches use. pictures :
    of so many samples at most, evenly chosen, small ones are made and kept with the outcomes.
    labels : a folder in which those that are measured now leave label images (`label_files`).
    Raises WorkerError when no process can be started, Cancelled, or FileUnreadable when results
    cannot be kept; what was committed stays.
    """
    control = control or Control()
    store = store or ResultStore()
    method = pooled_method(items, method, control)
    if scheduler:
        from rilievo.core.batch.cluster import Cluster  # noqa: PLC0415 (an optional package)

        workers: Workers = Cluster(scheduler)
    elif jobs <= 1 or len(items) <= 1:
        workers = OneThread(control.cancelled, evaluator)
    else:
        workers = Processes(min(jobs, len(items)))
    try:
        run = _Run(
            items, method, store, workers, control, report, memory, stability, pictures, labels
        )
        return Results(items, method, store, run.keys())
    finally:
        workers.close()


class _Run:
    """One go over the items."""

    def __init__(
        self,
        items: Sequence[BatchItem],
        method: Method,
        store: ResultStore,
        workers: Workers,
        control: Control,
        report: Callable[[Progress], None],
        memory: int,
        stability: bool,
        pictures: int,
        labels: Path | None,
    ) -> None:
        self._labels = str(labels.absolute()) if labels is not None else ""
        self._pictured = set(chosen_evenly(len(items), pictures)) if pictures else set()
        self._items, self._store = items, store
        self._workers, self._control, self._report = workers, control, report
        self._stability = stability
        self._budget = max(memory // workers.breadth, 1)
        self._naming, self._method = ResultKeys(method), method.to_json()
        self._keys: list[str] = [""] * len(items)
        self._beside: dict[int, list[str]] = {}
        self._depends: dict[int, str] = {}
        self._under_way: dict[Future[Done], int] = {}
        self._waiting = deque(range(len(items)))
        # Samples that were under way when a worker was ended.
        self._suspects: set[int] = set()
        self._ended = 0

    def keys(self) -> list[str]:
        """Do the work; return under which key the outcome of each item is kept."""
        waiting = self._waiting
        try:
            while waiting or self._under_way:
                while waiting and len(self._under_way) < self._most and not self._control.paused:
                    self._control.wait()
                    self._begin(waiting.popleft())
                if self._under_way:
                    self._collect()
                else:
                    # Paused: what was under way is kept by now.
                    self._control.wait()
        finally:
            for future in self._under_way:
                future.cancel()
        return self._keys

    @property
    def _most(self) -> int:
        """How many samples may be under way: one, while it is not known which ended a worker."""
        return 1 if self._suspects else self._workers.breadth + self._workers.ahead

    def _begin(self, position: int) -> None:
        item = self._items[position]
        self._depends[position] = self._naming.of(item)
        self._beside[position] = self._naming.beside(item)
        task = self._task(position)
        is_here = task.known and not item.url
        checksum = known_parts_checksum(item.sources) if is_here else ""
        key = key_of(checksum, task.depends) if checksum else ""
        if key in task.known:
            self._end(position, key, known=True)
            return
        read_ahead(item)
        try:
            self._under_way[self._workers.submit(task)] = position
        except BrokenProcessPool:
            self._again(position)

    def _task(self, position: int) -> Task:
        depends = self._depends[position]
        known = self._store.keys(depends)
        return Task(
            self._items[position],
            self._method,
            depends,
            known,
            self._budget,
            self._stability,
            side_for(len(self._pictured)) if position in self._pictured else 0,
            self._labels,
        )

    def _collect(self) -> None:
        """Keep what has finished; a quarter of a second at most, so that a cancel is heard."""
        if self._control.cancelled.is_set():
            self._control.wait()
        ended, _ = wait(self._under_way, timeout=0.25, return_when=FIRST_COMPLETED)
        whole: list[tuple[int, Done]] = []
        broken: int | None = None
        for future in sorted(ended, key=self._under_way.__getitem__):
            position = self._under_way.pop(future)
            try:
                whole.append((position, future.result()))
            except BrokenProcessPool:
                broken = position
                break
        self._keep(whole)
        if broken is not None:
            self._again(broken)

    def _again(self, position: int) -> None:
        """Begin anew what was under way when a worker was ended, now one after another.

        A sample that ends its worker when it is alone fails.
        """
        lost = [position, *self._under_way.values()]
        self._under_way.clear()
        if isinstance(self._workers, Processes):
            if not self._workers.begun:
                raise WorkerError(_NONE_BEGAN)
            self._workers.renew()
        if self._suspects and lost == [position]:
            self._keep([(position, failed(self._task(position), _ENDED))])
            return
        self._suspects.update(lost)
        self._waiting.extendleft(sorted(lost, reverse=True))

    def _keep(self, whole: Sequence[tuple[int, Done]]) -> None:
        """Commit what has finished, all of it together, and only then tell of it."""
        kept = []
        for position, done in whole:
            beside = self._naming.beside(self._items[position])
            changed = done.content and beside != self._beside[position]
            kept.append((position, failed(self._task(position), _CHANGED) if changed else done))
        new = [(d.key, self._depends[k], d.failed, d.content) for k, d in kept if d.content]
        if new:
            self._store.put_all(new)
        for position, done in kept:
            self._end(position, done.key, known=not done.content, done=done)
            # Named again if it is ever asked for; of very many samples it adds up.
            self._depends.pop(position, None)
            self._beside.pop(position, None)

    def _end(self, position: int, key: str, *, known: bool, done: Done | None = None) -> None:
        self._keys[position] = key
        self._suspects.discard(position)
        self._ended += 1
        progress = Progress(
            index=position,
            key=key,
            item=self._items[position],
            done=self._ended,
            total=len(self._items),
            known=known,
            regions=done.regions if done is not None else 0,
            failure=done.failure if done is not None else "",
            seconds=done.seconds if done is not None else 0.0,
        )
        _log(progress)
        self._report(progress)


def _log(progress: Progress) -> None:
    name = progress.item.label
    if progress.failure:
        _LOG.info("%s was not measured: %s", name, progress.failure)
    elif progress.known:
        _LOG.info("%s is unchanged", name)
    else:
        _LOG.info("%s: %d regions in %.3f s", name, progress.regions, progress.seconds)


def pooled_method(
    items: Sequence[BatchItem], method: Method, control: Control | None = None
) -> Method:
    """Return the method with the levels that all samples have in common.

    Samples are read one after another for their histograms; those that fail are left out.
    """
    positions = pooled_classes(method)
    if not positions:
        return method
    known: dict[int, list[Histogram]] = {position: [] for position in positions}
    for item in items:
        if control is not None:
            control.wait()
        for position, histogram in _histograms(item, method).items():
            known[position].append(histogram)
    for position in positions:
        method = with_pooled_level(method, position, known[position])
    return method


def _histograms(item: BatchItem, method: Method) -> dict[int, Histogram]:
    evaluator = Evaluator()
    try:
        with on_this_machine(item) as here:
            read = read_item(here)
        return pooled_histograms(method, evaluator.prepared(read, method, item.declared), evaluator)
    except RilievoError:
        # Said where the sample is measured.
        return {}


def unfinished(items: Sequence[BatchItem], method: Method, store: ResultStore) -> Iterator[int]:
    """Yield the indices of items that would be measured: new, changed or failed before.

    All their files are read for their checksums.
    """
    naming = ResultKeys(method)
    for position, item in enumerate(items):
        # What is at a URL is copied to be known; a look ahead does not do that.
        try:
            checksum = "" if item.url else parts_checksum(item.sources)
        except FileError:
            checksum = ""
        if not (checksum and store.has(key_of(checksum, naming.of(item)))):
            yield position

"""The one way from samples to measurements, with the same bits wherever they are measured.

Reading, measuring and keeping overlap: the files of the next samples are on their way into memory
while the present ones are measured, and results are committed meanwhile. Only the samples under
way are held in memory.
"""

from __future__ import annotations

import contextlib
import logging
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from typing import Any, TypeVar, overload

from rilievo.core.batch.cluster import Cluster
from rilievo.core.batch.outcome import Outcome
from rilievo.core.batch.outcome_codec import decode_outcome
from rilievo.core.batch.result_keys import ResultKeys
from rilievo.core.batch.run_request import Resources, RunRequest
from rilievo.core.batch.store import ResultStore
from rilievo.core.batch.task import (
    Task,
    TaskResult,
    histograms_of,
    key_of,
    lost,
    opened,
    read_ahead,
    run_task,
)
from rilievo.core.batch.workers import Growing, Workers
from rilievo.core.errors import Cancelled, FileError, RilievoError, WorkerError, WorkerLost
from rilievo.core.files.sample_parts import known_parts_checksum, parts_checksum
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.histogram import Histogram
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.sample_pictures import chosen_evenly, side_for
from rilievo.core.pipeline.shared_threshold import pooled_classes, with_pooled_level
from rilievo.core.progress import Control, control_here
from rilievo.core.progress import no_report as no_progress

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

Found = TypeVar("Found")


@dataclass(frozen=True)
class Progress:
    """One sample of a batch has ended.

    index : of the sample in the batch. keys : of its outcomes in the store, one a method. known :
    whether it was measured before and stayed the same.
    """

    index: int
    keys: tuple[str, ...]
    item: SampleRef
    done: int
    total: int
    known: bool
    regions: int
    failure: str
    seconds: float


def no_report(progress: Progress) -> None:
    """Take the progress and ignore it; a report that raises Cancelled stops the batch."""


class Results(Sequence[Outcome]):
    """The outcomes in the order of the samples, each read from the store when it is asked for."""

    def __init__(
        self, items: Sequence[SampleRef], method: Method, store: ResultStore, keys: Sequence[str]
    ) -> None:
        self._items, self._keys, self._store = items, keys, store
        self.method = method

    @property
    def items(self) -> Sequence[SampleRef]:
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
        return decode_outcome(content, self._items[position], self.method)


class Measurer:
    """Measures samples; whoever needs pixels of samples or their measurements asks it.

    It alone knows what belongs to a whole batch: levels that samples have in common, images at
    URLs, what is typed in place of what files say. Workers that were started stay for what is asked
    next, until the end of the `with` statement.

    Parameters
    ----------
    cache : AnalysisCache, optional
        Used by the thread of this process, with what it holds already.
    store : ResultStore, optional
        Where results are committed as they finish; in memory for None.
    control : Control, optional
        Pauses and cancels; for None, what stops the work that this thread is at.
    resources : Resources, optional
        Processes, a cluster, memory; one process for nothing said.

    Examples
    --------
    >>> from pathlib import Path
    >>> import numpy as np
    >>> from rilievo.core import Method, Sample
    >>> from rilievo.core.files.sample_ref import SampleRef
    >>> sample = Sample.from_array(np.eye(4), name="diagonal")
    >>> ref = SampleRef(Path("diagonal"), "diagonal", in_memory=sample)
    >>> with Measurer() as measurer:
    ...     (results,) = measurer.measure(RunRequest(samples=[ref], methods=(Method(),)))
    >>> results[0].table.column("gray", "mean").tolist()
    [1.0]
    """

    def __init__(
        self,
        cache: AnalysisCache | None = None,
        store: ResultStore | None = None,
        control: Control | None = None,
        resources: Resources = Resources(),  # noqa: B008 (immutable)
    ) -> None:
        self.cache, self.store = cache, store or ResultStore()
        self.control, self._resources = control or control_here(), resources
        self._workers: Workers | None = None

    def __enter__(self) -> Measurer:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """End the workers."""
        if self._workers is not None:
            self._workers.close()
            self._workers = None

    def measure(
        self, request: RunRequest, report: Callable[[Progress], None] = no_report
    ) -> list[Results]:
        """Measure all samples that the store has no result of; return the outcomes by method.

        Raises WorkerError when no process can be started, Cancelled, or FileUnreadable when
        results cannot be kept; what was committed stays.
        """
        methods = self.resolved(request.samples, request.methods)
        run = _Run(self, request, methods, report)
        keys = run.keys()
        return [
            Results(request.samples, method, self.store, [of_sample[number] for of_sample in keys])
            for number, method in enumerate(methods)
        ]

    def resolved(self, samples: Sequence[SampleRef], methods: Sequence[Method]) -> list[Method]:
        """Return the methods with the levels that all samples have in common.

        Samples that cannot be read are left out.
        """
        pooled = [number for number, method in enumerate(methods) if pooled_classes(method)]
        if not pooled:
            return list(methods)
        texts = tuple(methods[number].to_json() for number in pooled)
        tasks = [Task(item, texts, budget=self.budget(len(samples))) for item in samples]
        pooled_of: list[dict[int, list[Histogram]]] = [{} for _ in pooled]
        for by_class in self._each_task(tasks):
            for of_method, histograms in zip(pooled_of, by_class, strict=True):
                for index, histogram in histograms.items():
                    of_method.setdefault(index, []).append(histogram)
        result = list(methods)
        for number, of_method in zip(pooled, pooled_of, strict=True):
            for index in pooled_classes(result[number]):
                result[number] = with_pooled_level(result[number], index, of_method.get(index, []))
        return result

    def _each_task(self, tasks: Sequence[Task]) -> Iterator[list[dict[int, Histogram]]]:
        """What each sample adds to levels in common, in the order of the samples."""
        workers, under_way = self.workers(len(tasks)), deque[Future[Any]]()
        try:
            for task in tasks:
                self.control.wait()
                under_way.append(workers.submit(histograms_of, task))
                if len(under_way) > workers.breadth + workers.ahead:
                    yield self._ended(under_way.popleft(), tasks[0])
            while under_way:
                yield self._ended(under_way.popleft(), tasks[0])
        finally:
            for future in under_way:
                future.cancel()

    def _ended(self, future: Future[Any], task: Task) -> list[dict[int, Histogram]]:
        while not wait([future], timeout=0.25).done:
            self.control.wait()
        try:
            histogram_of: list[dict[int, Histogram]] = future.result()
        except (BrokenProcessPool, WorkerLost):
            # Said where the sample is measured.
            return [{} for _ in task.methods]
        return histogram_of

    def each(
        self,
        samples: Sequence[SampleRef],
        methods: Sequence[Method],
        work: Callable[[SampleRef, list[Analysis]], Found],
        report: Callable[[float], None] = no_progress,
    ) -> tuple[dict[str, Found], dict[str, str]]:
        """Return what `work` makes of each sample by its name, and why others have nothing.

        work : is given a sample and its analyses, one a method. report : takes the fraction that
        is done, and may raise Cancelled.
        """
        result_of: dict[str, Found] = {}
        failures: dict[str, str] = {}
        if samples:
            methods = self.resolved(samples, methods)
        for done, ref in enumerate(samples):
            self.control.wait()
            report(done / len(samples))
            try:
                with self.analyses(ref, methods) as analyses:
                    result_of[ref.name] = work(ref, analyses)
            except Cancelled:
                raise
            except RilievoError as exc:
                failures[ref.name] = str(exc)
        return result_of, failures

    @contextlib.contextmanager
    def analyses(self, ref: SampleRef, methods: Sequence[Method]) -> Iterator[list[Analysis]]:
        """The analyses of a sample, one a method; levels in common as the methods have them.

        Raises a FileError, RemoteError.
        """
        if self.cache is None:
            self.cache = AnalysisCache(self._resources.memory)
        with opened(ref, self.cache) as sample:
            yield [Analysis(sample, method, self.cache, ref.overrides) for method in methods]

    def workers(self, samples: int) -> Workers:
        """Return what tasks are given to. samples : so many are to be measured."""
        if self._workers is None:
            resources = self._resources
            if resources.scheduler:
                self._workers = Cluster(resources.scheduler)
            else:
                self._workers = Growing(resources.jobs, self.control, self.cache)
        self._workers.expect(samples)
        return self._workers

    def budget(self, samples: int) -> int:
        """Return the bytes that each worker may keep of so many samples."""
        return max(self._resources.memory // self.workers(samples).most, 1)

    def unfinished(self, samples: Sequence[SampleRef], method: Method) -> Iterator[int]:
        """Yield the indices of samples that would be measured: new, changed or failed before.

        All their files are read for their checksums.
        """
        naming = ResultKeys(self.resolved(samples, [method])[0])
        for position, item in enumerate(samples):
            # What is at a URL is copied to be known; a look ahead does not do that.
            try:
                checksum = "" if item.url else parts_checksum(item.sources)
            except FileError:
                checksum = ""
            if not (checksum and self.store.has(key_of(checksum, naming.of(item)))):
                yield position


class _Run:
    """One go over the samples."""

    def __init__(
        self,
        measurer: Measurer,
        request: RunRequest,
        methods: Sequence[Method],
        report: Callable[[Progress], None],
    ) -> None:
        items, self._request, self._report = request.samples, request, report
        labels = request.labels
        self._labels = str(labels.absolute()) if labels is not None else ""
        pictures = request.pictures
        self._pictured = set(chosen_evenly(len(items), pictures)) if pictures else set()
        self._items, self._store, self._control = items, measurer.store, measurer.control
        self._workers, self._budget = measurer.workers(len(items)), measurer.budget(len(items))
        self._naming = [ResultKeys(method, stability=request.stability) for method in methods]
        self._methods = tuple(method.to_json() for method in methods)
        self._keys: list[tuple[str, ...]] = [()] * len(items)
        self._beside: dict[int, list[str]] = {}
        self._depends: dict[int, tuple[str, ...]] = {}
        self._under_way: dict[Future[list[TaskResult]], int] = {}
        self._waiting = deque(range(len(items)))
        # Samples that were under way when a worker was ended.
        self._suspects: set[int] = set()
        self._ended = 0

    def keys(self) -> list[tuple[str, ...]]:
        """Do the work; return under which keys the outcomes of each sample are kept."""
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

    def _named_beside(self, position: int) -> list[str]:
        item = self._items[position]
        return [state for naming in self._naming for state in naming.beside(item)]

    def _begin(self, position: int) -> None:
        item = self._items[position]
        self._depends[position] = tuple(naming.of(item) for naming in self._naming)
        self._beside[position] = self._named_beside(position)
        task = self._task(position)
        is_here = task.known and not item.url and item.in_memory is None
        checksum = known_parts_checksum(item.sources) if is_here else ""
        keys = tuple(key_of(checksum, depends) for depends in task.depends) if checksum else ()
        if keys and task.known.issuperset(keys):
            self._end(position, keys, known=True)
            return
        read_ahead(item)
        try:
            self._under_way[self._workers.submit(run_task, task)] = position
        except BrokenProcessPool:
            self._again(position)

    def _task(self, position: int) -> Task:
        depends = self._depends[position]
        return Task(
            self._items[position],
            self._methods,
            depends,
            frozenset(key for name in depends for key in self._store.keys(name)),
            self._budget,
            self._request.stability,
            side_for(len(self._pictured)) if position in self._pictured else 0,
            self._labels,
        )

    def _collect(self) -> None:
        """Keep what has finished; a quarter of a second at most, so that a cancel is heard."""
        self._control.check()
        ended, _ = wait(self._under_way, timeout=0.25, return_when=FIRST_COMPLETED)
        whole: list[tuple[int, list[TaskResult]]] = []
        broken: int | None = None
        for future in sorted(ended, key=self._under_way.__getitem__):
            position = self._under_way.pop(future)
            try:
                whole.append((position, future.result()))
            except WorkerLost as exc:
                whole.append((position, lost(self._task(position), str(exc))))
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
        under_way = [position, *self._under_way.values()]
        self._under_way.clear()
        if not self._workers.renew():
            raise WorkerError(_NONE_BEGAN)
        if self._suspects and under_way == [position]:
            self._keep([(position, lost(self._task(position), _ENDED))])
            return
        self._suspects.update(under_way)
        self._waiting.extendleft(sorted(under_way, reverse=True))

    def _keep(self, whole: Sequence[tuple[int, list[TaskResult]]]) -> None:
        """Commit what has finished, all of it together, and only then tell of it."""
        whole_results: list[tuple[int, list[TaskResult]]] = []
        for position, results in whole:
            is_new = any(done.content for done in results)
            if is_new and self._named_beside(position) != self._beside[position]:
                results = lost(self._task(position), _CHANGED)  # noqa: PLW2901
            whole_results.append((position, results))
        new = [
            (done.key, depends, done.failed, done.content)
            for position, results in whole_results
            for depends, done in zip(self._depends[position], results, strict=True)
            if done.content
        ]
        if new:
            self._store.put_all(new)
        for position, results in whole_results:
            is_known = not any(done.content for done in results)
            self._end(
                position, tuple(done.key for done in results), known=is_known, done=results[0]
            )
            # Named again if it is ever asked for; of very many samples it adds up.
            self._depends.pop(position, None)
            self._beside.pop(position, None)

    def _end(
        self, position: int, keys: tuple[str, ...], *, known: bool, done: TaskResult | None = None
    ) -> None:
        self._keys[position] = keys
        self._suspects.discard(position)
        self._ended += 1
        progress = Progress(
            index=position,
            keys=keys,
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

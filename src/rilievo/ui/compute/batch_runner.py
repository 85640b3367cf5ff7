"""Measuring samples: in this window, in processes or on a cluster, paused and resumed.

Results are committed to a file in the user's cache folder as they finish: after a crash, or in
another study, what has not changed is not measured again. Where all samples are measured in a
moment, measurements follow every change of the method.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import platformdirs
from PyQt6.QtCore import QObject, QSettings, pyqtSignal

from rilievo.core.batch import (
    Measurer,
    Outcome,
    Progress,
    Resources,
    Results,
    ResultStore,
    RunRequest,
)
from rilievo.core.batch.outcome_codec import decode_outcome
from rilievo.core.errors import RilievoError
from rilievo.core.files.sample_ref import labelled
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.progress import Control
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.sample_checks import SampleChecks
from rilievo.ui.compute.sample_store import SampleStore
from rilievo.ui.session.study_session import StudySession

# The oldest results beyond so many bytes are forgotten.
_MOST_KEPT = 1_000_000_000
# A whole measurement that took less than this follows every change by itself.
FOLLOW_SECONDS = 3.0
# A batch runs the method at three thresholds, for the report; what follows a change runs it once.
_BATCH_RUNS = 3


def store_path() -> Path:
    """Return where results are kept."""
    return Path(platformdirs.user_cache_dir("rilievo")) / "results.sqlite"


def open_store() -> tuple[ResultStore, str]:
    """Return the store, or one in memory and why."""
    path = store_path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        store = ResultStore(path)
        store.keep_within(_MOST_KEPT)
    except (OSError, RilievoError) as exc:
        return ResultStore(), f"Results are kept for this session only: {exc}"
    return store, ""


class BatchRunner(QObject):
    """One batch at a time; what is asked for meanwhile is measured after it."""

    changed = pyqtSignal()
    warned = pyqtSignal(str)
    progressed = pyqtSignal(int, int, float)  # done, total, seconds left
    measured = pyqtSignal(bool)  # False when it was cancelled
    heard = pyqtSignal(object, object, object)  # control, progress, outcome

    def __init__(
        self,
        session: StudySession,
        jobs: Jobs,
        cache: AnalysisCache,
        store: SampleStore,
        checks: SampleChecks,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._jobs, self._cache = session, jobs, cache
        self._samples, self._checks = store, checks
        self._store: ResultStore | None = None
        self._control: Control | None = None
        self._entries: Sequence[SampleEntry] = ()
        self._method = Method()
        self._waiting: list[int] = []
        self._started = 0.0
        self._fresh = 0
        # Whether measurements follow changes by themselves, and whether such a run is under way.
        self.follows = False
        self._is_following = False
        self.done, self.total = 0, 0
        # Why samples could not be measured the last time.
        self.failures: dict[int, str] = {}
        self.heard.connect(self._take)
        session.changed.connect(self._on_change)

    def _on_change(self, old: StudyState, new: StudyState) -> None:
        now = {entry.sources for entry in new.samples}
        if self.is_running and not any(entry.sources in now for entry in self._entries):
            # Another study was opened: nobody waits for these samples any more.
            self.cancel()
        tables = self._session.measurements.tables
        if self.follows and tables and old.method.of_regions != new.method.of_regions:
            self._follow([entry.id for entry in new.samples if entry.id in tables])

    def _follow(self, sample_ids: Sequence[int]) -> None:
        """Measure again after a change; a newer change takes the place of an older one."""
        if self._is_following and self._control is not None:
            self._control.cancel()
            self._jobs.forget("batch")
            self._control = None
        if self._control is None:
            self._start(sample_ids, following=True)

    # -- settings

    @property
    def jobs(self) -> int:
        """Worker processes; 1 measures in this window."""
        kept = str(QSettings().value("worker processes", 1))
        return min(max(int(kept), 1), most_jobs()) if kept.isdigit() else 1

    @jobs.setter
    def jobs(self, count: int) -> None:
        QSettings().setValue("worker processes", count)

    @property
    def scheduler(self) -> str:
        """Address of a cluster; "" for none."""
        return str(QSettings().value("cluster", ""))

    @scheduler.setter
    def scheduler(self, address: str) -> None:
        QSettings().setValue("cluster", address.strip())

    # -- running

    @property
    def is_running(self) -> bool:
        """Whether samples are measured, or wait while paused."""
        return self._control is not None

    @property
    def is_paused(self) -> bool:
        """Whether no new sample is begun."""
        return self._control is not None and self._control.paused

    @property
    def seconds_left(self) -> float:
        """How long it will take, from the samples measured so far."""
        spent = time.monotonic() - self._started
        return spent / self._fresh * (self.total - self.done) if self._fresh else 0.0

    def store(self) -> ResultStore:
        """Return where results are kept; to be called in a thread."""
        if self._store is None:
            self._store, said = open_store()
            if said:
                self.warned.emit(said)
        return self._store

    def start(self, sample_ids: Sequence[int]) -> None:
        """Measure samples; those that are known and have not changed are only looked up."""
        if self._control is None:
            self._start(sample_ids)
        else:
            self._waiting += [i for i in sample_ids if i not in self._waiting]

    def _start(self, sample_ids: Sequence[int], *, following: bool = False) -> None:
        """Begin a batch.

        following : measure only, in this process, and keep nothing on disk: the next change of
        a marker that is dragged makes it worthless.
        """
        wanted = set(sample_ids)
        self._entries = [entry for entry in self._session.state.samples if entry.id in wanted]
        if not self._entries:
            self.measured.emit(True)
            return
        self._method = method = self._session.state.method
        control = self._control = Control()
        self._started, self._fresh, self._is_following = time.monotonic(), 0, following
        self.done, self.total = 0, len(self._entries)
        for entry in self._entries:
            self.failures.pop(entry.id, None)
        request = RunRequest(
            samples=labelled(self._entries), methods=(method,), stability=not following
        )

        def work() -> Results:
            store = ResultStore() if following else self.store()

            def heard(progress: Progress) -> None:
                outcome = decode_outcome(store.get(progress.keys[0]), progress.item, method)
                self.heard.emit(control, progress, outcome)

            resources = self.resources if not following else Resources(memory=self._cache.budget)
            with Measurer(self._cache, store, control, resources) as measurer:
                return measurer.measure(request, heard)[0]

        self._tell()
        self._jobs.run(
            "batch",
            work,
            self._ended(control),
            self._failed(control),
            broke=lambda: self._finish(whole=False),
        )

    @property
    def resources(self) -> Resources:
        """What a batch may use, as it was chosen."""
        return Resources(jobs=self.jobs, scheduler=self.scheduler, memory=self._cache.budget)

    def pause(self) -> None:
        """Begin no new sample, or go on."""
        if self._control is None:
            return
        if self._control.paused:
            self._control.resume()
        else:
            self._control.pause()
        self.changed.emit()

    def cancel(self) -> None:
        """Stop; what was measured stays."""
        self._waiting.clear()
        if self._control is not None:
            self._control.cancel()
            self._jobs.forget("batch")
            self._finish(whole=False)

    def retry(self) -> None:
        """Measure those again that failed."""
        self.start(list(self.failures))

    def close(self) -> None:
        """Stop without telling anybody: the window goes."""
        self._waiting.clear()
        if self._control is not None:
            self._control.cancel()

    def close_store(self) -> None:
        """Close the file of results, once no thread works any more."""
        if self._store is not None:
            self._store.close()

    def _take(self, control: Control, progress: Progress, outcome: Outcome) -> None:
        """Show one sample that was measured."""
        if control is not self._control:
            return
        entry = self._entries[progress.index]
        self.done = progress.done
        self._fresh += not progress.known
        if self._samples.is_current(entry):
            self._take_outcome(entry, outcome)
        if outcome.failure is not None:
            self.failures[entry.id] = outcome.failure
        self._tell()

    def _take_outcome(self, entry: SampleEntry, outcome: Outcome) -> None:
        """Take what was found of a sample that the study still has."""
        measurements, errors = self._session.measurements, self._samples.errors
        if outcome.table is None:
            measurements.tables.pop(entry.id, None)
            errors[entry.id] = outcome.failure or ""
            return
        errors.pop(entry.id, None)
        measurements.set_table(entry.id, outcome.table, self._method)
        self._samples.attributes[entry.id] = dict(outcome.attributes)
        self._checks.note_defects(entry.id, outcome.checks)
        if outcome.properties is not None:
            self._checks.note_properties(entry.id, outcome.properties)
        if outcome.checksum:
            self._session.note_checksum(entry.id, outcome.checksum)

    def _tell(self) -> None:
        self.progressed.emit(self.done, self.total, self.seconds_left)
        self.changed.emit()

    def _ended(self, control: Control) -> Callable[[Results], None]:
        def done(results: Results) -> None:
            if control is not self._control:
                return
            if self._session.state.method is self._method and results.method != self._method:
                # Levels that all samples have in common were found anew.
                self._session.note_method(results.method)
            self._finish(whole=True)

        return done

    def _failed(self, control: Control) -> Callable[[RilievoError], None]:
        def failed(error: RilievoError) -> None:
            if control is self._control:
                self._finish(whole=False)
                self.warned.emit(str(error))

        return failed

    def _finish(self, *, whole: bool) -> None:
        self._control = None
        self._note_speed(time.monotonic() - self._started, whole=whole)
        self._checks.check_batch()
        self._session.measurements.changed.emit()
        self.measured.emit(whole)
        self.changed.emit()
        waiting, self._waiting = self._waiting, []
        if waiting:
            self.start(waiting)

    def _note_speed(self, seconds: float, *, whole: bool) -> None:
        """Decide whether measurements follow changes by themselves.

        Results that were known took no time and tell nothing: the first change then tells.
        """
        runs = 1 if self._is_following else _BATCH_RUNS
        every = seconds / runs * self.total / self._fresh if self._fresh else 0.0
        held = self._samples.residency.holds_all(self._session.state)
        self.follows = whole and held and every < FOLLOW_SECONDS


def most_jobs() -> int:
    """Return how many worker processes there can be."""
    return max(os.cpu_count() or 1, 1)

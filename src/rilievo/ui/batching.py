"""Measuring all samples: in this window, in processes or on a cluster, paused and resumed.

Results are committed to a file in the user's cache folder as they finish: after a crash, or in
another study, what has not changed is not measured again.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs
from PyQt6.QtCore import QObject, QSettings, pyqtSignal

from rilievo.core.batch import (
    Control,
    Outcome,
    Progress,
    Results,
    ResultStore,
    item_of,
    run_batch,
)
from rilievo.core.batch.outcome_codec import unpacked
from rilievo.core.errors import RilievoError
from rilievo.core.method.method import Method
from rilievo.core.study.study import SampleEntry, StudyState

if TYPE_CHECKING:
    from rilievo.ui.workbench import Workbench

# The oldest results beyond so many bytes are forgotten.
_MOST_KEPT = 1_000_000_000


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


class Batching(QObject):
    """One batch at a time; what is asked for meanwhile is measured after it."""

    changed = pyqtSignal()
    warned = pyqtSignal(str)
    _heard = pyqtSignal(object, object, object)  # control, progress, outcome

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self._bench, self._model = bench, bench.model
        self._store: ResultStore | None = None
        self._control: Control | None = None
        self._entries: Sequence[SampleEntry] = ()
        self._method = Method()
        self._waiting: list[int] = []
        self._started = 0.0
        self._fresh = 0
        self.done, self.total = 0, 0
        # Why samples could not be measured the last time.
        self.failures: dict[int, str] = {}
        self._heard.connect(self._take)
        self._model.changed.connect(lambda _, new: self._on_change(new))

    def _on_change(self, new: StudyState) -> None:
        """Another study was opened: nobody waits for these samples any more."""
        if not self.is_running:
            return
        now = {entry.sources for entry in new.samples}
        if not any(entry.sources in now for entry in self._entries):
            self.cancel()

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
        if self._control is not None:
            self._waiting += [i for i in sample_ids if i not in self._waiting]
            return
        wanted = set(sample_ids)
        self._entries = [entry for entry in self._model.state.samples if entry.id in wanted]
        if not self._entries:
            self._bench.measured.emit(True)
            return
        self._method = method = self._model.state.method
        control = self._control = Control()
        self._started, self._fresh = time.monotonic(), 0
        self.done, self.total = 0, len(self._entries)
        for entry in self._entries:
            self.failures.pop(entry.id, None)
        items = [item_of(entry) for entry in self._entries]
        jobs, scheduler = self.jobs, self.scheduler
        budget, evaluator = self._bench.evaluator.budget, self._bench.evaluator

        def work() -> Results:
            store = self.store()

            def heard(progress: Progress) -> None:
                outcome = unpacked(store.get(progress.key), progress.item, method)
                self._heard.emit(control, progress, outcome)

            return run_batch(
                items,
                method,
                jobs=jobs,
                scheduler=scheduler,
                store=store,
                control=control,
                report=heard,
                memory=budget,
                evaluator=evaluator,
            )

        self._tell()
        self._bench.jobs.run(
            "batch",
            work,
            self._ended(control),
            self._failed(control),
            broke=lambda: self._finish(whole=False),
        )

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
            self._bench.jobs.forget("batch")
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
        entry = self._entries[progress.place]
        self.done = progress.done
        self._fresh += not progress.known
        self._bench.take_outcome(entry, outcome, self._method)
        if outcome.failure is not None:
            self.failures[entry.id] = outcome.failure
        self._tell()

    def _tell(self) -> None:
        self._bench.measuring.emit(self.done, self.total, self.seconds_left)
        self.changed.emit()

    def _ended(self, control: Control) -> Callable[[Results], None]:
        def done(results: Results) -> None:
            if control is not self._control:
                return
            if self._model.state.method is self._method and results.method != self._method:
                # Levels that all samples have in common were found anew.
                self._model.note_method(results.method)
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
        self._bench.batch_ended(whole, time.monotonic() - self._started)
        self.changed.emit()
        waiting, self._waiting = self._waiting, []
        if waiting:
            self.start(waiting)


def most_jobs() -> int:
    """Return how many worker processes there can be."""
    return max(os.cpu_count() or 1, 1)

"""Where tasks are performed: a thread of this process, and processes where they are worth it."""

from __future__ import annotations

import contextlib
import ctypes
import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing.connection import wait
from multiprocessing.synchronize import Event
from typing import Protocol, TypeVar

from rilievo.core.batch.task import Task
from rilievo.core.memory import collect_seldom, reuse_freed_memory
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.progress import Control, stoppable

# Of the call prctl.
_DIE_WITH_PARENT = 1
# A worker process takes so long to load the packages; then its first sample takes as long as the
# first one here.
START_SECONDS = 2.0

Result = TypeVar("Result")
Work = Callable[..., Result]


class Workers(Protocol):
    """Takes tasks: as many as work now, and some ahead, so that none waits for the next."""

    @property
    def breadth(self) -> int:
        """So many work now."""

    @property
    def most(self) -> int:
        """So many there may be."""

    @property
    def ahead(self) -> int:
        """So many more tasks are taken."""

    def expect(self, samples: int) -> None:
        """Hear how many tasks there will be."""

    def submit(self, work: Work[Result], task: Task) -> Future[Result]:
        """Begin a task. Raises BrokenProcessPool when a worker was ended from outside."""

    def renew(self) -> bool:
        """Start new workers after some were ended; False where none ever began."""

    def close(self) -> None:
        """Drop what has not begun, and end the workers."""


class Growing:
    """A thread of this process, and processes once they are worth their start.

    The first samples are measured here; they tell how long the others will take. Processes start
    while the thread goes on, and take over when they are there.
    """

    ahead = 2

    def __init__(self, jobs: int, control: Control, cache: AnalysisCache | None = None) -> None:
        """jobs : processes at most. cache : used by the thread; one of its own for None."""
        self._jobs, self._control, self._cache = jobs, control, cache
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="rilievo batch")
        self._processes: _Processes | None = None
        self._expected = self._ended = 0
        # Of the first sample, which also waits for packages; and of all after it.
        self._first: float | None = None
        self._seconds = 0.0

    @property
    def most(self) -> int:
        """As many as there are samples for."""
        return max(min(self._jobs, self._expected), 1)

    @property
    def breadth(self) -> int:
        """So many work now."""
        return self.most if self._has_processes else 1

    def expect(self, samples: int) -> None:
        """Hear how many tasks there will be."""
        self._expected, self._ended = samples, 0

    @property
    def _has_processes(self) -> bool:
        return self._processes is not None and self._processes.begun

    def submit(self, work: Work[Result], task: Task) -> Future[Result]:
        """Begin a task. Raises BrokenProcessPool when a worker was ended from outside."""
        if self._processes is None and self._is_worth_processes():
            self._processes = _Processes(self.most)
        processes = self._processes
        is_ready = processes is not None and (processes.begun or START_SECONDS <= 0)
        if processes is not None and is_ready and task.item.in_memory is None:
            return processes.submit(work, task)
        return self._thread.submit(self._perform, work, task)

    def _perform(self, work: Work[Result], task: Task) -> Result:
        start = time.perf_counter()
        with stoppable(self._control):
            answer = work(task, self._cache)
        self._note(time.perf_counter() - start)
        return answer

    def _note(self, seconds: float) -> None:
        if self._first is None:
            self._first = seconds
            return
        self._ended += 1
        self._seconds += seconds

    def _is_worth_processes(self) -> bool:
        """Whether what is left takes longer here than processes take to start."""
        if self.most < 2:
            return False
        if START_SECONDS <= 0:
            return True
        if not self._ended or self._first is None:
            return False
        left = (self._expected - self._ended) * self._seconds / self._ended
        # All start at the same time, and the thread goes on beside them.
        return left * (1 - 1 / self.most) > (START_SECONDS + self._first) * 2

    def renew(self) -> bool:
        """Start new processes after some were ended; False where none ever began."""
        if self._processes is None or not self._processes.begun:
            return False
        self._processes.renew()
        return True

    def close(self) -> None:
        """Finish what the thread does, drop the rest, and end the processes."""
        self._thread.shutdown(wait=True, cancel_futures=True)
        if self._processes is not None:
            self._processes.close()


class _Processes:
    """Fresh processes: a fork of a program with threads can hang."""

    def __init__(self, count: int) -> None:
        self._count = count
        self._pool = self._start()

    def _start(self) -> ProcessPoolExecutor:
        context = multiprocessing.get_context("spawn")
        self._begun = context.Event()
        pool = ProcessPoolExecutor(
            self._count, mp_context=context, initializer=_begin, initargs=(self._begun,)
        )
        # Each is started by something to do.
        for _ in range(self._count):
            pool.submit(_nothing)
        return pool

    @property
    def begun(self) -> bool:
        """Whether one of the workers is ready for a task."""
        return self._begun.is_set()

    def submit(self, work: Work[Result], task: Task) -> Future[Result]:
        """Begin a task. Raises BrokenProcessPool when a worker was ended from outside."""
        return self._pool.submit(work, task)

    def renew(self) -> None:
        """Start new workers after some were ended."""
        self._pool.shutdown(wait=False, cancel_futures=True)
        self._pool = self._start()

    def close(self) -> None:
        """Drop what has not begun, and end the workers."""
        self._pool.shutdown(wait=True, cancel_futures=True)


def _nothing() -> None:
    """Let a worker begin."""


def _begin(begun: Event) -> None:
    """Prepare a worker process: one thread each for the libraries, and an end with its parent.

    The pipe of the pool does not close when the parent is killed, since each worker holds its
    other end.
    """
    begun.set()
    reuse_freed_memory()
    collect_seldom()
    parent = multiprocessing.parent_process()
    with contextlib.suppress(OSError, AttributeError):
        # Linux ends it at once, also in the middle of a long loop of compiled code. It counts the
        # thread that began it, which stays until the batch is over.
        ctypes.CDLL(None).prctl(_DIE_WITH_PARENT, signal.SIGKILL)
    if parent is not None:
        threading.Thread(target=_end_with, args=(parent.sentinel,), daemon=True).start()
    _single_threaded()


def _end_with(sentinel: int) -> None:
    with contextlib.suppress(OSError):
        wait([sentinel])
    os._exit(1)


def _single_threaded() -> None:
    """Leave the other cores to the other workers."""
    import numba  # noqa: PLC0415 (slow to import)

    numba.set_num_threads(1)

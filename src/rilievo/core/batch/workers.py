"""Where tasks are performed: a thread of this process, or several processes."""

from __future__ import annotations

import contextlib
import ctypes
import multiprocessing
import os
import signal
import threading
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing.connection import wait
from multiprocessing.synchronize import Event
from typing import Protocol

from rilievo.core.batch.task import Done, Task, perform
from rilievo.core.memory import collect_seldom, reuse_freed_memory
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.progress import stoppable

# Of the call prctl.
_DIE_WITH_PARENT = 1


class Workers(Protocol):
    """Takes tasks.

    breadth : so many are performed at a time. ahead : so many more are taken, so that no worker
    waits for the next.
    """

    breadth: int
    ahead: int

    def submit(self, task: Task) -> Future[Done]:
        """Begin a task."""

    def close(self) -> None:
        """Drop what has not begun, and end the workers."""


class OneThread:
    """Performs one task after another beside the thread that keeps the results."""

    breadth = 1
    ahead = 2

    def __init__(self, cancelled: threading.Event, evaluator: Evaluator | None = None) -> None:
        """evaluator : used with what it holds; None makes one."""
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="rilievo batch")
        self._cancelled, self._evaluator = cancelled, evaluator

    def submit(self, task: Task) -> Future[Done]:
        """Begin a task."""
        return self._pool.submit(self._perform, task)

    def _perform(self, task: Task) -> Done:
        with stoppable(self._cancelled):
            return perform(task, self._evaluator)

    def close(self) -> None:
        """Finish what runs and drop the rest."""
        self._pool.shutdown(wait=True, cancel_futures=True)


class Processes:
    """Fresh processes: a fork of a program with threads can hang."""

    ahead = 2

    def __init__(self, count: int) -> None:
        self.breadth = count
        self._pool = self._start()

    def _start(self) -> ProcessPoolExecutor:
        context = multiprocessing.get_context("spawn")
        self._begun = context.Event()
        return ProcessPoolExecutor(
            self.breadth, mp_context=context, initializer=_begin, initargs=(self._begun,)
        )

    @property
    def begun(self) -> bool:
        """Whether one of the workers came as far as taking a task."""
        return self._begun.is_set()

    def submit(self, task: Task) -> Future[Done]:
        """Begin a task. Raises BrokenProcessPool when a worker was ended from outside."""
        return self._pool.submit(perform, task)

    def renew(self) -> None:
        """Start new workers after some were ended."""
        self._pool.shutdown(wait=False, cancel_futures=True)
        self._pool = self._start()

    def close(self) -> None:
        """Drop what has not begun, and end the workers."""
        self._pool.shutdown(wait=True, cancel_futures=True)


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

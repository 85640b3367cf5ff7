"""Work off the interface thread, answers delivered on it.

Work is asked for by slot. One piece a slot runs at a time; a newer request replaces one that
waits and stops the one that runs at its next checkpoint. An answer that was overtaken is dropped,
unless the slot wants every answer (a picture that follows the pointer should show each frame it
gets). What is asked for in the background has threads of its own, so that thousands of such pieces
never keep waiting what is looked at.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from threading import Event
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.errors import Cancelled, RilievoError
from rilievo.core.progress import Control, stoppable

_LOG = logging.getLogger("rilievo")


@dataclass(frozen=True)
class _Request:
    slot: str
    work: Callable[[], Any]
    done: Callable[[Any], None]
    failed: Callable[[RilievoError], None] | None
    every: bool
    broke: Callable[[], None] | None = None
    background: bool = False
    control: Control = field(default_factory=Control)
    begun: Event = field(default_factory=Event)

    @property
    def writes(self) -> bool:
        """Whether it writes a file that somebody asked for."""
        return self.slot.startswith("write")


class Jobs(QObject):
    """Runs work in threads."""

    _finished = pyqtSignal(object, object, object)

    def __init__(self, parent: QObject | None = None, threads: int = 2) -> None:
        """threads : of what is looked at, and as many again for the background."""
        super().__init__(parent)
        self._pools = {
            background: ThreadPoolExecutor(threads, thread_name_prefix=f"rilievo {name}")
            for background, name in ((False, "front"), (True, "background"))
        }
        # Of what may not have begun yet.
        self._futures: dict[str, Future[None]] = {}
        self._running: dict[str, _Request] = {}
        self._waiting: dict[str, _Request] = {}
        self._closed = False
        self._finished.connect(self._deliver)

    def run(
        self,
        slot: str,
        work: Callable[[], Any],
        done: Callable[[Any], None],
        failed: Callable[[RilievoError], None] | None = None,
        *,
        every: bool = False,
        broke: Callable[[], None] | None = None,
        background: bool = False,
        control: Control | None = None,
    ) -> None:
        """Run `work` in a thread, then `done(result)` or `failed(error)` on this one.

        background : nobody waits for it now. control : stops it; one of its own for None.

        After `close` a file is written at once, and nothing else is done. Errors that are not
        meant for the user are raised here, on the interface thread, after `broke()`, which leaves
        nothing waiting for an answer.
        """
        request = _Request(slot, work, done, failed, every, broke, background, control or Control())
        if self._closed:
            if request.writes:
                self._work(request)
            return
        if slot in self._running:
            self._waiting[slot] = request
            if not self._running[slot].every:
                self._running[slot].control.cancel()
            return
        self._start(request)

    def bring_forward(self, slot: str) -> None:
        """Do what waits in the background before all else there: it is looked at now."""
        future, request = self._futures.get(slot), self._running.get(slot)
        if request is not None and request.background and future is not None and future.cancel():
            self._futures[slot] = self._pools[False].submit(self._work, request)

    def forget(self, slot: str) -> None:
        """Drop what waits in a slot and the answer of what runs."""
        self._waiting.pop(slot, None)
        if slot in self._running:
            # The answer is recognised by the request that stands here.
            self._waiting[slot] = _Request(slot, lambda: None, lambda _: None, None, every=False)
            self._running[slot].control.cancel()

    def is_busy(self, slot: str) -> bool:
        """Whether something runs or waits in a slot."""
        return slot in self._running or slot in self._waiting

    @property
    def idle(self) -> bool:
        """Whether nothing runs or waits."""
        return not self._running and not self._waiting

    def close(self) -> None:
        """Write the files that were asked for, finish what runs, and drop the rest."""
        self._closed = True
        asked = [*self._running.values(), *self._waiting.values()]
        self._waiting.clear()
        for request in self._running.values():
            if not request.writes:
                request.control.cancel()
        for pool in self._pools.values():
            pool.shutdown(wait=True, cancel_futures=True)
        for request in asked:
            if request.writes and not request.begun.is_set():
                self._work(request)

    def _start(self, request: _Request) -> None:
        self._running[request.slot] = request
        pool = self._pools[request.background]
        self._futures[request.slot] = pool.submit(self._work, request)

    def _work(self, request: _Request) -> None:
        request.begun.set()
        result, error = None, None
        try:
            with stoppable(request.control):
                result = request.work()
        except Exception as exc:
            error = exc
        if not self._closed:
            self._finished.emit(request, result, error)
        elif error is not None and not isinstance(error, Cancelled):
            # Nobody is left to be told.
            _LOG.error("After the window was closed: %s", error, exc_info=error)

    def _deliver(self, request: _Request, result: Any, error: Exception | None) -> None:
        self._running.pop(request.slot, None)
        self._futures.pop(request.slot, None)
        newer = self._waiting.pop(request.slot, None)
        if newer is not None:
            self._start(newer)
        if self._closed or (newer is not None and not request.every):
            return
        if isinstance(error, Cancelled):
            return
        if error is None:
            request.done(result)
        elif isinstance(error, RilievoError):
            if request.failed is not None:
                request.failed(error)
        else:
            if request.broke is not None:
                request.broke()
            raise error

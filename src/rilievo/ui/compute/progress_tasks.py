"""Work that somebody waits for, such as opening a study: how far it is, and a way to stop it."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from rilievo.core.errors import RilievoError
from rilievo.core.progress import Control
from rilievo.ui.compute.jobs import Jobs

# What is done sooner shows no progress.
_PATIENCE_MS = 300
Report = Callable[[float], None]


class _Awaited:
    """One piece of work. fraction : how much is done; None where it is not known."""

    def __init__(self, slot: str, text: str, stopped: Callable[[], None] | None) -> None:
        self.slot, self.text, self.stopped = slot, text, stopped
        self.fraction: float | None = None
        self.start = time.monotonic()
        self.is_slow = False
        self.control = Control()


class ProgressTasks(QObject):
    """Runs such work in threads; what is shown of it is that of the piece begun last.

    changed : how far it is changed, or it has ended.
    """

    changed = pyqtSignal()
    _heard = pyqtSignal(object, float)
    _left = pyqtSignal(str)

    def __init__(self, jobs: Jobs, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._jobs = jobs
        self._awaited: list[_Awaited] = []
        # What begins when the work before it in its slot has ended; a slot is here while it works.
        self._queued: dict[str, deque[Callable[[], None]]] = {}
        self._heard.connect(self._hear)
        self._left.connect(self._go_on)
        self._patience = QTimer(self)
        self._patience.setSingleShot(True)
        self._patience.timeout.connect(self._show_slow)

    def run(
        self,
        slot: str,
        text: str,
        work: Callable[[Report], Any],
        done: Callable[[Any], None],
        failed: Callable[[RilievoError], None],
        *,
        stopped: Callable[[], None] | None = None,
        broke: Callable[[], None] | None = None,
        newest: bool = False,
    ) -> None:
        """Run `work(report)` in a thread, then `done(result)` or `failed(error)` on this one.

        text : what is done, such as “Opening a.rilievo”. report : is given the fraction that is
        done, and raises Cancelled when it is stopped. stopped : called when that was asked for;
        None for what cannot be stopped. newest : what is asked for again in this slot takes the
        place of what is under way; else all are done, one after the other.
        """
        if newest:
            for other in [one for one in self._awaited if one.slot == slot]:
                other.control.cancel()
                self._end(other)
        awaited = _Awaited(slot, text, stopped)
        self._awaited.append(awaited)
        self._patience.start(_PATIENCE_MS)

        def report(fraction: float) -> None:
            awaited.control.check()
            self._heard.emit(awaited, fraction)

        def end(tell: Callable[[], None]) -> None:
            if awaited in self._awaited:
                self._end(awaited)
                tell()

        def work_and_leave() -> Any:
            try:
                return work(report)
            finally:
                self._left.emit(slot)

        def begin() -> None:
            if awaited.control.is_cancelled:
                self._go_on(slot)
                return
            self._jobs.run(
                slot,
                work_and_leave,
                lambda result: end(lambda: done(result)),
                lambda error: end(lambda: failed(error)),
                every=True,
                control=awaited.control,
                broke=lambda: end(broke or (lambda: None)),
            )

        if newest:
            begin()
        elif slot in self._queued:
            self._queued[slot].append(begin)
        else:
            self._queued[slot] = deque()
            begin()

    def _go_on(self, slot: str) -> None:
        """Begin with what waits in a slot whose work has ended."""
        waiting = self._queued.get(slot)
        if waiting:
            waiting.popleft()()
        else:
            self._queued.pop(slot, None)

    def close(self) -> None:
        """Write the files whose turn had not come, once the jobs are closed."""
        for waiting in list(self._queued.values()):
            while waiting:
                waiting.popleft()()

    def cancel(self) -> None:
        """Stop what is shown; it ends at its next report, and its result is dropped."""
        shown = self._shown
        if shown is not None and shown.stopped is not None:
            shown.control.cancel()
            self._end(shown)
            shown.stopped()

    @property
    def text(self) -> str:
        """What is done; "" for nothing that takes long."""
        return "" if self._shown is None else self._shown.text

    @property
    def fraction(self) -> float | None:
        """How much of it is done; None where that is not known."""
        return None if self._shown is None else self._shown.fraction

    @property
    def seconds_left(self) -> float | None:
        """How long it takes still, at the pace so far; None where that is not known."""
        shown = self._shown
        if shown is None or not shown.fraction:
            return None
        return (time.monotonic() - shown.start) * (1 - shown.fraction) / shown.fraction

    @property
    def can_cancel(self) -> bool:
        """Whether what is shown can be stopped."""
        return self._shown is not None and self._shown.stopped is not None

    @property
    def _shown(self) -> _Awaited | None:
        return next((one for one in reversed(self._awaited) if one.is_slow), None)

    def _show_slow(self) -> None:
        """What has not ended by now is shown."""
        for awaited in self._awaited:
            awaited.is_slow = True
        self.changed.emit()

    def _hear(self, awaited: _Awaited, fraction: float) -> None:
        before, awaited.fraction = awaited.fraction, fraction
        # A step of a hundredth is what one sees.
        if awaited.is_slow and int(100 * (before or 0.0)) != int(100 * fraction):
            self.changed.emit()

    def _end(self, awaited: _Awaited) -> None:
        self._awaited.remove(awaited)
        self.changed.emit()

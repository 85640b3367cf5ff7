"""How far work is, and the one token by which it is paused and stopped, between its parts."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator

from rilievo.core.errors import Cancelled

_here = threading.local()


def no_report(fraction: float) -> None:
    """Take how much is done and ignore it; a report that raises Cancelled stops the work."""


class Control:
    """Pauses and stops work from another thread; what is finished by then stays."""

    def __init__(self) -> None:
        self._cancelled, self._going = threading.Event(), threading.Event()
        self._going.set()

    @property
    def is_cancelled(self) -> bool:
        """Whether nobody waits for the work any more."""
        return self._cancelled.is_set()

    @property
    def paused(self) -> bool:
        """Whether no new part is begun."""
        return not self._going.is_set()

    def pause(self) -> None:
        """Begin no new part."""
        self._going.clear()

    def resume(self) -> None:
        """Go on."""
        self._going.set()

    def cancel(self) -> None:
        """Stop."""
        self._cancelled.set()
        self._going.set()

    def check(self) -> None:
        """Raise Cancelled once it is cancelled."""
        if self.is_cancelled:
            raise Cancelled("The work was stopped; what was finished is kept.")

    def wait(self) -> None:
        """Wait while paused. Raises Cancelled."""
        self._going.wait()
        self.check()


def control_here() -> Control:
    """Return the token of the work that this thread is at; a new one where it is at none."""
    control: Control | None = getattr(_here, "control", None)
    return control or Control()


@contextlib.contextmanager
def stoppable(control: Control) -> Iterator[None]:
    """Let `checkpoint` in this thread raise Cancelled once `control` is cancelled."""
    before = getattr(_here, "control", None)
    _here.control = control
    try:
        yield
    finally:
        _here.control = before


def checkpoint() -> None:
    """Raise Cancelled when whoever asked for the present work wants it no longer."""
    control: Control | None = getattr(_here, "control", None)
    if control is not None:
        control.check()

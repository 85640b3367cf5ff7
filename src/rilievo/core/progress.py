"""How far work is, and stopping what nobody waits for any more, between its parts."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator

from rilievo.core.errors import Cancelled

_here = threading.local()


def no_report(fraction: float) -> None:
    """Take how much is done and ignore it; a report that raises Cancelled stops the work."""


@contextlib.contextmanager
def stoppable(stop: threading.Event) -> Iterator[None]:
    """Let `checkpoint` in this thread raise Cancelled once `stop` is set."""
    before = getattr(_here, "stop", None)
    _here.stop = stop
    try:
        yield
    finally:
        _here.stop = before


def checkpoint() -> None:
    """Raise Cancelled when whoever asked for the present work wants it no longer."""
    stop = getattr(_here, "stop", None)
    if stop is not None and stop.is_set():
        raise Cancelled("The work was stopped, because something newer was asked for.")

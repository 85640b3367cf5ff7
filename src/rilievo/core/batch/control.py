"""Pausing and cancelling a batch from another thread."""

from __future__ import annotations

import threading

from rilievo.core.errors import Cancelled


class Control:
    """Asked between samples. What is under way when it is paused is still finished."""

    def __init__(self) -> None:
        self.cancelled = threading.Event()
        self._going = threading.Event()
        self._going.set()

    @property
    def paused(self) -> bool:
        """Whether no new sample is begun."""
        return not self._going.is_set()

    def pause(self) -> None:
        """Begin no new sample."""
        self._going.clear()

    def resume(self) -> None:
        """Go on."""
        self._going.set()

    def cancel(self) -> None:
        """Stop; what was finished stays."""
        self.cancelled.set()
        self._going.set()

    def wait(self) -> None:
        """Wait while paused. Raises Cancelled."""
        self._going.wait()
        if self.cancelled.is_set():
            raise Cancelled("The batch was cancelled; what was measured is kept.")

"""Objects that hold each other are collected on the interface thread, the old ones when it rests.

By itself the interpreter collects on whatever thread makes the next object. What Qt draws must not
be deleted on another thread than its own, and to go through all objects of a large study takes
long enough to be felt.
"""

from __future__ import annotations

import gc
import time
from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer

# How often it is looked, at work and at rest.
_LOOK_MS, _SELDOM_MS = 50, 500
# New objects that are worth a look, and looks at a younger age before one at the next.
_NEW, _LOOKS = 2_000, 6
# The oldest are gone through when nothing was computed for so long, or so many looks are due.
_REST_SECONDS, _MOST_LOOKS = 2.0, 200


class Garbage(QObject):
    """Collects in the place of the interpreter until it is closed."""

    def __init__(
        self,
        is_idle: Callable[[], bool],
        parent: QObject | None = None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        """is_idle : whether nothing is computed. clock : seconds, for tests."""
        super().__init__(parent)
        self._is_idle, self._clock = is_idle, clock
        self._last_busy = clock()
        self._is_due = False
        gc.disable()
        self.timer = QTimer(self)
        self.timer.setInterval(_LOOK_MS)
        self.timer.timeout.connect(self.look)
        self.timer.start()

    def look(self) -> None:
        """Collect where enough has come together since the last time."""
        if not self._is_idle():
            self._last_busy = self._clock()
        rests = self._clock() - self._last_busy > _REST_SECONDS
        often = _SELDOM_MS if rests else _LOOK_MS
        if self.timer.interval() != often:
            self.timer.setInterval(often)
        new, younger, older = gc.get_count()
        if older > (_LOOKS if rests else _MOST_LOOKS) or (rests and self._is_due):
            self._is_due = False
            gc.collect(2)
        elif younger > _LOOKS:
            gc.collect(1)
        elif new > _NEW:
            gc.collect(0)

    def soon(self) -> None:
        """Go through all at the next rest: much was let go."""
        self._is_due = True

    def keep_all(self) -> None:
        """Go through nothing again that there is now: packages, and the window itself."""
        gc.freeze()

    def close(self) -> None:
        """Leave it to the interpreter again."""
        self.timer.stop()
        gc.unfreeze()
        gc.enable()

"""Pauses of the interface thread: how long, how many, and what ran in them."""

from __future__ import annotations

import signal
import time
from collections import Counter
from pathlib import Path
from types import CodeType, FrameType
from typing import Self

from PyQt6.QtCore import QTimer

_BEAT_MS, _LOOK_S = 2, 0.005
_FRAMES = 6


class PauseWatch:
    """Records each time the interface thread answers no timer for longer than `least` seconds.

    Made and used on that thread. pauses : their lengths in seconds. ran : where it was meanwhile,
    innermost frame last, by how often it was seen there.
    """

    def __init__(self, least: float = 0.05) -> None:
        self.least = least
        self.pauses: list[float] = []
        self.ran: Counter[str] = Counter()
        self._last = time.perf_counter()
        self._timer = QTimer()
        self._timer.setInterval(_BEAT_MS)
        self._timer.timeout.connect(self._beat)

    def __enter__(self) -> Self:
        self._last = time.perf_counter()
        self._timer.start()
        # A signal is heard on the thread itself: to look at its frames from another is not safe.
        self._former = signal.signal(signal.SIGALRM, self._look)
        signal.setitimer(signal.ITIMER_REAL, _LOOK_S, _LOOK_S)
        return self

    def __exit__(self, *_: object) -> None:
        self._beat()
        self._timer.stop()
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, self._former)

    @property
    def longest(self) -> float:
        """The longest pause in seconds; 0 where there was none."""
        return max(self.pauses, default=0.0)

    @property
    def total(self) -> float:
        """All pauses together in seconds."""
        return sum(self.pauses)

    def told(self, most: int = 5) -> str:
        """Return pauses and what ran most in them as text."""
        lines = [
            f"{len(self.pauses)} pauses, longest {self.longest:.3f} s, {self.total:.2f} s in all"
        ]
        lines += [f"  {count:5} × {where}" for where, count in self.ran.most_common(most)]
        return "\n".join(lines)

    def _beat(self) -> None:
        now = time.perf_counter()
        if now - self._last > self.least:
            self.pauses.append(now - self._last)
        self._last = now

    def _look(self, _signal: int, frame: FrameType | None) -> None:
        if frame is not None and time.perf_counter() - self._last > self.least:
            self.ran[_where(frame)] += 1


def _where(innermost: FrameType) -> str:
    """The own functions that run."""
    codes: list[CodeType] = []
    frame: FrameType | None = innermost
    while frame is not None:
        codes.append(frame.f_code)
        frame = frame.f_back
    own = [code for code in codes if "rilievo" in code.co_filename][:_FRAMES]
    return " > ".join(f"{Path(one.co_filename).stem}.{one.co_name}" for one in reversed(own))

"""Timing that the benches share."""

from __future__ import annotations

import time
from collections.abc import Callable


def shortest(work: Callable[[], object], times: int = 3) -> float:
    """Return the seconds of the fastest of a few runs."""
    spent = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        spent.append(time.perf_counter() - start)
    return min(spent)

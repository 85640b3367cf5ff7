"""Work on a large array piece by piece in a few threads; NumPy works outside the interpreter lock.

Pieces fit into the processor's cache, so that intermediate values never reach main memory.
"""

from __future__ import annotations

import functools
import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Piece = TypeVar("Piece")
Result = TypeVar("Result")

_THREADS = min(4, os.cpu_count() or 1)
# Below this many values starting threads costs more than they save.
WORTH_THREADS = 1 << 20


def in_pieces(
    work: Callable[[Piece], Result], pieces: Iterable[Piece], *, values: int
) -> list[Result]:
    """Return `work` of each piece, in order; `values` is the size of the whole."""
    if values < WORTH_THREADS or _THREADS == 1:
        return [work(piece) for piece in pieces]
    return list(_pool().map(work, pieces))


@functools.cache
def _pool() -> ThreadPoolExecutor:
    """One pool for all; what runs in it never waits for more of it."""
    return ThreadPoolExecutor(_THREADS, thread_name_prefix="pieces")

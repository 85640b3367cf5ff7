"""Work on a large array piece by piece in a few threads; NumPy works outside the interpreter lock.

Pieces fit into the processor's cache, so that intermediate values never reach main memory.
"""

from __future__ import annotations

import functools
import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

Piece = TypeVar("Piece")
Result = TypeVar("Result")

_THREADS = min(4, os.cpu_count() or 1)
# Below this many values starting threads costs more than they save.
WORTH_THREADS = 1 << 20
_ROWS = 64


def in_pieces(
    work: Callable[[Piece], Result], pieces: Iterable[Piece], *, values: int
) -> list[Result]:
    """Return `work` of each piece, in order; `values` is the size of the whole."""
    if values < WORTH_THREADS or _THREADS == 1:
        return [work(piece) for piece in pieces]
    return list(_pool().map(work, pieces))


def by_pixel(work: Callable[[NDArray[Any]], NDArray[Any]], values: NDArray[Any]) -> NDArray[Any]:
    """Return a function of each pixel by itself, rows together in a few threads."""
    result = np.empty_like(values)

    def some(top: int) -> None:
        # What has no value becomes NaN or infinite without a word, in every thread.
        with np.errstate(all="ignore"):
            result[top : top + _ROWS] = work(values[top : top + _ROWS])

    in_pieces(some, range(0, values.shape[0], _ROWS), values=values.size)
    return result


@functools.cache
def _pool() -> ThreadPoolExecutor:
    """One pool for all; what runs in it never waits for more of it."""
    return ThreadPoolExecutor(_THREADS, thread_name_prefix="pieces")

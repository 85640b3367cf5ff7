"""Memory that was freed is kept for the next, or given back; when garbage is looked for."""

from __future__ import annotations

import contextlib
import ctypes
import gc
from typing import Any

# Of the call mallopt, and its values: blocks of up to so many bytes are taken from what was freed,
# and so much of it is kept.
_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3
_LARGEST_REUSED = 32 << 20
_MOST_HELD = 64 << 20


def reuse_freed_memory() -> None:
    """Keep what is freed for the next that asks, up to 64 MB a thread. Does nothing elsewhere.

    For programs that the user started, not for libraries. By default each array of some hundred kB
    is asked of the system page by page and given back at once, which costs more than filling it.
    """
    with contextlib.suppress(OSError, AttributeError):
        library = ctypes.CDLL(None)
        library.mallopt(_MMAP_THRESHOLD, _LARGEST_REUSED)
        library.mallopt(_TRIM_THRESHOLD, _MOST_HELD)


def collect_seldom() -> None:
    """Look for objects that hold each other less often than the interpreter does by default.

    For programs that the user started. While packages are loaded nearly all objects stay: going
    through them again and again takes a tenth of a short run.
    """
    gc.set_threshold(5_000, 20, 20)


def release(objects: list[Any]) -> None:
    """Empty a list one by one: thousands of planes at once would keep other threads waiting."""
    while objects:
        objects.pop()


def release_memory() -> None:
    """Give back what is free but held for later, in some milliseconds. Does nothing elsewhere."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)

"""Memory that was freed given back to the system."""

from __future__ import annotations

import contextlib
import ctypes
import gc


def release_memory() -> None:
    """Give back what is free but held for later; takes some milliseconds. Does nothing elsewhere.

    The C library of Linux keeps freed memory, for the next that asks.
    """
    gc.collect()
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)

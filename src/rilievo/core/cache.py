"""Results kept within a memory budget, least recently used first out, safe between threads."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

Result = TypeVar("Result")


class BudgetCache:
    """Maps keys to results; computes a missing one once, even when several threads ask."""

    def __init__(self, budget: int) -> None:
        self._limit = budget
        self._held = 0
        self._results: OrderedDict[Hashable, tuple[Any, int]] = OrderedDict()
        self._lock = threading.Lock()
        self._working: dict[Hashable, threading.Lock] = {}

    @property
    def budget(self) -> int:
        """Bytes of results that are kept."""
        return self._limit

    @budget.setter
    def budget(self, budget: int) -> None:
        with self._lock:
            self._limit = budget
            self._shrink()

    def get(
        self, key: Hashable, compute: Callable[[], Result], size: Callable[[Result], int]
    ) -> Result:
        """Return the result under `key`; `size` gives the bytes that a new one holds."""
        with self._lock:
            if key in self._results:
                self._results.move_to_end(key)
                found: Result = self._results[key][0]
                return found
            working = self._working.setdefault(key, threading.Lock())
        with working:
            with self._lock:
                if key in self._results:
                    ready: Result = self._results[key][0]
                    return ready
            try:
                result = compute()
            finally:
                with self._lock:
                    self._working.pop(key, None)
            with self._lock:
                self._store(key, result, size(result))
            return result

    def peek(self, key: Hashable) -> Any | None:
        """Return a result that is there already, else None, without waiting."""
        with self._lock:
            entry = self._results.get(key)
            return None if entry is None else entry[0]

    def _store(self, key: Hashable, result: Any, size: int) -> None:
        self._results[key] = (result, size)
        self._held += size
        self._shrink()

    def _shrink(self) -> None:
        # The newest stays even when it alone is over the budget: it is about to be used.
        while self._held > self._limit and len(self._results) > 1:
            _, (_, freed) = self._results.popitem(last=False)
            self._held -= freed

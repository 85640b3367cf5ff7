"""Results kept within a memory budget, least recently used first out, safe between threads."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import Any, TypeVar

from cachetools import Cache, LRUCache

Result = TypeVar("Result")


@dataclass
class _Kept:
    """A result and the bytes that it holds. last_used : in which round."""

    result: Any
    size: int
    last_used: int = 0


@dataclass
class _UnderWay:
    """One computation that others wait for."""

    done: threading.Event = field(default_factory=threading.Event)
    kept: _Kept | None = None


class BudgetCache:
    """Maps keys to results; computes a missing one once, even when several threads ask."""

    def __init__(self, budget: int) -> None:
        self._lock = threading.Lock()
        self._kept = _sized(budget)
        # A result larger than the whole budget stays until the next: it is about to be used.
        self._oversized: tuple[Hashable, _Kept] | None = None
        self._under_way: dict[Hashable, _UnderWay] = {}
        self._round = 0

    @property
    def budget(self) -> int:
        """Bytes of results that are kept."""
        return int(self._kept.maxsize)

    @budget.setter
    def budget(self, budget: int) -> None:
        with self._lock:
            if budget == self._kept.maxsize:
                return
            former, self._kept = self._kept, _sized(budget)
            # From the least to the most recently used, so that the order stays.
            while former:
                self._store(*former.popitem())

    def clear(self) -> None:
        """Drop all results; what is being computed is kept when it is there."""
        with self._lock:
            former, self._kept = self._kept, _sized(self.budget)
            self._oversized = None
        # Nobody waits meanwhile.
        while former:
            former.popitem()

    def advance(self) -> None:
        """Go on to the next of many samples: drop what was not used since the round before.

        What samples share stays, since each uses it; what belongs to one goes a round after it.
        """
        with self._lock:
            gone = [key for key, entry in self._kept.items() if entry.last_used < self._round]
            for key in gone:
                del self._kept[key]
            if self._oversized is not None and self._oversized[1].last_used < self._round:
                self._oversized = None
            self._round += 1

    @property
    def held(self) -> int:
        """Bytes of the results that are kept now."""
        with self._lock:
            beyond = self._oversized[1].size if self._oversized is not None else 0
            return int(self._kept.currsize) + beyond

    def get(
        self, key: Hashable, compute: Callable[[], Result], size: Callable[[Result], int]
    ) -> Result:
        """Return the result under `key`; `size` gives the bytes that a new one holds."""
        while True:
            with self._lock:
                entry = self._find(key)
                if entry is not None:
                    result_held: Result = entry.result
                    return result_held
                other = self._under_way.get(key)
                if other is None:
                    slot = self._under_way[key] = _UnderWay()
                    break
            other.done.wait()
            if other.kept is not None:
                ready: Result = other.kept.result
                return ready
            # The other computation failed or was stopped; this one asks anew.
        try:
            result = compute()
            slot.kept = _Kept(result, size(result))
        finally:
            # Stored and no longer under way in one go: nobody can come between and compute again.
            with self._lock:
                if slot.kept is not None:
                    self._store(key, slot.kept)
                del self._under_way[key]
            slot.done.set()
        return result

    def peek(self, key: Hashable) -> Any | None:
        """Return a result that is there already, else None, without waiting or using it."""
        with self._lock:
            if self._oversized is not None and self._oversized[0] == key:
                return self._oversized[1].result
            # The plain look-up of the base class does not count as a use.
            entry = Cache.__getitem__(self._kept, key) if key in self._kept else None
            return None if entry is None else entry.result

    def _find(self, key: Hashable) -> _Kept | None:
        entry: _Kept | None = self._kept.get(key)
        if self._oversized is not None and self._oversized[0] == key:
            entry = self._oversized[1]
        if entry is not None:
            entry.last_used = self._round
        return entry

    def _store(self, key: Hashable, entry: _Kept) -> None:
        self._oversized = None
        entry.last_used = self._round
        if entry.size > self._kept.maxsize:
            self._kept.clear()
            self._oversized = (key, entry)
        else:
            self._kept[key] = entry


def _sized(budget: int) -> LRUCache[Hashable, _Kept]:
    return LRUCache(budget, getsizeof=lambda entry: entry.size)

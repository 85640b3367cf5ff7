"""Files of many planes that stay open from one plane to the next: finding the pages takes long."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Generic, Protocol, TypeVar


class _Closes(Protocol):
    def close(self) -> None: ...


Opened = TypeVar("Opened", bound=_Closes)


class KeptOpen(Generic[Opened]):
    """The few files that were used last, each used by one thread at a time."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._lock = threading.Lock()
        self._kept: OrderedDict[str, tuple[threading.Lock, list[Opened]]] = OrderedDict()

    @contextmanager
    def use(self, identity: str, make: Callable[[], Opened]) -> Iterator[Opened]:
        """The file of an identity, opened by `make` where it is not open yet.

        identity : names the file in its present state. Raises what `make` raises.
        """
        with self._lock:
            turn, held = self._kept.setdefault(identity, (threading.Lock(), []))
            self._kept.move_to_end(identity)
            gone = [self._kept.popitem(last=False)[1] for _ in range(len(self._kept) - self._most)]
        for other_turn, other in gone:
            with other_turn:
                for file in other:
                    file.close()
                other.clear()
        with turn:
            if not held:
                held.append(make())
            try:
                yield held[0]
            except BaseException:
                # What is left after an error may be in the middle of something.
                for file in held:
                    file.close()
                held.clear()
                raise
            with self._lock:
                still = self._kept.get(identity, (None, []))[0] is turn
            if not still:
                for file in held:
                    file.close()
                held.clear()

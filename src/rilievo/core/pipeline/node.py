"""A result that is computed once and kept under a name made of what it depends on."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from functools import cached_property
from typing import Generic, TypeVar

from rilievo.core.cache import BudgetCache

Result = TypeVar("Result")
Key = tuple[Hashable, ...]


def few_bytes(_: object) -> int:
    """Return the bytes of a result that is too small to be counted."""
    return 1000


class Node(Generic[Result]):
    """A result, and the other results and values that it depends on.

    Parameters
    ----------
    cache : BudgetCache
        Where the result is kept.
    name : str
        What is computed.
    compute : callable
        Makes the result; called at most once while there is room for it.
    *inputs : Node or hashable
        All that the result depends on: its key is made of these, and of nothing else.
    size : callable
        Bytes of a result.
    """

    def __init__(
        self,
        cache: BudgetCache,
        name: str,
        compute: Callable[[], Result],
        *inputs: Node[object] | Hashable,
        size: Callable[[Result], int] = few_bytes,
    ) -> None:
        self._cache, self._compute, self._size = cache, compute, size
        self._name, self._inputs = name, inputs

    @cached_property
    def key(self) -> Key:
        """What the result is kept under."""
        return (
            self._name,
            *(
                argument.key if isinstance(argument, Node) else argument
                for argument in self._inputs
            ),
        )

    def get(self) -> Result:
        """Return the result, computed now if need be."""
        return self._cache.get(self.key, self._compute, self._size)

    def peek(self) -> Result | None:
        """Return the result if it is there already; computes nothing."""
        result: Result | None = self._cache.peek(self.key)
        return result

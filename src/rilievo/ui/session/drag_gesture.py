"""One drag of the pointer: everything it changes becomes one entry of the undo list."""

from __future__ import annotations

from typing import Protocol


class DragGesture:
    """Counts the drags of one kind; each has a merge id of its own.

    Changes pushed one after another under the same text and merge id become one entry.
    """

    def __init__(self, name: str) -> None:
        """name : what is dragged, such as "display range"."""
        self._name, self._count = name, 0

    def begin(self) -> None:
        """Begin a drag: what follows is a new entry."""
        self._count += 1

    @property
    def merge_id(self) -> str:
        """Names the drag that is under way, or was the last."""
        return f"{self._name} {self._count}"


class DragTarget(Protocol):
    """What a marker that is dragged belongs to: a card, or a part of one."""

    def begin_drag(self) -> None:
        """Begin a drag of one of its markers."""

    def drag(self, key: str, value: float) -> None:
        """Follow a marker to a value in native units; `key` names the marker."""

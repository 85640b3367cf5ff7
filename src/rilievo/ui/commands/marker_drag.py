"""Markers dragged on the Ridges: each belongs to a card of its stage."""

from __future__ import annotations

from collections.abc import Mapping

from rilievo.ui.session.drag_gesture import DragTarget


class MarkerDrag:
    """Hands what is dragged to the card that has it."""

    def __init__(self, targets: Mapping[str, DragTarget]) -> None:
        """targets : first word of a marker's key → what it belongs to."""
        self._targets = targets

    def begin(self, key: str) -> None:
        """Begin to drag a marker."""
        self._targets[key.split(maxsplit=1)[0]].begin_drag()

    def move(self, key: str, value: float) -> None:
        """Drag a marker to a value in native units."""
        self._targets[key.split(maxsplit=1)[0]].drag(key, value)

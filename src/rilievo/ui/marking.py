"""Markers dragged on the Ridges: each belongs to a card of its stage."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rilievo.ui.window import Window


class Marking:
    """Hands what is dragged to the card that has it."""

    def __init__(self, window: Window) -> None:
        self._window = window
        window.ridges.marker_begun.connect(self._begin)
        window.ridges.marker_moved.connect(self._move)

    def _begin(self, key: str) -> None:
        window = self._window
        if key == "threshold":
            window.bench.drag.begin()
        elif key.startswith("background"):
            window.correct_panel.begin_drag()
        else:
            window.look_panel.display.begin_drag()

    def _move(self, key: str, value: float) -> None:
        window = self._window
        if key in ("threshold", "lower", "upper"):
            window.outline_panel.level.drag(key, value)
        elif key.startswith("background"):
            window.correct_panel.set_level(key.removeprefix("background "), value)
        elif window.model.channel is not None:
            model = window.model
            ends = window.bench.display_range(window.model.channel, "native", model.sample_id)
            ends = (value, ends[1]) if key.endswith("low") else (ends[0], value)
            window.look_panel.display.set_range(*ends)

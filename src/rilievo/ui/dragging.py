"""A marker or a limit while it is dragged: shown at once, made part of the method when it rests."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from rilievo.core.cleaning.choosing import KeepRange
from rilievo.core.method.class_definition import ThresholdUse, hand_threshold
from rilievo.core.regions.label_map import Found

if TYPE_CHECKING:
    from rilievo.ui.workbench import Workbench

# A marker that has not moved for this long is at rest.
REST_MS = 120


@dataclass(frozen=True, eq=False)
class KeptPreview:
    """Regions as they come to a limit that is dragged, and what becomes of each.

    table : label → label that is shown; −1 is left out.
    """

    sample_id: int
    found: Found
    table: NDArray[np.int32]


class Dragging(QObject):
    """What is dragged now: a threshold, an end of a band, or a limit of the clean-up."""

    changed = pyqtSignal()

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.level: float | None = None
        self.limits: dict[str, float] | None = None
        self.kept: KeptPreview | None = None
        self._keep: tuple[int, KeepRange] | None = None
        # Regions and their quantity before a limit: by what they were found with.
        self._before: tuple[object, Found, NDArray[np.float64]] | None = None
        self.number = 0
        self.rest = QTimer(self)
        self.rest.setSingleShot(True)
        self.rest.setInterval(REST_MS)
        self.rest.timeout.connect(self.commit)

    def begin(self) -> None:
        """Start a drag: all its changes become one entry of the undo list."""
        self.number += 1

    def preview(self, level: float) -> None:
        """Show a threshold at once, coarse; the exact regions follow when it rests."""
        self.level = level
        self.rest.start()
        self.changed.emit()

    def preview_band(self, end: str, level: float) -> None:
        """Move an end of a band; the regions follow when it rests."""
        limits = {**(self._bench.band or {}), end: level}
        if limits["upper"] >= limits["lower"]:
            self.limits = limits
            self.rest.start()
            self.changed.emit()

    def preview_keep(self, place: int, limits: KeepRange) -> None:
        """Show which regions a range keeps; the other samples follow when it rests.

        place : of the step in the clean-up of the class in focus.
        """
        self._keep = (place, limits)
        self.rest.start()
        bench, sample_id = self._bench, self._bench.model.sample_id
        sample, entry = bench.focused_sample, bench.model.entry
        if sample is None or entry is None or sample_id is None:
            return
        method, at = bench.model.state.method, bench.model.class_place
        early = bench.model.outline.model_copy(update={"clean": bench.model.outline.clean[:place]})
        key = (sample.content, entry.name, early, method.steps, limits.quantity, limits.channel)
        if self._before is not None and self._before[0] == key:
            self._show_kept(sample_id, limits)
            return
        evaluator, named = bench.evaluator, sample.renamed(entry.name)

        def work() -> tuple[Found, NDArray[np.float64]]:
            found = evaluator.found_before(named, method, at, place)
            values = evaluator.before_keeping(
                named, method, at, place, limits.quantity, limits.channel
            )
            return found, values

        def done(result: tuple[Found, NDArray[np.float64]]) -> None:
            self._before = (key, *result)
            if self._keep is not None and bench.model.sample_id == sample_id:
                self._show_kept(sample_id, self._keep[1])

        bench.jobs.run("before keeping", work, done, lambda _: None)

    def _show_kept(self, sample_id: int, limits: KeepRange) -> None:
        if self._before is None:
            return
        _, found, values = self._before
        good = limits.holds(values)
        table = np.full(found.count + 1 + len(found.reasons), -1, np.int32)
        table[0] = 0
        table[1 : found.count + 1][good] = np.flatnonzero(good) + 1
        self.kept = KeptPreview(sample_id, found, table)
        self.changed.emit()

    def commit(self) -> None:
        """Make what is previewed part of the method."""
        self.rest.stop()
        bench = self._bench
        keep, self._keep, self.kept = self._keep, None, None
        limits, self.limits = self.limits, None
        level, self.level = self.level, None
        if keep is not None:
            place, parameters = keep
            clean = list(bench.model.outline.clean)
            if place < len(clean) and isinstance(clean[place].parameters, KeepRange):
                clean[place] = clean[place].model_copy(update={"parameters": parameters})
                bench.change_outline("Set limits", self.number, clean=tuple(clean))
        if limits is not None:
            use = ThresholdUse.model_validate({"way": "band", "parameters": limits})
            bench.change_outline("Set band", self.number, threshold=use)
        if level is not None:
            bench.change_outline("Set threshold", self.number, threshold=hand_threshold(level))

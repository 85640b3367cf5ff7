"""A threshold or a limit while it is dragged: shown at once, part of the method when it rests."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from rilievo.core.cleaning.region_filter import KeepRange
from rilievo.core.method.class_definition import ThresholdUse, hand_threshold
from rilievo.core.regions.label_map import LabelMap
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.sample_store import SampleStore
from rilievo.ui.session.drag_gesture import DragGesture
from rilievo.ui.session.study_session import StudySession

# A marker that has not moved for this long is at rest.
REST_MS = 120


@dataclass(frozen=True, eq=False)
class KeptPreview:
    """Regions as they come to a limit that is dragged, and what becomes of each.

    table : label → label that is shown; −1 is left out.
    """

    sample_id: int
    found: LabelMap
    table: NDArray[np.int32]


class DragPreview(QObject):
    """What is dragged now: a threshold, an end of a band, or a limit of the clean-up."""

    changed = pyqtSignal()

    def __init__(
        self,
        session: StudySession,
        jobs: Jobs,
        store: SampleStore,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._jobs, self._store = session, jobs, store
        self.level: float | None = None
        self.limits: dict[str, float] | None = None
        self.kept: KeptPreview | None = None
        self._keep: tuple[int, KeepRange] | None = None
        # Regions and their quantity before a limit: by what they were found with.
        self._before: tuple[object, LabelMap, NDArray[np.float64]] | None = None
        self.gesture = DragGesture("region limits")
        self.rest = QTimer(self)
        self.rest.setSingleShot(True)
        self.rest.setInterval(REST_MS)
        self.rest.timeout.connect(self.commit)

    @property
    def band(self) -> dict[str, float] | None:
        """The ends of the band of the class in focus, as shown now; None for one level."""
        outline = self._session.focus.outline
        if outline.source != "threshold" or THRESHOLDS[outline.threshold.way].live != "band":
            return None
        return self.limits or outline.threshold.parameters.model_dump()

    def begin(self) -> None:
        """Start a drag: all its changes become one entry of the undo list."""
        self.gesture.begin()

    def preview(self, level: float) -> None:
        """Show a threshold at once, coarse; the exact regions follow when it rests."""
        self.level = level
        self.rest.start()
        self.changed.emit()

    def preview_band(self, end: str, level: float) -> None:
        """Move an end of a band; the regions follow when it rests."""
        limits = {**(self.band or {}), end: level}
        if limits["upper"] >= limits["lower"]:
            self.limits = limits
            self.rest.start()
            self.changed.emit()

    def preview_keep(self, index: int, limits: KeepRange) -> None:
        """Show which regions a range keeps; the other samples follow when it rests.

        index : of the step in the clean-up of the class in focus.
        """
        self._keep = (index, limits)
        self.rest.start()
        focus, sample_id = self._session.focus, self._session.focus.sample_id
        sample, entry = self._store.focused, focus.entry
        if sample is None or entry is None or sample_id is None:
            return
        method, class_index = self._session.state.method, focus.class_index
        early = focus.outline.model_copy(update={"clean": focus.outline.clean[:index]})
        key = (sample.content, entry.name, early, method.steps, limits.quantity, limits.channel)
        if self._before is not None and self._before[0] == key:
            self._show_kept(sample_id, limits)
            return
        found_in = self._store.analysis(sample_id).of_class(class_index)

        def work() -> tuple[LabelMap, NDArray[np.float64]]:
            found = found_in.labels_before_step(index)
            values = found_in.values_before_filter(index, limits.quantity, limits.channel)
            return found, values

        def done(result: tuple[LabelMap, NDArray[np.float64]]) -> None:
            self._before = (key, *result)
            if self._keep is not None and focus.sample_id == sample_id:
                self._show_kept(sample_id, self._keep[1])

        self._jobs.run("before keeping", work, done, lambda _: None)

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
        session, merge = self._session, self.gesture.merge_id
        keep, self._keep, self.kept = self._keep, None, None
        limits, self.limits = self.limits, None
        level, self.level = self.level, None
        if keep is not None:
            index, parameters = keep
            clean = list(session.focus.outline.clean)
            if index < len(clean) and isinstance(clean[index].parameters, KeepRange):
                clean[index] = clean[index].model_copy(update={"parameters": parameters})
                session.change_class("Set limits", merge, clean=tuple(clean))
        if limits is not None:
            use = ThresholdUse.model_validate(
                {"way": session.focus.outline.threshold.way, "parameters": limits}
            )
            session.change_class("Set band", merge, threshold=use)
        if level is not None:
            session.change_class("Set threshold", merge, threshold=hand_threshold(level))

"""The regions of the class in focus, and the threshold they are found by: as shown now."""

from __future__ import annotations

import math

from rilievo.core.regions import RegionSet
from rilievo.core.regions.region_set import class_index
from rilievo.ui.compute.drag_preview import DragPreview
from rilievo.ui.compute.evaluation_queue import EvaluationQueue
from rilievo.ui.session.study_session import StudySession


class ClassRegions:
    """Looks regions up; finding them is the evaluation queue's."""

    def __init__(self, session: StudySession, queue: EvaluationQueue, drag: DragPreview) -> None:
        self._session, self._queue, self._drag = session, queue, drag

    def of(self, sample_id: int | None) -> RegionSet | None:
        """Return the regions of the class in focus in a sample, as far as they are known."""
        return self._of_class(sample_id, self._session.focus.class_index)

    @property
    def focused(self) -> RegionSet | None:
        """The regions of the class in focus in the sample in focus."""
        return self.of(self._session.focus.sample_id)

    def containing(self, region: int) -> RegionSet | None:
        """Return the regions of the focused sample's class to which a region belongs."""
        return self._of_class(self._session.focus.sample_id, class_index(region))

    def at(self, x: int, y: int) -> int:
        """Return the region at a pixel: of the class in focus, or else of any; 0 for none."""
        summary, index = self._queue.focused, self._session.focus.class_index
        sets = summary.regions if summary is not None else ()
        for regions in (*sets[index : index + 1], *sets):
            if region := regions.at(x, y):
                return region
        return 0

    def level(self, sample_id: int | None) -> float | None:
        """Return the threshold of a sample as shown now, or None while it is unknown."""
        if self._drag.level is not None:
            return self._drag.level
        regions = self.of(sample_id)
        return None if regions is None or math.isnan(regions.threshold) else regions.threshold

    def _of_class(self, sample_id: int | None, index: int) -> RegionSet | None:
        summary = self._queue.summaries.get(sample_id or -1)
        known = summary is not None and index < len(summary.regions)
        return summary.regions[index] if summary is not None and known else None

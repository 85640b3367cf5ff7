"""Everything that is computed for one window: the parts, in the order in which they follow.

The core computes; these decide what, when and in which order: the focused sample first, coarse
while a marker is dragged, exact when it rests.
"""

from __future__ import annotations

from PyQt6.QtCore import QObject

from rilievo.core.batch import Measurer
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.progress import Control
from rilievo.ui.compute.batch_runner import BatchRunner
from rilievo.ui.compute.class_regions import ClassRegions
from rilievo.ui.compute.display_ranges import DisplayRanges
from rilievo.ui.compute.displayed_image import DisplayedImage
from rilievo.ui.compute.drag_preview import DragPreview
from rilievo.ui.compute.evaluation_queue import EvaluationQueue
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.progress_tasks import ProgressTasks
from rilievo.ui.compute.sample_checks import SampleChecks
from rilievo.ui.compute.sample_store import SampleStore
from rilievo.ui.compute.track_follower import TrackFollower
from rilievo.ui.session.study_session import StudySession


class Compute(QObject):
    """The parts of one window; what comes first hears of a change first.

    store : pixels. queue : histograms and regions. displayed, ranges : what the picture shows and
    how. drag : what is dragged now. regions : of the class in focus. checks : warnings.
    tracks : of regions through time. batch : measuring. awaited : work that somebody waits for.
    """

    def __init__(
        self,
        session: StudySession,
        jobs: Jobs,
        parent: QObject | None = None,
        cache: AnalysisCache | None = None,
    ) -> None:
        """cache : shares what it has computed with whoever else uses it."""
        super().__init__(parent)
        self.session, self.jobs = session, jobs
        self.awaited = ProgressTasks(jobs, self)
        self.cache = known = cache or AnalysisCache()
        self.store = SampleStore(session, jobs, known, self)
        self.queue = EvaluationQueue(session, jobs, self.store, self)
        self.displayed = DisplayedImage(session, known, self.store, self)
        self.ranges = DisplayRanges(session, self.store, self.queue, self.displayed, self)
        self.drag = DragPreview(session, jobs, self.store, self)
        self.regions = ClassRegions(session, self.queue, self.drag)
        self.checks = SampleChecks(session, jobs, known, self.store, self)
        self.checks.reports_of = self.queue.reports_of
        self.tracks = TrackFollower(session, jobs, self)
        self.batch = BatchRunner(session, jobs, known, self.store, self.checks, self)

    def measurer(self, control: Control | None = None) -> Measurer:
        """Return what measures samples of the study, with what is computed and kept already."""
        return Measurer(self.cache, self.batch.store(), control, self.batch.resources)

"""Which picture is displayed: of the whole method or of one step; where its pixels lie."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.image.image import Plane, unplaced
from rilievo.core.method import step_edits
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.thumbnails import Aspect
from rilievo.ui.compute.sample_store import SampleStore
from rilievo.ui.session.study_session import StudySession


class DisplayedImage(QObject):
    """What the picture shows of the study, as far as it is known now; computes nothing."""

    ends_changed = pyqtSignal()

    def __init__(
        self,
        session: StudySession,
        cache: AnalysisCache,
        store: SampleStore,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._cache, self._store = session, cache, store
        # Display ranges of single steps: (channel, (step id, what of it)) → range.
        self._ends: dict[tuple[str, tuple[str, Aspect]], tuple[float, float]] = {}
        self._truncated: tuple[Method, tuple[str, Aspect], Method] | None = None

    def ends(self, channel: str) -> tuple[float, float] | None:
        """Return the display range of a step by itself; None when the whole method is seen."""
        return None if self.aspect is None else self._ends.get((channel, self.aspect))

    @property
    def aspect(self) -> tuple[str, Aspect] | None:
        """The step that is looked at by itself, and what of it; only in Correct."""
        aspect = self._session.view.aspect
        if aspect is None or self._session.stage != "correct":
            return None
        known = any(use.id == aspect[0] and use.on for use in self._session.state.method.steps)
        return aspect if known else None

    @property
    def method(self) -> Method:
        """The method of which the result is shown: all of it, or up to a step."""
        method, aspect = self._session.state.method, self.aspect
        if aspect is None:
            return method
        known = self._truncated
        if known is None or known[0] is not method or known[1] != aspect:
            step_id, what = aspect
            truncated = step_edits.truncate_at(
                method, step_id, before=what == "before", background=what == "background"
            )
            known = self._truncated = (method, aspect, truncated)
        return known[2]

    def note_ends(
        self, channel: str, aspect: tuple[str, Aspect], ends: tuple[float, float]
    ) -> None:
        """Remember the range that suits what a step is shown as."""
        changed = self._ends.get((channel, aspect)) != ends
        self._ends[channel, aspect] = ends
        if changed and aspect == self.aspect:
            self.ends_changed.emit()

    def set_ends(self, channel: str, ends: tuple[float, float]) -> None:
        """Show a step by itself over another range; not part of the study."""
        if self.aspect is not None:
            self.note_ends(channel, self.aspect, ends)

    def frame_of(self, sample_id: int) -> Plane:
        """Return a plane with the size, calibration and placement of what is shown of a sample."""
        sample = self._store.named(sample_id)
        channel = self._store.channel_for(sample)
        if not self._session.shows_signal:
            return sample.channels[channel]
        return Analysis(sample, self.method, self._cache).aligned_geometry(channel)

    def plane(self, sample_id: int, channel: str) -> Plane | None:
        """Return what is shown of a channel if it is computed: native in Look, then the signal."""
        sample = self._store.named(sample_id)
        if channel not in sample.channels:
            return None
        if not self._session.shows_signal or not self.method.steps_for(sample.name, channel):
            return sample.channels[channel]
        return Analysis(sample, self.method, self._cache).peek_signal(channel)

    def file_pixel(self, x: int, y: int) -> tuple[int, int]:
        """Return which pixel of the file lies at a pixel of the focused picture."""
        sample_id = self._session.focus.sample_id
        if sample_id is None or sample_id not in self._store.samples:
            return x, y
        from_x, from_y = unplaced(self.frame_of(sample_id).placement, x, y)
        return round(from_x), round(from_y)

"""What is known of each sample under the present method, kept up to date in threads.

The focused sample comes first; a newer request for a sample replaces the older one.
"""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.sample_summary import SampleSummary, summarise
from rilievo.core.pipeline.shared_threshold import pooled_classes, with_pooled_levels
from rilievo.core.study.study import StudyState
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.sample_store import SampleStore
from rilievo.ui.session.study_session import StudySession

# Regions of a sample of up to so many pixels are found before they are shown.
REGIONS_AT_ONCE = 32_000_000
_MANY, _TOGETHER_MS = 60, 120
_NOTHING_TOLD: Mapping[str, Mapping[str, Mapping[str, float]]] = {}


class EvaluationQueue(QObject):
    """Summaries of the samples in memory: histograms, display ranges, regions.

    changed : a sample's summary is new; where there are many, others may be new with it.
    """

    changed = pyqtSignal(int)

    def __init__(
        self,
        session: StudySession,
        jobs: Jobs,
        store: SampleStore,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._jobs, self._store = session, jobs, store
        self.summaries: dict[int, SampleSummary] = {}
        self._method_seen = (session.state.method, session.state.method.of_regions)
        self.compared_channel: str | None = None
        self._last_new = 0
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(lambda: self.changed.emit(self._last_new))
        session.changed.connect(self._on_change)
        session.focus.changed.connect(self._on_focus)
        session.stage_changed.connect(lambda _: self._on_stage())
        store.loaded.connect(self._on_loaded)
        store.load_failed.connect(lambda *_: self._begin_pooling())
        store.evicted.connect(self._on_evicted)
        store.dropped.connect(lambda sample_id: self.summaries.pop(sample_id, None))

    @property
    def focused(self) -> SampleSummary | None:
        """What is known of the sample in focus."""
        return self.summaries.get(self._session.focus.sample_id or -1)

    def reports_of(self, sample_id: int) -> Mapping[str, Mapping[str, Mapping[str, float]]]:
        """Return what the steps told of a sample, as far as known: step → channel → numbers."""
        known = self.summaries.get(sample_id)
        return known.reports if known is not None else _NOTHING_TOLD

    def current(self, sample_id: int) -> SampleSummary | None:
        """Return the summary of a sample if it belongs to the present method, else None."""
        found = self.summaries.get(sample_id)
        now = self._of_regions()
        return found if found is not None and (found.method is now or found.method == now) else None

    def refresh(self) -> None:
        """Compute the summaries of all samples anew, the focused one first."""
        focus, samples = self._session.focus.sample_id, self._store.samples
        for sample_id in sorted(samples, key=lambda one: one != focus):
            self._summarise(sample_id)

    def compare_channel(self, channel: str) -> None:
        """Have the histograms of the channel that is compared."""
        if channel != self.compared_channel:
            self.compared_channel = channel
            self._need(channel)

    # -- following the study

    def _on_change(self, old: StudyState, new: StudyState) -> None:
        read_anew = old.method.reading != new.method.reading
        if old.method.of_regions != new.method.of_regions and not read_anew:
            self._begin_pooling()
            self.refresh()

    def _on_loaded(self, sample_id: int) -> None:
        self._summarise(sample_id)
        self._begin_pooling()

    def _on_evicted(self) -> None:
        for sample_id in self.summaries.keys() - self._store.samples.keys():
            del self.summaries[sample_id]

    def _on_focus(self) -> None:
        focus = self._session.focus
        self._jobs.bring_forward(f"summary {focus.sample_id}")
        self._need(focus.channel)

    def _on_stage(self) -> None:
        """Find the regions of large samples once they are wanted."""
        if self._session.shows_regions:
            for sample_id, found in self.summaries.items():
                if not found.regions and found.error is None:
                    self._summarise(sample_id)

    def _need(self, channel: str | None) -> None:
        for sample_id, found in self.summaries.items():
            if channel in self._store.samples[sample_id].channels and channel not in found.signal:
                self._summarise(sample_id)

    # -- computing

    def _of_regions(self) -> Method:
        """The part of the method on which regions depend, made once for each method."""
        method = self._session.state.method
        if self._method_seen[0] is not method:
            self._method_seen = (method, method.of_regions)
        return self._method_seen[1]

    def _channels(self, sample: Sample) -> list[str]:
        outlines = [outline.channel for outline in self._session.state.method.outlines]
        wanted = [self._session.focus.channel, *outlines, self.compared_channel]
        names = [name for name in wanted if name is not None and name in sample.channels]
        return list(dict.fromkeys([sample.channel_names[0], *names]))

    def _summarise(self, sample_id: int) -> None:
        read, sample = self._store.samples[sample_id], self._store.named(sample_id)
        channels = self._channels(sample)
        analysis = self._store.analysis(sample_id, self._of_regions())
        regions = self._session.shows_regions or sample.first.pixels.size <= REGIONS_AT_ONCE

        def done(found: SampleSummary) -> None:
            # Another study may have been opened meanwhile, with another sample of that number.
            if self._store.samples.get(sample_id) is read:
                self.summaries[sample_id] = found
                if found.error is None:
                    self._store.errors.pop(sample_id, None)
                self._tell(sample_id)

        self._jobs.run(
            f"summary {sample_id}",
            lambda: summarise(analysis, channels, with_regions=regions),
            done,
            background=sample_id != self._session.focus.sample_id,
        )

    def _tell(self, sample_id: int) -> None:
        """Say that something is new; of many samples beside the focused one, at times for all."""
        many = len(self._session.state.samples) > _MANY
        if sample_id == self._session.focus.sample_id or not many:
            self.changed.emit(sample_id)
            return
        self._last_new = sample_id
        if not self._soon.isActive():
            self._soon.start(_TOGETHER_MS)

    def _begin_pooling(self) -> None:
        """Find the levels that all samples have in common, where the method asks for them."""
        method, entries = self._session.state.method, self._session.state.samples
        if not pooled_classes(method):
            return
        there = self._store.samples.keys() | self._store.errors.keys()
        wanted = self._store.residency.wanted
        waiting = [e for e in entries if e.id in wanted and e.id not in there]
        if waiting:
            return
        analyses = list(self._store.analyses().values())

        def done(pooled: Method) -> None:
            if self._session.state.method is method and pooled != method:
                self._session.note_method(pooled)
                self.refresh()

        self._jobs.run(
            "pooling",
            lambda: with_pooled_levels(method, analyses),
            done,
            lambda _: None,
            background=True,
        )

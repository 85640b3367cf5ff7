"""The pixels of the study's samples: read in threads, held within a budget, let go."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.errors import RilievoError
from rilievo.core.image.image import Sample
from rilievo.core.memory import release, release_memory
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.sample_summary import Ends, quick_ends
from rilievo.core.pipeline.step_chain import channel_of
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.residency import Residency
from rilievo.ui.session.study_session import StudySession


class SampleStore(QObject):
    """Samples in memory by their id, and why others cannot be.

    samples : as they are read and prepared. errors : id → sentence. quick_ends : display ranges
    from few pixels, until better ones are known. attributes : of the file, by id.
    """

    loaded = pyqtSignal(int)
    load_failed = pyqtSignal(int, str)
    evicted = pyqtSignal()
    dropped = pyqtSignal(int)  # a sample that left the study, or has another file now
    emptied = pyqtSignal()  # nothing is kept of the former study
    held_partly = pyqtSignal(int, int)  # samples held in memory, samples

    def __init__(
        self,
        session: StudySession,
        jobs: Jobs,
        cache: AnalysisCache,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._jobs, self._cache = session, jobs, cache
        self.samples: dict[int, Sample] = {}
        self.errors: dict[int, str] = {}
        self.quick_ends: dict[int, Ends] = {}
        self.attributes: dict[int, dict[str, str]] = {}
        session.measurements.file_attributes = self.attributes
        self.residency = Residency(self.samples)
        # Of all samples in memory; and the sample that is read before the others are begun.
        self._bytes = 0
        self._first: int | None = None
        session.changed.connect(self._on_change)
        session.focus.changed.connect(self._on_focus)

    def _on_change(self, old: StudyState, new: StudyState) -> None:
        before = {e.id: e for e in old.samples}
        if {i: e.sources for i, e in before.items()} != {e.id: e.sources for e in new.samples}:
            self._drop_gone(old, new)
            self.update_residency()
        renewed = old.method.reading != new.method.reading
        for entry in new.samples:
            known = before.get(entry.id)
            redeclared = known is not None and known.overrides != entry.overrides
            if entry.id in self.samples and (renewed or redeclared):
                self.load(entry)

    def _on_focus(self) -> None:
        self._jobs.bring_forward(f"load {self._session.focus.sample_id}")
        missing = self._session.focus.sample_id not in self.samples
        if missing or not self.residency.holds_all(self._session.state):
            self.update_residency()

    def _drop_gone(self, old: StudyState, new: StudyState) -> None:
        sources = {entry.id: entry.sources for entry in new.samples}
        gone: list[Sample] = []
        for entry in old.samples:
            if sources.get(entry.id) != entry.sources:
                if entry.id in self.samples:
                    gone.append(self._taken(entry.id))
                for kept in (self.errors, self.quick_ends, self.attributes):
                    kept.pop(entry.id, None)
                self.residency.forget(entry.id)
                self.dropped.emit(entry.id)
        if not old.samples or self.samples:
            self._let_go(gone)
            return

        def forget_all() -> None:
            # Another study, or none: what was computed of the former one is of no use.
            release(gone)
            self._cache.clear()
            release_memory()

        self._jobs.run("release all", forget_all, lambda _: self.emptied.emit(), background=True)

    # -- memory

    def look_at(self, sample_ids: Collection[int]) -> None:
        """Hold these beside the focused one before any others, since they are seen."""
        if self.residency.look_at(sample_ids) and not self.residency.holds_all(self._session.state):
            self.update_residency()

    def set_budget(self, budget: int) -> None:
        """Hold samples and results up to so many bytes each."""
        self._cache.budget = budget
        self.update_residency()

    def update_residency(self) -> None:
        """Have those in memory that are wanted now, and no others."""
        state, residency = self._session.state, self.residency
        held_all = residency.holds_all(state)
        residency.choose(state, self._session.focus.sample_id, self._cache.budget)
        if held_all and not residency.holds_all(state):
            self.held_partly.emit(residency.count, len(state.samples))
        self.evict(self.samples.keys() - residency.wanted)
        missing = residency.missing()
        focus = self._session.focus.sample_id
        # The one that is looked at has all the cores to itself; the others follow.
        self._first = focus if focus in missing or residency.is_loading(focus) else None
        if self._first is not None:
            missing = [one for one in missing if one == focus]
        for sample_id in missing:
            self.load(state.entry(sample_id))

    def _go_on(self, sample_id: int) -> None:
        """Begin with the others once the one that is looked at is there, or cannot be read."""
        # Samples may turn out to be larger than their files told.
        if sample_id == self._first or self._bytes > self._cache.budget:
            self.update_residency()

    def evict(self, sample_ids: Iterable[int]) -> None:
        """Drop pixels of samples."""
        self._let_go([self._taken(one) for one in list(sample_ids) if one in self.samples])
        self.evicted.emit()

    def _taken(self, sample_id: int) -> Sample:
        """Take a sample out."""
        sample = self.samples.pop(sample_id)
        self._bytes -= sample.nbytes
        return sample

    def _let_go(self, samples: list[Sample]) -> None:
        """Free pixels in a thread: giving back thousands of planes takes a while."""
        if samples:
            self._jobs.run("release", lambda: release(samples), lambda _: None, background=True)

    def load(self, entry: SampleEntry) -> None:
        """Read a sample in a thread."""
        method = self._session.state.method

        def work() -> tuple[Sample, Ends]:
            read = self._cache.sample(entry.sources, entry.name)
            sample = Analysis(read, method, self._cache, entry.overrides).sample
            return sample, quick_ends(sample)

        self.residency.begin(entry.id)

        def done(result: tuple[Sample, Ends]) -> None:
            self.residency.end(entry.id, good=True)
            if not self.is_current(entry) or entry.id not in self.residency.wanted:
                self._go_on(entry.id)
                return
            if entry.id in self.samples:
                self._taken(entry.id)
            self.samples[entry.id], self.quick_ends[entry.id] = result
            self._bytes += result[0].nbytes
            self.attributes[entry.id] = dict(result[0].attributes)
            self.errors.pop(entry.id, None)
            if self._session.focus.channel is None:
                self._session.focus.set(channel=result[0].channel_names[0])
            self.loaded.emit(entry.id)
            self._go_on(entry.id)

        def failed(error: RilievoError) -> None:
            self.residency.end(entry.id, good=False)
            if self.is_current(entry):
                self.note_error(entry.id, str(error))
            self._go_on(entry.id)

        looked_at = entry.id == self._session.focus.sample_id
        self._jobs.run(f"load {entry.id}", work, done, failed, background=not looked_at)

    def note_error(self, sample_id: int, text: str) -> None:
        """Remember why a sample cannot be used, and say so."""
        self.errors[sample_id] = text
        self.load_failed.emit(sample_id, text)

    def is_current(self, entry: SampleEntry) -> bool:
        """Whether the study still has a sample as it was when something was asked for it."""
        now = self._session.state.find(entry.id)
        return now is entry or (
            now is not None and (now.sources, now.overrides) == (entry.sources, entry.overrides)
        )

    # -- questions

    @property
    def focused(self) -> Sample | None:
        """The sample in focus, once it is loaded."""
        return self.samples.get(self._session.focus.sample_id or -1)

    def named(self, sample_id: int) -> Sample:
        """Return a sample that is in memory under its name in the study."""
        return self.samples[sample_id].renamed(self._session.state.entry(sample_id).name)

    def analysis(self, sample_id: int, method: Method | None = None) -> Analysis:
        """Return what a method, the study's for None, makes of a sample that is in memory."""
        return Analysis(self.named(sample_id), method or self._session.state.method, self._cache)

    @property
    def focused_analysis(self) -> Analysis | None:
        """What the study's method makes of the sample in focus, once that is loaded."""
        entry = self._session.focus.entry
        return self.analysis(entry.id) if entry is not None and entry.id in self.samples else None

    def analyses(self) -> dict[str, Analysis]:
        """Return what the study's method makes of the samples in memory, by name, in order."""
        return {
            entry.name: self.analysis(entry.id)
            for entry in self._session.state.samples
            if entry.id in self.samples
        }

    def channel_for(self, sample: Sample) -> str:
        """Return the focused channel, or the sample's first one where it has none of that name."""
        wanted = self._session.focus.channel
        return channel_of(sample, wanted if wanted in sample.channels else None)

    @property
    def outline_channel(self) -> str | None:
        """The channel on which regions are found in the focused sample."""
        sample, wanted = self.focused, self._session.focus.outline.channel
        if wanted is not None:
            return wanted
        return None if sample is None else sample.channel_names[0]

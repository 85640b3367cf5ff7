"""Keeps what is computed for the study up to date, in threads, and says when it is.

The core computes; this decides what, when and in which order: the focused sample first, coarse
while a marker is dragged, exact when it rests.
"""

from __future__ import annotations

import math
import time
from collections.abc import Iterable
from typing import Literal

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.batch import Outcome, item_of
from rilievo.core.errors import RilievoError
from rilievo.core.image.image import Lane, Sample
from rilievo.core.image.number_scale import NumberScale, scale_for
from rilievo.core.method.method import Method, checked_copy
from rilievo.core.pipeline.checks import Check, Traits, changed_file, check_batch
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.sample_summary import Facts, gather, quick_ends
from rilievo.core.pipeline.shared_threshold import pooled_places, with_pooled_levels
from rilievo.core.pipeline.step_chain import channel_of
from rilievo.core.regions import RegionSet
from rilievo.core.regions.region_set import class_place
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.table.table import RegionTable
from rilievo.core.view.palettes import ViewStyle
from rilievo.ui.batching import Batching
from rilievo.ui.dragging import Dragging
from rilievo.ui.holding import Holding
from rilievo.ui.jobs import Jobs
from rilievo.ui.model import StudyModel
from rilievo.ui.ranges import Ends, Ranges
from rilievo.ui.seen import Seen

# A whole measurement that took less than this follows every change by itself.
FOLLOW_SECONDS = 3.0
# A batch runs the method at three thresholds, for the report; what follows a change runs it once.
_BATCH_RUNS = 3
# Regions of a sample of up to so many pixels are found before they are shown.
REGIONS_AT_ONCE = 32_000_000


class Workbench(QObject):
    """Computed things of the study in the window."""

    loaded = pyqtSignal(int)
    load_failed = pyqtSignal(int, str)
    facts_changed = pyqtSignal(int)
    checked = pyqtSignal()
    measuring = pyqtSignal(int, int, float)  # done, total, seconds left
    held_partly = pyqtSignal(int, int)  # samples held in memory, samples
    measured = pyqtSignal(bool)  # False when it was cancelled

    def __init__(
        self,
        model: StudyModel,
        jobs: Jobs,
        parent: QObject | None = None,
        evaluator: Evaluator | None = None,
    ) -> None:
        """evaluator : shares what it has computed with whoever else uses it."""
        super().__init__(parent)
        self.model = model
        self.jobs = jobs
        self.evaluator = evaluator or Evaluator()
        self.samples: dict[int, Sample] = {}
        self.facts: dict[int, Facts] = {}
        self.errors: dict[int, str] = {}
        self.checks: dict[int, list[Check]] = {}
        self.batch_checks: dict[int, list[Check]] = {}
        self.measured_checks: dict[int, list[Check]] = {}
        self._traits: dict[int, Traits] = {}
        self._told: dict[int, dict[str, str]] = {}
        self._method_seen = (model.state.method, model.state.method.of_regions)
        self.holding = Holding(self, self._load)
        self._quick_ends: dict[int, Ends] = {}
        self._ranges = Ranges(self.samples, self.facts, self._quick_ends)
        self.seen = Seen(self)
        self.drag = Dragging(self)
        self.compared_channel: str | None = None
        self._queue: list[int] = []
        self._started = 0.0
        self._follows = False
        self._measuring_all = False
        self.batch = Batching(self)
        model.changed.connect(self._on_change)
        model.focus_changed.connect(self._on_focus)
        model.stage_changed.connect(lambda _: self._on_stage())

    # -- loading

    def _on_change(self, old: StudyState, new: StudyState) -> None:
        before = {e.id: e for e in old.samples}
        if {i: e.sources for i, e in before.items()} != {e.id: e.sources for e in new.samples}:
            self._forget_gone(old, new)
            self.holding.update()
        renewed = old.method.reading != new.method.reading
        for entry in new.samples:
            known = before.get(entry.id)
            told = known is not None and known.declared != entry.declared
            if entry.id in self.samples and (renewed or told):
                self._load(entry)
        changed = old.method.of_regions != new.method.of_regions
        if changed and not renewed:
            self._begin_pooling()
            self.refresh()
        follows = self._follows and self.model.tables and not self._measuring_all
        if changed and follows:
            self.measure([e.id for e in new.samples if e.id in self.model.tables])
        if old.samples != new.samples:
            self._check_batch()

    def let_go(self, sample_ids: Iterable[int]) -> None:
        """Drop pixels and facts of samples."""
        for sample_id in list(sample_ids):
            self.samples.pop(sample_id, None)
            self.facts.pop(sample_id, None)
        self._ranges.forget()

    def set_budget(self, budget: int) -> None:
        """Hold samples and results up to so many bytes each."""
        self.evaluator.budget = budget
        self.holding.update()

    def _forget_gone(self, old: StudyState, new: StudyState) -> None:
        self._ranges.forget()
        sources = {entry.id: entry.sources for entry in new.samples}
        for entry in old.samples:
            if sources.get(entry.id) != entry.sources:
                for kept in (self.samples, self.facts, self.errors, self.checks, self._traits):
                    kept.pop(entry.id, None)
                self._told.pop(entry.id, None)
                self.holding.forget(entry.id)
                self._quick_ends.pop(entry.id, None)

    def _load(self, entry: SampleEntry) -> None:
        method = self.model.state.method

        def work() -> tuple[Sample, Ends]:
            read = self.evaluator.sample(entry.sources, entry.name)
            sample = self.evaluator.prepared(read, method, entry.declared)
            return sample, quick_ends(sample)

        self.holding.begin(entry.id)

        def done(result: tuple[Sample, Ends]) -> None:
            self.holding.end(entry.id, good=True)
            if not self._is_current(entry) or entry.id not in self.holding:
                return
            self.samples[entry.id], self._quick_ends[entry.id] = result
            self._ranges.forget()
            self._told[entry.id] = dict(result[0].attributes)
            self.errors.pop(entry.id, None)
            if self.model.channel is None:
                self.model.focus(channel=result[0].channel_names[0])
            self.loaded.emit(entry.id)
            self._gather(entry.id)
            self._begin_pooling()
            self._check(entry, result[0])

        def failed(error: RilievoError) -> None:
            self.holding.end(entry.id, good=False)
            if self._is_current(entry):
                self.errors[entry.id] = str(error)
                self.load_failed.emit(entry.id, str(error))
                self._begin_pooling()

        self.jobs.run(f"load {entry.id}", work, done, failed)

    def _check(self, entry: SampleEntry, sample: Sample) -> None:
        """Look at a sample's pixels and its file's checksum, once it is shown."""

        def work() -> tuple[list[Check], Traits, str]:
            checksum = self.evaluator.checksum(entry.sources, sample)
            return *self.evaluator.checks(sample), checksum

        def done(result: tuple[list[Check], Traits, str]) -> None:
            if not self._is_current(entry) or self.samples.get(entry.id) is not sample:
                return
            self.checks[entry.id], self._traits[entry.id], checksum = result
            if entry.checksum not in ("", checksum):
                self.checks[entry.id].append(changed_file(entry.name))
            self.model.note_checksum(entry.id, checksum)
            self._check_batch()

        def failed(error: RilievoError) -> None:
            if self._is_current(entry):
                self.errors[entry.id] = str(error)
                self.load_failed.emit(entry.id, str(error))

        self.jobs.run(f"check {entry.id}", work, done, failed)

    def _check_batch(self) -> None:
        """Compare the samples with each other."""
        found = check_batch(self.traits())
        self.batch_checks = {
            entry.id: [check for check in found if check.sample == entry.name]
            for entry in self.model.state.samples
        }
        self.checked.emit()

    def traits(self) -> dict[str, Traits]:
        """Return what samples have in common with each other or not, as far as it is known."""
        return {
            e.name: self._traits[e.id] for e in self.model.state.samples if e.id in self._traits
        }

    def attributes(self) -> dict[str, dict[str, str]]:
        """Return what is known of each sample beside its group, that of its file among it."""
        return {
            entry.name: {**self._told.get(entry.id, {}), **item_of(entry).attributes}
            for entry in self.model.state.samples
        }

    def checks_of(self, sample_id: int) -> list[Check]:
        """Return the warnings about a sample, by itself and beside the others."""
        known = self.checks.get(sample_id, []) + self.batch_checks.get(sample_id, [])
        return known + self.measured_checks.get(sample_id, [])

    def _is_current(self, entry: SampleEntry) -> bool:
        return any(
            (e.id, e.sources, e.declared) == (entry.id, entry.sources, entry.declared)
            for e in self.model.state.samples
        )

    # -- facts

    @property
    def outline_channel(self) -> str | None:
        """The channel on which regions are found in the focused sample."""
        sample = self.focused_sample
        wanted = self.model.outline.channel
        if wanted is not None:
            return wanted
        return None if sample is None else sample.channel_names[0]

    @property
    def focused_sample(self) -> Sample | None:
        """The sample in focus, once it is loaded."""
        return self.samples.get(self.model.sample_id or -1)

    @property
    def focused_facts(self) -> Facts | None:
        """What is known of the sample in focus."""
        return self.facts.get(self.model.sample_id or -1)

    def regions(self, sample_id: int | None) -> RegionSet | None:
        """Return the regions of the class in focus in a sample, as far as they are known."""
        facts = self.facts.get(sample_id or -1)
        place = self.model.class_place
        return facts.regions[place] if facts is not None and place < len(facts.regions) else None

    @property
    def focused_regions(self) -> RegionSet | None:
        """The regions of the class in focus in the sample in focus."""
        return self.regions(self.model.sample_id)

    def region_at(self, x: int, y: int) -> int:
        """Return the region at a pixel: of the class in focus, or else of any; 0 for none."""
        facts, place = self.focused_facts, self.model.class_place
        sets = facts.regions if facts is not None else ()
        for regions in (*sets[place : place + 1], *sets):
            if region := regions.at(x, y):
                return region
        return 0

    def regions_with(self, region: int) -> RegionSet | None:
        """Return the regions of the focused sample's class to which a region belongs."""
        facts, place = self.focused_facts, class_place(region)
        return facts.regions[place] if facts is not None and place < len(facts.regions) else None

    def current(self, sample_id: int) -> Facts | None:
        """Return the facts of a sample if they belong to the present method, else None."""
        facts = self.facts.get(sample_id)
        now = self._of_regions()
        return facts if facts is not None and (facts.method is now or facts.method == now) else None

    def _of_regions(self) -> Method:
        """The part of the method on which regions depend, made once for each method."""
        method = self.model.state.method
        if self._method_seen[0] is not method:
            self._method_seen = (method, method.of_regions)
        return self._method_seen[1]

    def refresh(self) -> None:
        """Compute the facts of all samples anew, the focused one first."""
        ids = [i for i in self.samples if i != self.model.sample_id]
        if self.model.sample_id in self.samples:
            ids.insert(0, self.model.sample_id)
        for sample_id in ids:
            self._gather(sample_id)

    def _channels(self, sample: Sample) -> list[str]:
        outlines = [outline.channel for outline in self.model.state.method.outlines]
        wanted = [self.model.channel, *outlines, self.compared_channel]
        names = [name for name in wanted if name is not None and name in sample.channels]
        return (
            list(dict.fromkeys([sample.channel_names[0], *names]))
            if names
            else [sample.channel_names[0]]
        )

    def _gather(self, sample_id: int) -> None:
        read = self.samples[sample_id]
        sample = read.renamed(self.model.state.entry(sample_id).name)
        method = self._of_regions()
        channels = self._channels(sample)

        def done(facts: Facts) -> None:
            # Another study may have been opened meanwhile, with another sample of that number.
            if self.samples.get(sample_id) is read:
                self.facts[sample_id] = facts
                self._ranges.forget()
                if facts.error is None:
                    self.errors.pop(sample_id, None)
                self.facts_changed.emit(sample_id)

        regions = self.outlines_shown() or sample.first.pixels.size <= REGIONS_AT_ONCE

        def work() -> Facts:
            return gather(self.evaluator, sample, channels, method, with_regions=regions)

        self.jobs.run(f"facts {sample_id}", work, done)

    def _on_stage(self) -> None:
        """Find the regions of large samples once they are wanted."""
        if self.outlines_shown():
            for sample_id, facts in self.facts.items():
                if not facts.regions and facts.error is None:
                    self._gather(sample_id)

    def _on_focus(self) -> None:
        if not self.holding.all:
            self.holding.update()
        self._need(self.model.channel)

    def _need(self, channel: str | None) -> None:
        for sample_id, facts in self.facts.items():
            if channel in self.samples[sample_id].channels and channel not in facts.signal:
                self._gather(sample_id)

    def compare_channel(self, channel: str) -> None:
        """Have the histograms of the channel that is compared."""
        if channel != self.compared_channel:
            self.compared_channel = channel
            self._need(channel)

    # -- display range

    def display_range(
        self, channel: str, lane: Lane, sample_id: int | None = None
    ) -> tuple[float, float]:
        """Return the range set by hand, or one that suits all samples loaded so far.

        sample_id : the sample that is shown; it may have a view of its own.
        """
        state = self.model.state
        own = self.seen.ends(channel) if lane == "signal" else None
        if own is not None:
            return own
        chosen = state.range_of(sample_id, channel, lane)
        if chosen is not None:
            return chosen
        return self.automatic_range(channel, lane, sample_id in state.own_views and sample_id)

    def style(self, channel: str, sample_id: int | None = None) -> ViewStyle:
        """Return how a channel is shown, in a sample that may have a view of its own."""
        return self.model.state.style_of(sample_id, channel)

    def automatic_range(
        self, channel: str, lane: Lane, alone: int | Literal[False] | None = None
    ) -> tuple[float, float]:
        """Return the lowest and highest of the samples' own 0.2 and 99.8 % levels.

        alone : a sample whose own levels are wanted and no other's.
        """
        if alone:
            return self._ranges.of([alone], channel, lane)
        return self._ranges.of_all(channel, lane)

    def number_scale(self, channel: str | None = None) -> NumberScale:
        """Return the scale on which numbers of a channel of the focused sample are printed."""
        kind, sample, facts = self.model.viewing.scale, self.focused_sample, self.focused_facts
        if kind == "native" or sample is None:
            return NumberScale()
        known = channel is not None and channel in sample.channels
        name = channel if known and channel is not None else self.channel_for(sample)
        histogram = facts.native.get(name) if facts is not None else None
        ends = (0.0, 0.0) if histogram is None else (histogram.lowest, histogram.highest)
        return scale_for(kind, sample.channels[name], ends)

    def unit_share(self, channel: str, native: float) -> float:
        """Return where a native value of the focused sample lies from 0 to 1; NaN if unknown."""
        sample, facts = self.focused_sample, self.focused_facts
        if sample is None:
            return math.nan
        histogram = facts.native.get(channel) if facts else None
        ends = (histogram.lowest, histogram.highest) if histogram else (0.0, 0.0)
        return sample.channels[channel].unit_share(native, ends)

    # -- levels

    def level(self, sample_id: int | None) -> float | None:
        """Return the threshold of a sample as shown now, or None while it is unknown."""
        if self.drag.level is not None:
            return self.drag.level
        regions = self.regions(sample_id)
        return None if regions is None or math.isnan(regions.threshold) else regions.threshold

    @property
    def band(self) -> dict[str, float] | None:
        """The ends of the band of the class in focus, as shown now; None for one level."""
        outline = self.model.outline
        if outline.source != "threshold" or outline.threshold.way != "band":
            return None
        return self.drag.limits or outline.threshold.parameters.model_dump()

    def _begin_pooling(self) -> None:
        """Find the levels that all samples have in common, where the method asks for them."""
        method = self.model.state.method
        entries = self.model.state.samples
        there = self.samples.keys() | self.errors.keys()
        waiting = [e for e in entries if e.id in self.holding and e.id not in there]
        if waiting or not pooled_places(method):
            return
        samples = [self.samples[e.id].renamed(e.name) for e in entries if e.id in self.samples]

        def done(pooled: Method) -> None:
            if self.model.state.method is method and pooled != method:
                self.model.note_method(pooled)
                self.refresh()

        self.jobs.run(
            "pooling",
            lambda: with_pooled_levels(method, samples, self.evaluator),
            done,
            lambda _: None,
        )

    def change_outline(self, text: str, merge: int = -1, **fields: object) -> None:
        """Change the region class in focus, undoable. Raises MethodError."""
        method, place = self.model.state.method, self.model.class_place
        outline = checked_copy(method.outlines[place], **fields)
        self.model.change_method(text, method.with_outline(outline, place), merge)

    # -- measuring

    @property
    def is_measuring(self) -> bool:
        """Whether a measurement of several samples is under way."""
        return self._measuring_all or self.batch.is_running

    def take_outcome(self, entry: SampleEntry, outcome: Outcome, method: Method) -> None:
        """Take what a batch found of a sample."""
        if not self._is_current(entry):
            return
        if outcome.table is None:
            self.model.tables.pop(entry.id, None)
            self.errors[entry.id] = outcome.failure or ""
            return
        self.errors.pop(entry.id, None)
        self.model.set_table(entry.id, outcome.table, method)
        self._told[entry.id] = dict(outcome.attributes)
        if outcome.traits is not None:
            self._traits[entry.id] = outcome.traits
        if outcome.checksum:
            self.model.note_checksum(entry.id, outcome.checksum)

    def batch_ended(self, whole: bool, seconds: float) -> None:
        """Tell that all are measured, or that it was stopped."""
        self._follows = whole and seconds / _BATCH_RUNS < FOLLOW_SECONDS and self.holding.all
        self._check_batch()
        self.model.tables_changed.emit()
        self.measured.emit(whole)

    def measure(self, sample_ids: list[int]) -> None:
        """Measure samples one after another, so that the window and a cancel come between."""
        self._queue = [i for i in sample_ids if i in self.samples]
        if not self._queue:
            self.measured.emit(True)
            return
        self._total = len(self._queue)
        self._started = time.monotonic()
        self._measuring_all = True
        self.measuring.emit(0, self._total, 0.0)
        self._measure_next()

    def cancel_measuring(self) -> None:
        """Stop after the sample that is being measured; what was measured stays."""
        self.batch.cancel()
        if self._measuring_all:
            self._queue.clear()
            self.jobs.forget("measure")
            self._end_measuring(whole=False)

    def _measure_next(self) -> None:
        if not self._queue:
            self._follows = time.monotonic() - self._started < FOLLOW_SECONDS
            self._end_measuring(whole=True)
            return
        sample_id = self._queue[0]
        if sample_id not in self.samples:
            self._queue.pop(0)
            self._measure_next()
            return
        entry = self.model.state.entry(sample_id)
        read = self.samples[sample_id]
        sample = read.renamed(entry.name)
        method = self.model.state.method

        def done(table: RegionTable) -> None:
            if self.samples.get(sample_id) is read:
                self.errors.pop(sample_id, None)
                self.model.set_table(sample_id, table, method)
            self._after_one(sample_id)

        def failed(error: RilievoError) -> None:
            self.model.tables.pop(sample_id, None)
            self.errors[sample_id] = str(error)
            self.load_failed.emit(sample_id, str(error))
            self._after_one(sample_id)

        self.jobs.run(
            "measure", lambda: self.evaluator.measure(sample, method, entry.group), done, failed
        )

    def _after_one(self, sample_id: int) -> None:
        if sample_id in self._queue:
            self._queue.remove(sample_id)
        done = self._total - len(self._queue)
        spent = time.monotonic() - self._started
        self.measuring.emit(done, self._total, spent / done * len(self._queue))
        self._measure_next()

    def _end_measuring(self, *, whole: bool) -> None:
        self._measuring_all = False
        self.model.tables_changed.emit()
        self.measured.emit(whole)

    # -- what to show

    def shows_signal(self) -> bool:
        """Whether the stage shows the corrected picture."""
        return self.model.stage != "look"

    def outlines_shown(self) -> bool:
        """Whether the stage shows regions."""
        return self.model.stage in ("outline", "measure", "compare")

    def channel_for(self, sample: Sample) -> str:
        """Return the focused channel, or the sample's first one where it has none of that name."""
        wanted = self.model.channel
        return channel_of(sample, wanted if wanted in sample.channels else None)

    def whole_checks(self) -> list[Check]:
        """Return the checks of all samples in their order."""
        return [check for entry in self.model.state.samples for check in self.checks_of(entry.id)]

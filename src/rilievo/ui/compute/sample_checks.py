"""Warnings about the samples: each by itself, beside the others, and as it was measured."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

from PyQt6.QtCore import QObject, QSettings, QTimer, pyqtSignal

from rilievo.core.errors import RilievoError
from rilievo.core.files.sample_parts import same_files
from rilievo.core.image.image import DEFECT_KINDS, Sample
from rilievo.core.method.method import Method, digest
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.checks import BatchProperties, Check, changed_file, check_batch
from rilievo.core.pipeline.checks_measured import check_measured, check_measured_batch
from rilievo.core.pipeline.checks_of_steps import Reports, check_steps, joined, unmended
from rilievo.core.pipeline.gathered_checks import (
    CheckName,
    GatheredCheck,
    gathered,
    telling,
)
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.sample_store import SampleStore
from rilievo.ui.session.study_session import StudySession

# Defects of one sample that are spelled out at once, a line each.
_MOST_TOLD = 3
_NAME_PARTS = 3
_MANY, _TOGETHER_MS = 60, 150


class SampleChecks(QObject):
    """Looks at samples once they are loaded, and at tables once they are measured."""

    changed = pyqtSignal()
    # What is missing or damaged in a file, said once when it is first read.
    defect_found = pyqtSignal(str)

    def __init__(
        self,
        session: StudySession,
        jobs: Jobs,
        cache: AnalysisCache,
        store: SampleStore,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._jobs, self._cache, self._store = session, jobs, cache, store
        self.own: dict[int, list[Check]] = {}
        self._beside: dict[int, list[Check]] = {}
        self._measured: dict[int, list[Check]] = {}
        self._properties: dict[int, BatchProperties] = {}
        # Of samples that only a batch has read.
        self._defects: dict[int, list[Check]] = {}
        self._told: set[str] = set()
        # Checks that were marked as seen, and of which study.
        self.seen: frozenset[CheckName] = frozenset()
        self._seen_of: tuple[int, Path | None] = (session.number, None)
        session.file_changed.connect(self._follow_file)
        # What `of` returned, and for what.
        self._joined: dict[int, tuple[tuple[object, ...], list[Check]]] = {}
        # The checks that were gathered last, and the lines they gave.
        self._gathered: tuple[list[list[Check]], list[GatheredCheck]] = ([], [])
        # Samples come in by hundreds; they are compared once for all that come together.
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.check_batch)
        # Sample's id → what its steps told, as far as it was evaluated.
        self.reports_of: Callable[[int], Reports] = lambda _sample_id: {}
        session.changed.connect(self._on_change)
        session.measurements.changed.connect(self._check_measured)
        store.loaded.connect(self._check_loaded)
        store.dropped.connect(self._forget)

    def of(self, sample_id: int) -> list[Check]:
        """Return the warnings about a sample."""
        return list(self._kept(sample_id))

    def _kept(self, sample_id: int) -> list[Check]:
        """The warnings about a sample, the same list while nothing of it changes."""
        entry, method = self._session.state.entry(sample_id), self._session.state.method
        sample, reports = self._store.samples.get(sample_id), self.reports_of(sample_id)
        lists = (self.own, self._defects, self._beside, self._measured)
        parts = (entry.name, method, sample, reports, *(one.get(sample_id) for one in lists))
        known = self._joined.get(sample_id)
        if known is not None and all(a is b for a, b in zip(known[0], parts, strict=True)):
            return known[1]
        found = self._found(sample_id, entry, method, sample, reports)
        self._joined[sample_id] = parts, found
        return found

    def _found(
        self,
        sample_id: int,
        entry: SampleEntry,
        method: Method,
        sample: Sample | None,
        reports: Reports,
    ) -> list[Check]:
        own = self.own.get(sample_id, self._defects.get(sample_id, []))
        if sample is not None:
            own = unmended(own, method, sample.channel_names)
        channels = () if sample is None else sample.channel_names
        doubts = check_steps(entry.name, method, reports, channels)
        beside = (known.get(sample_id, []) for known in (self._beside, self._measured))
        return list(joined(own, doubts, *beside))

    def all(self) -> list[Check]:
        """Return the checks of all samples in their order."""
        return [check for entry in self._session.state.samples for check in self.of(entry.id)]

    def gathered(self) -> list[GatheredCheck]:
        """Return the checks of all samples by kind, what differs between samples first."""
        parts = [self._kept(entry.id) for entry in self._session.state.samples]
        known, lines = self._gathered
        # Status line, wall and list ask for them after one change.
        if len(known) != len(parts) or any(a is not b for a, b in zip(known, parts, strict=True)):
            lines = gathered([check for part in parts for check in part], len(parts))
            self._gathered = parts, lines
        return list(lines)

    def telling(self) -> dict[int, int]:
        """Return how many checks tell a sample from the others, by its id; not those seen."""
        found = telling(self.gathered(), self.seen)
        return {e.id: found[e.name] for e in self._session.state.samples if e.name in found}

    def mark_seen(self, names: Iterable[CheckName], seen: bool) -> None:
        """Remember that checks were seen, or forget it; kept for the file of the study."""
        self.seen = self.seen | set(names) if seen else self.seen - set(names)
        self._keep_seen()
        self.changed.emit()

    def _keep_seen(self) -> None:
        path = self._session.path
        if path is not None:
            kept = sorted("\t".join(name) for name in self.seen)
            QSettings().setValue(f"seen checks/{digest(str(path))}", kept)

    def _follow_file(self) -> None:
        """Take up what was seen in a study that was opened; keep it for the file it is saved as."""
        number, path = self._session.number, self._session.path
        known, self._seen_of = self._seen_of, (number, path)
        if known == self._seen_of:
            return
        if known[0] == number:
            self._keep_seen()
            return
        kept = [] if path is None else QSettings().value(f"seen checks/{digest(str(path))}", [])
        lines = [kept] if isinstance(kept, str) else list(kept or [])
        parts = (tuple(line.split("\t")) for line in lines)
        self.seen = frozenset((p[0], p[1], p[2]) for p in parts if len(p) == _NAME_PARTS)

    def batch_properties(self) -> dict[str, BatchProperties]:
        """Return what samples have in common with each other or not, as far as it is known."""
        return {
            e.name: self._properties[e.id]
            for e in self._session.state.samples
            if e.id in self._properties
        }

    def note_properties(self, sample_id: int, properties: BatchProperties) -> None:
        """Take what a batch found of a sample."""
        self._properties[sample_id] = properties

    def note_defects(self, sample_id: int, checks: Iterable[Check]) -> None:
        """Take what is missing or damaged in a sample, of all checks that a batch found."""
        self._defects[sample_id] = [check for check in checks if check.kind in DEFECT_KINDS]
        fresh = [c.text for c in self._defects[sample_id] if c.text not in self._told]
        self._told.update(fresh)
        if fresh:
            more = len(fresh) - _MOST_TOLD
            further = [f"… and {more} more; see the checks."] if more > 0 else []
            self.defect_found.emit("\n".join([*fresh[:_MOST_TOLD], *further]))

    def attributes(self) -> dict[str, dict[str, str]]:
        """Return what is known of each sample beside its group, that of its file among it."""
        if self._session.is_blind:
            return {}
        return {
            entry.name: {**self._store.attributes.get(entry.id, {}), **entry.all_attributes}
            for entry in self._session.state.samples
        }

    def check_batch(self) -> None:
        """Compare the samples with each other, in a thread."""
        properties, names = self.batch_properties(), self._names()

        def done(found: dict[int, list[Check]]) -> None:
            self._beside = found
            self.changed.emit()

        self._jobs.run(
            "compared checks", lambda: _by_sample(check_batch(properties), names), done, every=True
        )

    def _check_soon(self) -> None:
        if not self._soon.isActive():
            self._soon.start(_TOGETHER_MS if len(self._session.state.samples) > _MANY else 0)

    def _names(self) -> dict[str, int]:
        return {entry.name: entry.id for entry in self._session.state.samples}

    # -- following

    def _on_change(self, old: StudyState, new: StudyState) -> None:
        if old.samples != new.samples:
            self._check_soon()

    def _forget(self, sample_id: int) -> None:
        self.own.pop(sample_id, None)
        self._properties.pop(sample_id, None)
        self._defects.pop(sample_id, None)
        self._joined.pop(sample_id, None)

    def _check_loaded(self, sample_id: int) -> None:
        """Look at a sample's pixels and its file's checksum, once it is shown."""
        entry, sample = self._session.state.entry(sample_id), self._store.samples[sample_id]

        def work() -> tuple[list[Check], BatchProperties, str]:
            checksum = self._cache.checksum(entry.sources, sample)
            return *Analysis(sample, Method(), self._cache).checks(), checksum

        def done(result: tuple[list[Check], BatchProperties, str]) -> None:
            if self._store.is_current(entry) and self._store.samples.get(sample_id) is sample:
                self._take(entry, *result)

        def failed(error: RilievoError) -> None:
            if self._store.is_current(entry):
                self._store.note_error(sample_id, str(error))

        self._jobs.run(f"check {sample_id}", work, done, failed, background=True)

    def _take(
        self, entry: SampleEntry, checks: list[Check], properties: BatchProperties, checksum: str
    ) -> None:
        self.own[entry.id], self._properties[entry.id] = checks, properties
        self.note_defects(entry.id, checks)
        if not same_files(entry.checksum, checksum):
            self.own[entry.id].append(changed_file(entry.name))
        self._session.note_checksum(entry.id, checksum)
        self._check_soon()

    def _check_measured(self) -> None:
        """Look at what was measured: stars that are soft or trailed, nothing found."""
        tables, names = self._session.measurements.ordered_tables(), self._names()

        def work() -> dict[int, list[Check]]:
            found = [check for table in tables for check in check_measured(table)]
            return _by_sample(found + check_measured_batch(tables), names)

        def done(found: dict[int, list[Check]]) -> None:
            self._measured = found
            self.changed.emit()

        self._jobs.run("measured checks", work, done)


def _by_sample(checks: Iterable[Check], names: Mapping[str, int]) -> dict[int, list[Check]]:
    """Checks by the id of their sample; names : sample → id."""
    found: dict[int, list[Check]] = {}
    for check in checks:
        if check.sample in names:
            found.setdefault(names[check.sample], []).append(check)
    return found

"""The measurements of the study's samples, and whether the present method made them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.files.sample_ref import labelled
from rilievo.core.method.method import Method, digest
from rilievo.core.regions.region_set import RegionAnnotation
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.table.derived_columns import with_derived
from rilievo.core.table.error_columns import Errors, with_errors
from rilievo.core.table.table import RegionTable


class Measurements(QObject):
    """A table a sample, by the sample's id."""

    changed = pyqtSignal()

    def __init__(self, state: Callable[[], StudyState], parent: QObject | None = None) -> None:
        """state : gives the study as it is now."""
        super().__init__(parent)
        self._state = state
        self.tables: dict[int, RegionTable] = {}
        self._made_with: dict[int, str] = {}
        # Sample's id → versions of the packages that measured it, as far as known; None where it
        # was measured here.
        self._environments: dict[int, tuple[Mapping[str, str], ...] | None] = {}
        # Sample's id → attributes that its file states, as far as it was read.
        self.file_attributes: Mapping[int, Mapping[str, str]] = {}
        self._are_saved = True
        # Sample's id → the table whose regions were followed through time, and what is known of
        # its regions then.
        self._tracks: dict[int, tuple[RegionTable, Mapping[int, RegionAnnotation]]] = {}
        # Sample's id → the table whose numbers have errors, and these.
        self._errors: dict[int, tuple[RegionTable, Errors]] = {}
        # The tables with derived columns, and what they were made from.
        self._derived: tuple[_DerivedFrom, list[RegionTable]] | None = None
        # What files are called in tables, of the samples before.
        self._labels: tuple[Sequence[SampleEntry], list[str]] = ((), [])

    def set_table(self, sample_id: int, table: RegionTable, method: Method) -> None:
        """Keep the measurements of a sample."""
        self.tables[sample_id] = table
        self._made_with[sample_id] = digest(method.of_regions)
        self._environments[sample_id] = None
        self._are_saved = False

    def replace_all(
        self,
        tables: dict[int, RegionTable],
        method: Method,
        environments: Sequence[Mapping[str, str]] = (),
    ) -> None:
        """Take the measurements of another study, as its file has them."""
        self.tables = tables
        self._environments = dict.fromkeys(tables, tuple(environments))
        self._made_with = dict.fromkeys(tables, digest(method.of_regions))
        self._are_saved = True

    def _files_of(self, entry: SampleEntry, label: str) -> dict[str, str]:
        """The file of each channel, where the sample is made of several that may be told."""
        if self._state().blinding.is_on:
            return {}
        ref = replace(entry, file=label)
        return {k: ref.label_of(v) for k, v in self.tables[entry.id].files.items()}

    def _attributes_of(self, entry: SampleEntry) -> dict[str, str]:
        if self._state().blinding.is_on:
            return {}
        own = dict(entry.attributes)
        if entry.replicate:
            own.setdefault("replicate", entry.replicate)
        return {**self.file_attributes.get(entry.id, {}), **own}

    def keep_only(self, sample_ids: set[int]) -> None:
        """Drop the tables of samples that the study no longer has."""
        self.tables = {k: v for k, v in self.tables.items() if k in sample_ids}

    def take_method(self, old: Method, new: Method) -> None:
        """Count what was made with `old` as made with `new`, which means the same."""
        before, now = digest(old.of_regions), digest(new.of_regions)
        self._made_with = {k: now if v == before else v for k, v in self._made_with.items()}

    @property
    def environments(self) -> list[Mapping[str, str]]:
        """The versions of the packages that made the tables elsewhere, each once."""
        found: list[Mapping[str, str]] = []
        for sample_id in self.tables:
            known = self._environments.get(sample_id) or ()
            found += [one for one in known if one not in found]
        return found

    @property
    def are_from_here(self) -> bool:
        """Whether any table was made by this program as it runs."""
        return any(self._environments.get(sample_id, ()) is None for sample_id in self.tables)

    @property
    def are_unsaved(self) -> bool:
        """Whether measurements would be lost by closing."""
        return bool(self.tables) and not self._are_saved

    def note_saved(self, saved: Mapping[int, RegionTable] | None = None) -> None:
        """Remember that a file has them. saved : what it has; others were measured meanwhile."""
        if saved is None or (
            saved.keys() == self.tables.keys()
            and all(table is self.tables[sample_id] for sample_id, table in saved.items())
        ):
            self._are_saved = True

    @property
    def is_stale(self) -> bool:
        """Whether measurements are shown that the present method did not make."""
        now = digest(self._state().method.of_regions)
        return any(self._made_with.get(sample_id) != now for sample_id in self.tables)

    def planes_of_stacks(self) -> list[tuple[int, RegionTable, RegionTable]]:
        """Return id, table, and table with what is known of its sample, of measured planes."""
        return [
            (entry.id, self.tables[entry.id],
             replace(self.tables[entry.id], attributes=dict(entry.attributes)))
            for entry in self._state().samples
            if entry.id in self.tables and entry.sources[0].frame is not None
        ]  # fmt: skip

    def take_tracks(
        self, tracks: dict[int, tuple[RegionTable, Mapping[int, RegionAnnotation]]]
    ) -> None:
        """Take what is known of regions that were followed through time.

        tracks : sample's id → the table that was followed, and its facts with tracks.
        """
        if tracks or self._tracks:
            self._tracks, self._derived = tracks, None
            self.changed.emit()

    def take_errors(self, sample_id: int, table: RegionTable, errors: Errors) -> None:
        """Take the standard errors of the numbers of a table."""
        self._errors[sample_id] = (table, errors)
        self._derived = None
        self.changed.emit()

    def drop_errors(self) -> None:
        """Show numbers without their errors again."""
        self._errors, self._derived = {}, None
        self.changed.emit()

    @property
    def has_errors(self) -> bool:
        """Whether any table shown has errors."""
        return any(self.tables.get(k) is table for k, (table, _) in self._errors.items())

    def _with_errors(self, sample_id: int, table: RegionTable) -> RegionTable:
        of, errors = self._errors.get(sample_id, (None, {}))
        return with_errors(table, errors) if of is self.tables[sample_id] else table

    def _followed(self, sample_id: int) -> RegionTable:
        """The table of a sample, with its tracks where they are of this very table."""
        table = self.tables[sample_id]
        of, facts = self._tracks.get(sample_id, (None, table.known))
        return replace(table, known=facts) if of is table else table

    def ordered_tables(self) -> list[RegionTable]:
        """Return the measurements in the order of the samples, with what is known of these."""
        if not self.tables:
            return []
        state = self._state()
        if self._labels[0] is not state.samples:
            self._labels = (state.samples, [ref.file for ref in labelled(state.samples)])
        labels = self._labels[1]
        if state.blinding.is_on:
            labels = [entry.name for entry in state.samples]
        names = {entry.id: entry.name for entry in state.samples}
        known = [
            (
                entry.id,
                _OfSample(
                    entry.group, label, self._attributes_of(entry), self._files_of(entry, label)
                ),
            )
            for entry, label in zip(state.samples, labels, strict=True)
            if entry.id in self.tables
        ]
        tables = [
            replace(
                self._with_errors(k, self._followed(k)),
                sample=names[k],
                group=own.group,
                file=own.file,
                files=own.files,
                attributes=own.attributes,
            )
            for k, own in known
        ]
        columns = state.method.measure.derived
        if not columns:
            return tables
        made_from = _DerivedFrom(columns, [(self.tables[k], own) for k, own in known])
        if self._derived is None or self._derived[0] != made_from:
            self._derived = (made_from, with_derived(tables, columns))
        return list(self._derived[1])


@dataclass(frozen=True)
class _OfSample:
    """What the study knows of a sample."""

    group: str
    file: str
    attributes: Mapping[str, str]
    files: Mapping[str, str]


class _DerivedFrom:
    """What derived columns were made from; holds the tables, so that none can be mistaken."""

    def __init__(self, columns: object, known: list[tuple[RegionTable, _OfSample]]) -> None:
        self._columns, self._known = columns, known

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, _DerivedFrom) or self._columns != other._columns:
            return False
        return len(self._known) == len(other._known) and all(
            mine is theirs and own == other_own
            for (mine, own), (theirs, other_own) in zip(self._known, other._known, strict=True)
        )

    __hash__ = None  # type: ignore[assignment]

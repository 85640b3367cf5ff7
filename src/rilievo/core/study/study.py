"""A study: samples, groups, method, views. Immutable, so that undo keeps old states.

How it is stored is in `study_file`.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from rilievo.core.compare.question import Question
from rilievo.core.files.import_naming import propose
from rilievo.core.files.reader_helpers import unique_names
from rilievo.core.files.sample_parts import Part
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.image import ValueSource
from rilievo.core.method.method import Method, checked_copy
from rilievo.core.study.preregistration import Preregistration
from rilievo.core.study.report_options import ReportOptions
from rilievo.core.study.sealed_study import Blinding
from rilievo.core.view.palettes import ViewStyle


@dataclass(frozen=True, kw_only=True)
class SampleEntry(SampleRef):
    """A sample as the study knows it; its pixels stay in the file.

    id : names the sample within the study and never changes. size : bytes of its files. checksum :
    SHA-256 of its files, where it is known.
    """

    id: int
    size: int = 0
    checksum: str = ""

    @property
    def all_attributes(self) -> dict[str, str]:
        """What is known of it beside its group; the replicate number is the last column."""
        numbered = {"replicate": self.replicate} if self.replicate else {}
        return {**self.attributes, **numbered, **self.attributes}

    @classmethod
    def of(cls, ref: SampleRef, number: int, **fields: Any) -> SampleEntry:
        """Return a sample as one of a study, with absolute paths. number : names it there."""
        attributes = dict(ref.attributes)
        parts = _absolute(ref.parts)
        whole = parts == (Part(parts[0].path),) if parts else True
        return cls(
            **{
                "path": ref.path.absolute(),
                "name": ref.name,
                "group": ref.group,
                "replicate": attributes.pop("replicate", ref.replicate),
                "parts": () if whole else parts,
                "overrides": ref.overrides,
                "attributes": attributes,
                **fields,
            },
            id=number,
        )


@dataclass(frozen=True)
class OwnView:
    """How one sample is shown when it is not shown as the others; keys as in StudyState."""

    ranges: Mapping[tuple[str, ValueSource], tuple[float, float]] = field(default_factory=dict)
    styles: Mapping[str, ViewStyle] = field(default_factory=dict)


@dataclass(frozen=True)
class StudyState:
    """Everything a study holds beside the measurements.

    Parameters
    ----------
    name : str
        Of the study.
    samples : tuple of SampleEntry
        In the order of the list.
    method : Method
        Applied to all of them.
    ranges : mapping of tuple to tuple of float
        (channel, source) → display range, where it was set by hand.
    styles : mapping of str to ViewStyle
        Channel → how it is shown, where it is not plain.
    own_views : mapping of int to OwnView
        Sample id → how that sample alone is shown.
    question : Question
        What is compared.
    report : ReportOptions
        What goes into the report.
    blinding : Blinding
        What is hidden.
    preregistration : Preregistration
        The method as it was fixed beforehand.

    Examples
    --------
    >>> state = StudyState(name="Yeast").with_files([Path("wt_1.tif"), Path("mut_1.tif")])
    >>> [entry.name for entry in state.samples]
    ['wt_1', 'mut_1']
    """

    name: str = "Untitled study"
    samples: tuple[SampleEntry, ...] = ()
    method: Method = field(default_factory=Method)
    ranges: Mapping[tuple[str, ValueSource], tuple[float, float]] = field(default_factory=dict)
    styles: Mapping[str, ViewStyle] = field(default_factory=dict)
    own_views: Mapping[int, OwnView] = field(default_factory=dict)
    question: Question = field(default_factory=Question)
    report: ReportOptions = field(default_factory=ReportOptions)
    blinding: Blinding = field(default_factory=Blinding)
    preregistration: Preregistration = field(default_factory=Preregistration)

    def range_of(
        self, sample_id: int | None, channel: str, source: ValueSource
    ) -> tuple[float, float] | None:
        """Return the display range set by hand for a sample, or for all; None for none."""
        own_view = self.own_views.get(sample_id) if sample_id is not None else None
        return (self if own_view is None else own_view).ranges.get((channel, source))

    def style_of(self, sample_id: int | None, channel: str) -> ViewStyle:
        """Return how a channel of a sample is shown."""
        own_view = self.own_views.get(sample_id) if sample_id is not None else None
        return (self if own_view is None else own_view).styles.get(channel, ViewStyle())

    def with_view(
        self,
        sample_id: int | None,
        channel: str,
        *,
        display: tuple[ValueSource, tuple[float, float] | None] | None = None,
        style: ViewStyle | None = None,
    ) -> StudyState:
        """Return the study with the view of a channel changed, where the sample has its own, there.

        display : source and range; a range of None is the automatic one again.
        """
        own_view = self.own_views.get(sample_id) if sample_id is not None else None
        index: StudyState | OwnView = self if own_view is None else own_view
        ranges, styles = dict(index.ranges), dict(index.styles)
        if display is not None:
            source, ends = display
            ranges.pop((channel, source), None)
            if ends is not None:
                ranges[channel, source] = ends
        if style is not None:
            styles.pop(channel, None)
            if style != ViewStyle():
                styles[channel] = style
        if own_view is None or sample_id is None:
            return replace(self, ranges=ranges, styles=styles)
        return self.with_own_view(sample_id, OwnView(ranges, styles))

    def with_own_view(self, sample_id: int, view: OwnView | None) -> StudyState:
        """Return the study with a sample shown in its own way, or for None as the others."""
        views = {key: other_view for key, other_view in self.own_views.items() if key != sample_id}
        if view is not None:
            views[sample_id] = view
        return replace(self, own_views=views)

    def as_shown(self, view: OwnView) -> StudyState:
        """Return the study with all samples shown in one way, and none in its own."""
        return replace(self, ranges=view.ranges, styles=view.styles, own_views={})

    def entry(self, sample_id: int) -> SampleEntry:
        """Return a sample by its id."""
        return self._by_id[sample_id]

    def find(self, sample_id: int) -> SampleEntry | None:
        """Return a sample by its id; None where there is none."""
        return self._by_id.get(sample_id)

    @cached_property
    def _by_id(self) -> dict[int, SampleEntry]:
        return {entry.id: entry for entry in self.samples}

    @property
    def groups(self) -> tuple[str, ...]:
        """Distinct groups in the order they first appear."""
        return tuple(dict.fromkeys(entry.group for entry in self.samples))

    def with_files(self, paths: Sequence[Path]) -> StudyState:
        """Return the study with files added, named, grouped, and put in order of group.

        A file that is in the study already is not added again.
        """
        paths_held = {entry.path for entry in self.samples}
        new = [
            path for path in dict.fromkeys(p.absolute() for p in paths) if path not in paths_held
        ]
        return self.with_samples(propose(new))

    def with_samples(self, refs: Sequence[SampleRef]) -> StudyState:
        """Return the study with samples added, their names made unique, in order of group.

        A sample of the very same parts is not added again.
        """
        sources_held = {entry.sources for entry in self.samples}
        new = [ref for ref in refs if _absolute(ref.sources) not in sources_held]
        names = unique_names([e.name for e in self.samples] + [ref.name for ref in new])
        next_id = max((entry.id for entry in self.samples), default=0) + 1
        # Of a file of many planes, each takes its part.
        uses = Counter(p.path for ref in new for p in ref.sources if p.frame is not None)
        sizes = {path: _size(path) for path in {p.path for ref in new for p in ref.sources}}
        added = [
            SampleEntry.of(
                ref,
                number,
                name=name,
                size=sum(sizes[p.path] // max(uses[p.path], 1) for p in ref.sources),
            )
            for number, (ref, name) in enumerate(
                zip(new, names[len(self.samples) :], strict=True), start=next_id
            )
        ]
        return replace(self, samples=in_group_order((*self.samples, *added)))

    def with_overrides(self, sample_ids: Sequence[int], **fields: object) -> StudyState:
        """Return the study with something declared of some samples. Raises MethodError."""
        changed = {
            entry.id: replace(entry, overrides=checked_copy(entry.overrides, **fields))
            for entry in self.samples
            if entry.id in sample_ids
        }
        return replace(self, samples=tuple(changed.get(e.id, e) for e in self.samples))

    def with_length_unit(self, unit: str) -> StudyState:
        """Return the study with another unit of length. Raises MethodError for one of no length."""
        reading = checked_copy(self.method.reading, length_unit=unit)
        return replace(self, method=self.method.model_copy(update={"reading": reading}))

    def without(self, sample_ids: Sequence[int]) -> StudyState:
        """Return the study without some samples and what the method says of them."""
        gone = {entry.name for entry in self.samples if entry.id in sample_ids}
        exceptions = {k: v for k, v in self.method.exceptions.items() if k not in gone}
        picks = tuple(pick for pick in self.method.picks if pick.sample not in gone)
        return replace(
            self,
            samples=tuple(entry for entry in self.samples if entry.id not in sample_ids),
            method=self.method.changed(exceptions=exceptions, picks=picks),
            own_views={k: v for k, v in self.own_views.items() if k not in sample_ids},
        )

    def with_groups(self, groups: Mapping[int, tuple[str, str]]) -> StudyState:
        """Return the study with group and replicate of some samples set."""
        changed = tuple(
            replace(entry, group=groups[entry.id][0], replicate=groups[entry.id][1])
            if entry.id in groups
            else entry
            for entry in self.samples
        )
        return replace(self, samples=in_group_order(changed))

    def with_entry(self, entry: SampleEntry) -> StudyState:
        """Return the study with one sample replaced."""
        return replace(self, samples=tuple(entry if e.id == entry.id else e for e in self.samples))


def in_group_order(entries: Sequence[SampleEntry]) -> tuple[SampleEntry, ...]:
    """Return samples of one group together, groups in the order they first appear."""
    order = {group: i for i, group in enumerate(dict.fromkeys(e.group for e in entries))}
    return tuple(sorted(entries, key=lambda entry: order[entry.group]))


def _size(path: Path) -> int:
    return path.stat().st_size if path.is_file() else 0


def _absolute(parts: Sequence[Part]) -> tuple[Part, ...]:
    if all(part.path.is_absolute() for part in parts):
        return tuple(parts)
    return tuple(replace(part, path=part.path.absolute()) for part in parts)

"""What becomes of one sample of a batch: a table with all that belongs to it, or why not."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from rilievo.core.batch.label_files import write_labels
from rilievo.core.errors import Cancelled, RilievoError
from rilievo.core.files.sample_parts import named_checksums
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.checks import BatchProperties, Check
from rilievo.core.pipeline.checks_measured import check_measured
from rilievo.core.pipeline.checks_of_steps import check_steps, joined, unmended
from rilievo.core.pipeline.sample_pictures import small_pictures
from rilievo.core.pipeline.threshold_stability import Change, change_of_result
from rilievo.core.table.derived_columns import with_derived
from rilievo.core.table.table import RegionTable
from rilievo.core.table.track_columns import with_tracks


@dataclass(frozen=True, eq=False)
class Outcome:
    """What became of one sample: a table, or the reason why not.

    picks : what its picks read, a row a pick and channel. properties : to compare it with
    the others. changes : class → result at 90, 100 and 110 % of its threshold.
    checksum : SHA-256 of the file, where it is known. attributes : of the sample, those of the
    file among them. pictures : small ones, packed (`SmallPictures`); empty where none were made.
    """

    item: SampleRef
    table: RegionTable | None
    checks: tuple[Check, ...] = ()
    failure: str | None = None
    picks: tuple[dict[str, Any], ...] = ()
    properties: BatchProperties | None = None
    changes: Mapping[str, tuple[Change, ...]] = field(default_factory=dict)
    checksum: str = ""
    attributes: Mapping[str, str] = field(default_factory=dict)
    pictures: bytes = b""

    @property
    def date(self) -> str:
        """When it was recorded, as the file states it."""
        return str(self.attributes.get("date", ""))

    @property
    def checksums(self) -> list[tuple[str, str]]:
        """What each of its files is called, with its own SHA-256, "" where it is not known."""
        named = named_checksums(self.item.sources, self.checksum)
        return [(self.item.place, named[0][1])] if self.item.url else named


def outcome_of(
    ref: SampleRef,
    analysis: Analysis,
    *,
    stability: bool = True,
    picture_side: int = 0,
    labels: str = "",
) -> Outcome:
    """Measure one sample; an error meant for the user becomes its failure.

    stability : whether the method also runs at 90 and 110 % of each threshold. picture_side : of
    small pictures that are made beside; 0 for none. labels : folder for its label images.
    """
    method = analysis.method
    try:
        if labels:
            write_labels(analysis, Path(labels))
        table = analysis.table(ref.group)
        picks = analysis.picks(ref.group)
        changes = {
            name: change_of_result(analysis, index)
            for index, name in enumerate(method.class_names if stability else ())
        }
    except Cancelled:
        raise
    except RilievoError as exc:
        return Outcome(ref, None, failure=str(exc))
    noticed, properties = analysis.checks()
    sample = analysis.sample
    checks = joined(
        unmended(noticed, method, table.channels),
        check_steps(
            sample.name, method, analysis.step_reports(table.channels), sample.channel_names
        ),
        check_measured(table),
    )
    return Outcome(
        ref,
        table,
        checks,
        picks=tuple(picks),
        properties=properties,
        changes=changes,
        checksum=sample.checksum,
        attributes={**sample.attributes, **ref.all_attributes},
        pictures=_pictures(analysis, picture_side) if picture_side else b"",
    )


def _pictures(analysis: Analysis, side: int) -> bytes:
    """Small pictures, packed; none where a channel that is not measured cannot be corrected."""
    try:
        return small_pictures(analysis, side).to_bytes()
    except Cancelled:
        raise
    except RilievoError:
        return b""


def measured(outcomes: Iterable[Outcome]) -> list[RegionTable]:
    """Return the tables of the samples that did not fail, with what is known of the samples."""
    return [
        replace(
            outcome.table,
            file=outcome.item.label,
            files={k: outcome.item.label_of(v) for k, v in outcome.table.files.items()},
            attributes=outcome.attributes,
        )
        for outcome in outcomes
        if outcome.table is not None
    ]


def finished_tables(outcomes: Iterable[Outcome], method: Method) -> list[RegionTable]:
    """Return the tables with what follows from all of them: tracks, and derived columns."""
    return with_derived(with_tracks(measured(outcomes)), method.measure.derived)

"""Many samples with one method, and what was found as tables."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from rilievo.core.batch import (
    Measurer,
    Outcome,
    Resources,
    ResultStore,
    RunRequest,
    finished_tables,
)
from rilievo.core.files.sample_ref import SampleRef, samples_below, uniquely_named
from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method
from rilievo.core.table.summaries import sample_frame
from rilievo.core.table.table import RegionTable, region_frame, spread_of, with_units
from rilievo.core.table.table_html import table_html

if TYPE_CHECKING:
    import pandas

Image = str | Path | Sample


@dataclass(frozen=True, eq=False)
class Batch:
    """What became of the samples of a batch, in their order.

    Parameters
    ----------
    outcomes : sequence of Outcome
        One a sample, measured or failed.
    method : Method
        As it was applied, with levels that all samples have in common.

    Examples
    --------
    >>> import numpy as np
    >>> batch = measure_batch([Sample.from_array(np.eye(4), name="diagonal")], Method())
    >>> batch
    <Batch: 1 of 1 samples measured, 1 regions>
    >>> batch.failures
    {}
    """

    outcomes: Sequence[Outcome]
    method: Method

    @cached_property
    def tables(self) -> list[RegionTable]:
        """A table for each sample that was measured."""
        return finished_tables(self.outcomes, self.method)

    @cached_property
    def table(self) -> pandas.DataFrame:
        """A row for each sample, region and channel; units in `attrs["units"]`."""
        return with_units(region_frame(self.tables).to_pandas(), self.tables)

    @cached_property
    def samples(self) -> pandas.DataFrame:
        """A row for each sample, class and channel: count, area and spread of the regions."""
        return sample_frame(self.tables).to_pandas()

    @property
    def failures(self) -> dict[str, str]:
        """The samples that were not measured → why."""
        return {
            outcome.item.name: outcome.failure
            for outcome in self.outcomes
            if outcome.failure is not None
        }

    @property
    def checks(self) -> dict[str, list[str]]:
        """Sample → what is to be known of its data, in words; those with nothing are left out."""
        checks_of = {o.item.name: [check.text for check in o.checks] for o in self.outcomes}
        return {name: texts for name, texts in checks_of.items() if texts}

    def _title(self) -> str:
        good = len(self.outcomes) - len(self.failures)
        return f"{good} of {len(self.outcomes)} samples measured, {self._regions} regions"

    @property
    def _regions(self) -> int:
        return sum(int(table.ids.size) for table in self.tables)

    def __repr__(self) -> str:
        return f"<Batch: {self._title()}>"

    def _repr_html_(self) -> str:
        return table_html(self._title(), self.table, spread_of(self.tables))


def measure_batch(
    images: Sequence[Image] | str | Path,
    method: Method,
    *,
    groups: Mapping[str, str] | Sequence[str] | None = None,
    jobs: int = 1,
    store: str | Path | None = None,
) -> Batch:
    """Measure many samples; one that fails does not stop the others.

    Parameters
    ----------
    images : sequence of str, Path or Sample, or str or Path
        Files, folders, URLs or samples in memory.
    method : Method
        Applied to each.
    groups : mapping or sequence of str, optional
        Sample or file name → group, or a group for each image in order; None reads them from the
        names.
    jobs : int, optional
        Processes, for images in files.
    store : str or Path, optional
        A file that keeps what was measured, so that it is not measured again.

    Returns
    -------
    Batch

    Raises
    ------
    FileError
        For a folder that cannot be read.
    WorkerError
        Where processes cannot be started.
    ValueError
        For groups that fit no image, and for files and samples in memory together.

    Examples
    --------
    >>> import numpy as np
    >>> pictures = [Sample.from_array(np.eye(4) * level, name=f"s{level}") for level in (2, 3)]
    >>> batch = measure_batch(pictures, Method(), groups=["low", "high"])
    >>> batch.table[["sample", "group", "mean"]].values.tolist()
    [['s2', 'low', 2.0], ['s3', 'high', 3.0]]
    """
    given = [images] if isinstance(images, str | Path) else list(images)
    in_memory = [word for word in given if isinstance(word, Sample)]
    if in_memory and len(in_memory) < len(given):
        raise ValueError("Give images in files or samples in memory, not both in one batch.")
    if in_memory:
        samples = uniquely_named(
            [
                SampleRef(sample.path or Path(sample.name), sample.name, in_memory=sample)
                for sample in in_memory
            ]
        )
    else:
        samples = samples_below([word for word in given if not isinstance(word, Sample)])
    result_store = ResultStore(Path(store)) if store is not None else None
    with Measurer(store=result_store, resources=Resources(jobs=jobs)) as measurer:
        request = RunRequest(samples=_grouped(samples, groups), methods=(method,))
        results = measurer.measure(request)[0]
        return Batch(list(results), results.method)


def _grouped(
    items: Sequence[SampleRef], groups: Mapping[str, str] | Sequence[str] | None
) -> list[SampleRef]:
    if groups is None:
        return list(items)
    if not isinstance(groups, Mapping):
        if len(groups) != len(items):
            raise ValueError(f"{len(items)} images need as many groups. Got {len(groups)}.")
        return [replace(item, group=group) for item, group in zip(items, groups, strict=True)]
    names = {name: True for item in items for name in (item.name, item.label, item.path.name)}
    unknown = [name for name in groups if name not in names]
    if unknown:
        raise ValueError(f"No image is called “{unknown[0]}”.")
    return [
        replace(
            item,
            group=next(
                (groups[n] for n in (item.name, item.label, item.path.name) if n in groups),
                item.group,
            ),
        )
        for item in items
    ]

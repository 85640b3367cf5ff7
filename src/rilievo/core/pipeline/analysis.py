"""One sample under one method, and what follows from both: signal, regions, measurements.

All of it is pure: same sample and method, same bits. What is computed is kept in a cache that
analyses share, each result under a name made of what it depends on.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.files.channel_preparation import NO_OVERRIDES, MetadataOverrides, prepared
from rilievo.core.files.sample_ref import FILES_JOINED
from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.measure.region_flags import Flags, drawn_outside, flags_of
from rilievo.core.method.method import Method, digest
from rilievo.core.method.picks import pick_rows
from rilievo.core.method.signal_flags import marks_of, signal_unit
from rilievo.core.method.step_edits import moves_pixels, without_regions_read
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.checks import (
    BatchProperties,
    Check,
    checks_and_properties,
    proposed_levels,
)
from rilievo.core.pipeline.class_analysis import ClassAnalysis
from rilievo.core.pipeline.node import Key, Node
from rilievo.core.pipeline.step_chain import Applied, Chain, RegionMask, channel_of
from rilievo.core.regions import RegionSet
from rilievo.core.regions.binary_morphology import grown
from rilievo.core.signal.steps import STEPS
from rilievo.core.table.compartments import with_pairs
from rilievo.core.table.derived_columns import with_derived
from rilievo.core.table.table import RegionTable


class Analysis:
    """What a method makes of a sample.

    Cheap to make: nothing is computed before it is asked for, and what another analysis with the
    same cache has computed is there already.

    Parameters
    ----------
    sample : Sample
        As its file gives it, or as it was prepared for the method before.
    method : Method
        Steps, region classes, quantities.
    cache : AnalysisCache, optional
        Shared with other analyses; one of its own for None.
    overrides : MetadataOverrides, optional
        What stands in place of what the file says.

    Examples
    --------
    >>> import numpy as np
    >>> from rilievo.core import Method, Sample
    >>> analysis = Analysis(Sample.from_array(np.eye(8), name="diagonal"), Method())
    >>> analysis.table().quantities[:2]
    ('pixel_count', 'area')
    """

    def __init__(
        self,
        sample: Sample,
        method: Method,
        cache: AnalysisCache | None = None,
        overrides: MetadataOverrides = NO_OVERRIDES,
    ) -> None:
        self.given, self.overrides = sample, overrides
        self.method = method
        self.cache = AnalysisCache() if cache is None else cache
        self._classes: dict[int, ClassAnalysis] = {}

    @cached_property
    def sample(self) -> Sample:
        """The sample as the method reads it: with derived channels and what is declared."""
        given, reading = self.given, self.method.reading
        if given.variant:
            return given
        made = Node(
            self.cache,
            "prepared",
            lambda: prepared(given, reading, self.overrides, self.cache.get),
            given.content,
            digest(reading, self.overrides),
            size=lambda sample: sample.nbytes,
        ).get()
        return made.renamed(given.name)

    def with_method(self, method: Method) -> Analysis:
        """Return the same sample under another method that reads it alike."""
        return Analysis(self.sample, method, self.cache)

    # -- signal

    def chain(self, level: int = 0) -> Chain:
        """Return the steps of the method on the sample, at a level of its pyramid."""
        return self._chain if not level else self._chain_at(level)

    @cached_property
    def _chain(self) -> Chain:
        return self._chain_at(0)

    def _chain_at(self, level: int) -> Chain:
        return Chain(self.cache, self.sample, self.method, level, self._first_regions)

    def _first_regions(self, region_class: str) -> RegionMask:
        """The regions that a step needs: found without any step that needs some."""
        first = without_regions_read(self.method)
        if region_class not in first.class_names:
            raise StepError(
                f"A step needs the class “{region_class}”, which is not there; choose another "
                "class."
            )
        return _FirstRegions(self.with_method(first).of_class(region_class).regions)

    def signal_node(self, channel: str) -> Node[Applied]:
        """Return the corrected plane of a channel as a node."""
        return self._chain.node(channel_of(self.sample, channel), len(self.method.steps))

    def signal(self, channel: str) -> Plane:
        """Return a channel after the method's corrections, native units. Raises StepError."""
        return self.signal_node(channel).get().plane

    def peek_signal(self, channel: str) -> Plane | None:
        """Return the signal if it is there already; computes nothing."""
        applied = self.signal_node(channel).peek()
        return None if applied is None else applied.plane

    def is_native(self, channel: str) -> bool:
        """Whether the signal is what is in the file, so that it needs no copy of its own."""
        return not self.method.steps_for(self.sample.name, channel)

    def aligned_raw(self, channel: str) -> Plane:
        """Return the native plane with its pixels moved as the steps move those of the signal."""
        chain, channel = self._chain, channel_of(self.sample, channel)
        moving = [
            (index, use, how)
            for index, use in chain.uses(channel)
            if (how := STEPS[use.step].transform) is not None
        ]
        if not moving:
            return self.sample.channels[channel]

        def compute() -> Plane:
            plane = self.sample.channels[channel]
            for index, use, how in moving:
                before = chain.after(channel, index).plane
                moved = how(before, use.parameters, chain.context(channel, index))
                plane = moved.applied(plane)
            return plane

        return Node(
            self.cache,
            "aligned raw",
            compute,
            chain.node(channel, moving[-1][0] + 1),
            size=lambda plane: plane.pixels.nbytes,
        ).get()

    def aligned_geometry(self, channel: str) -> Plane:
        """Return a plane with the size, calibration and placement of the signal.

        That of the file while what moves its pixels is not computed.
        """
        native = self.sample.channels[channel]
        if not moves_pixels(self.method):
            return native
        moved = self._chain.moved_before(channel, len(self.method.steps))
        applied = self._chain.node(channel, moved).peek() if moved else None
        return native if applied is None else applied.plane

    def native_histogram(self, channel: str) -> Histogram:
        """Return the full histogram of a channel as its file gives it."""
        return Node(
            self.cache,
            "native histogram",
            lambda: histogram_of(self.sample.channels[channel]),
            self.sample.content,
            channel,
            size=lambda histogram: histogram.nbytes,
        ).get()

    def histogram(self, channel: str) -> Histogram:
        """Return the full histogram of the signal."""
        if self.is_native(channel):
            return self.native_histogram(channel)
        return Node(
            self.cache,
            "histogram",
            lambda: histogram_of(self.signal(channel)),
            self.signal_node(channel),
            size=lambda histogram: histogram.nbytes,
        ).get()

    def step_numbers(self, channel: str, step_id: str) -> dict[str, float]:
        """Return what a step told of a channel; nothing for a step that does not act on it."""
        for index, use in self._chain.uses(channel_of(self.sample, channel)):
            if use.id == step_id:
                return dict(self._chain.after(channel, index + 1).numbers)
        return {}

    def step_reports(self, channels: Iterable[str]) -> dict[str, dict[str, dict[str, float]]]:
        """Return what the steps told of the channels they act on: step → channel → numbers."""
        names = list(channels)
        return {
            use.id: {
                name: self.step_numbers(name, use.id) for name in names if use.applies_to(name)
            }
            for use in self.method.steps
            if use.on
        }

    # -- the sample by itself

    def checks(self) -> tuple[list[Check], BatchProperties]:
        """Return the warnings about the sample by itself, and what to compare with the others."""
        found, properties = Node(
            self.cache,
            "checks",
            lambda: checks_and_properties(self.sample, self.native_histogram),
            self.sample.content,
            self.sample.name,
        ).get()
        return list(found), properties

    def proposed_levels(self) -> MetadataOverrides:
        """As `checks.proposed_levels`."""
        return proposed_levels(self.sample, self.native_histogram)

    def picks(self, group: str = "") -> list[dict[str, Any]]:
        """Return what the picks of the method read in the sample, a row a pick and channel."""
        return pick_rows(self.sample, self.method.picks, self.signal, group)

    # -- regions

    def of_class(self, region_class: int | str = 0) -> ClassAnalysis:
        """Return the analysis of a region class, by its name or index. Raises MethodError."""
        index = region_class
        if isinstance(index, str):
            index = self.method.class_index(index)
        if index not in self._classes:
            self._classes[index] = ClassAnalysis(self, index)
        return self._classes[index]

    def level(self, region_class: int | str = 0) -> float:
        """Return the threshold of a class, signal units; NaN where it is found by no level."""
        return self.of_class(region_class).level()

    def regions(self, region_class: int | str = 0) -> RegionSet:
        """Return the regions of a class with their final numbers. Raises StepError."""
        return self.of_class(region_class).regions.get()

    # -- measurements

    def region_values(
        self, region_class: int | str, index: RegionIndex, channel: str, *, some: bool = False
    ) -> RegionValues:
        """Return the values of regions of a class on a channel, as the method measures them.

        some : whether the index holds only some regions of the class, of which what follows from
        all of them is taken.
        """
        of_class, measure = self.of_class(region_class), self.method.measure
        stars = of_class.definition.source == "stars"
        return RegionValues(
            index,
            self.signal(channel),
            self.aligned_raw(channel),
            exclude_saturated=measure.exclude_saturated,
            exclude_empty=measure.exclude_empty,
            ring=(measure.ring_gap, measure.ring_width),
            aperture=of_class.star_circles() if stars else None,
            growth=of_class.star_growth(channel) if stars and some else None,
        )

    def table(self, group: str = "") -> RegionTable:
        """Return the measurements of the sample. Raises StepError.

        Derived columns follow from the tables of all samples: see `with_derived`.
        """
        sample, method = self.sample, self.method
        names = method.measure.channels or sample.channel_names
        sets = [self.regions(index) for index in range(len(method.outlines))]
        placement = self.signal(names[0]).placement
        parts: dict[str, list[dict[str, Any]]] = {name: [] for name in names}
        flags: dict[str, list[Flags]] = {name: [] for name in names}
        for position, (outline, regions) in enumerate(zip(method.outlines, sets, strict=True)):
            index = RegionIndex.of(regions)
            outside = drawn_outside(regions, outline.drawn, sample.name, placement)
            for name in names:
                values = self.region_values(position, index, name)
                flags[name].append(flags_of(values, regions, outside))
                parts[name].append(
                    {key: QUANTITIES[key].measure(values) for key in method.measure.quantities}
                )
        columns = {
            name: {
                key: np.concatenate([part[key] for part in of_classes])
                for key in method.measure.quantities
            }
            for name, of_classes in parts.items()
        }
        table = RegionTable(
            sample=sample.name,
            file=sample.path.name if sample.path else "",
            group=group,
            classes=method.class_names,
            ids=np.concatenate([regions.ids for regions in sets]),
            columns=columns,
            unit=sample.first.calibration.unit,
            thresholds=tuple(regions.threshold for regions in sets),
            image_pixels=sets[0].labels.size,
            image_width=sets[0].labels.shape[1],
            marks={name: marks_of(method, sample.name, name) for name in columns},
            known={k: v for regions in sets for k, v in regions.known.items()},
            flags={name: np.concatenate(of_classes) for name, of_classes in flags.items()},
            units={name: signal_unit(method, sample.name, name) for name in columns},
            files={
                name: FILES_JOINED.join(path.name for path in sample.files_of(name))
                for name in columns
                if name in sample.files
            },
        )
        return with_pairs(table, method.measure.pairs, sets)


class _FirstRegions:
    """Regions as they are before a background leaves them out."""

    def __init__(self, regions: Node[RegionSet]) -> None:
        self._regions = regions

    @property
    def key(self) -> Key:
        """All that they depend on."""
        return self._regions.key

    def mask(self, rim: float) -> NDArray[np.bool_]:
        """Return their pixels with a rim around them."""
        inside = np.maximum(self._regions.get().labels, 0)
        return np.asarray((grown(inside, rim) if rim > 0 else inside) > 0)


def measure(sample: Sample, method: Method, group: str = "") -> RegionTable:
    """Return every quantity and derived column of the method for every region and channel.

    A derived column that refers to other samples finds its reference in this one or not at all.
    Raises StepError when a step or the outline cannot be applied to this sample.
    """
    return with_derived([Analysis(sample, method).table(group)], method.measure.derived)[0]

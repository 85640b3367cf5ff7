"""A method applied to a sample: regions and measurements, on top of signal and pictures.

All of it is pure: same sample and method, same bits. `Evaluator` keeps what it computes, named by
the pixels and the part of the method that matters.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.files.channel_preparation import MetadataOverrides
from rilievo.core.files.reader import file_identity
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Sample
from rilievo.core.image.metadata import stated_number
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.measure.region_flags import Flags, drawn_outside, flags_of
from rilievo.core.measure.stars.apertures import measured_stars
from rilievo.core.measure.stars.finding import usual_width
from rilievo.core.measure.stars.star_settings import StarCircles
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Method, digest
from rilievo.core.method.picks import pick_rows
from rilievo.core.method.signal_flags import marks_of, signal_unit
from rilievo.core.method.step_edits import without_regions_read
from rilievo.core.pipeline.checks import (
    BatchProperties,
    Check,
    checks_and_properties,
    proposed_levels,
)
from rilievo.core.pipeline.picture_evaluator import PictureEvaluator
from rilievo.core.pipeline.region_finder import RegionFinder, label_file
from rilievo.core.pipeline.signal_evaluator import bytes_of_little
from rilievo.core.pipeline.step_chain import ExclusionMask, channel_of
from rilievo.core.regions import RegionSet
from rilievo.core.regions.label_map import LabelMap
from rilievo.core.regions.morphology import grown
from rilievo.core.table.compartments import with_pairs
from rilievo.core.table.derived_columns import with_derived
from rilievo.core.table.table import RegionTable


class Evaluator(PictureEvaluator):
    """Evaluates methods on samples and keeps what may be asked again."""

    def exclusion_mask(self, sample: Sample, method: Method, region_class: str) -> ExclusionMask:
        """Return the regions that a step needs: found without any step that needs some."""
        first = without_regions_read(method)
        if region_class not in first.class_names:
            raise StepError(
                f"A step needs the class “{region_class}”, which is not there; choose another "
                "class."
            )
        return _FirstRegions(self, sample, first, first.class_names.index(region_class))

    def checks(self, sample: Sample) -> tuple[list[Check], BatchProperties]:
        """Return the warnings about a sample by itself, and what to compare with the others."""
        key = ("checks", sample.content, sample.name)
        found, traits = self._cache.get(
            key,
            lambda: checks_and_properties(sample, self._native(sample)),
            bytes_of_little,
        )
        return list(found), traits

    def proposed_levels(self, sample: Sample) -> MetadataOverrides:
        """As `checks.proposed_levels`."""
        return proposed_levels(sample, self._native(sample))

    def _native(self, sample: Sample) -> Callable[[str], Histogram]:
        return lambda channel: self.histogram(sample, channel, None)

    def level(self, sample: Sample, method: Method, position: int = 0) -> float:
        """Return the threshold of a class for a sample, signal units; NaN where it is no level."""
        return self._finder(sample, method, position).level()

    def picks(self, sample: Sample, method: Method, group: str = "") -> list[dict[str, Any]]:
        """Return what the picks of the method read in a sample, a row a pick and channel."""
        sample = self.prepared(sample, method)
        return pick_rows(sample, method.picks, lambda s, c: self.signal(s, c, method), group)

    def _finder(self, sample: Sample, method: Method, position: int) -> RegionFinder:
        names = method.class_names
        return RegionFinder(
            sample.name,
            channel_of(sample, method.outlines[position].channel),
            sample.channel_names,
            method,
            position,
            signal=lambda channel: self.signal(sample, channel, method),
            native=lambda channel: self.followed(sample, channel, method),
            count=lambda channel: self.histogram(sample, channel, method),
            regions=lambda name: self.regions(sample, method, names.index(name)),
            circles=lambda outline: self.star_circles(sample, method, outline),
        )

    def star_circles(self, sample: Sample, method: Method, outline: ClassDefinition) -> StarCircles:
        """Return the circles in pixels with which the stars of a class are measured."""
        sample = self.prepared(sample, method)
        channel = channel_of(sample, outline.channel)
        signal = self.signal(sample, channel, method)
        key = ("star width", *self.signal_key(sample, channel, method), outline.star.width,
               outline.star.sigmas)  # fmt: skip
        width = self.kept(key, lambda: usual_width(signal, outline.star), lambda _: 64)
        stated = [stated_number(sample.attributes, name) for name in ("gain", "read noise")]
        return outline.star.resolved(width, *stated)

    def star_growth(
        self, sample: Sample, method: Method, position: int, channel: str
    ) -> tuple[float, float]:
        """Return by what the fluxes of a class of stars are multiplied, and its error."""
        sample = self.prepared(sample, method)
        outline = method.outlines[position]
        key = ("growth", *self.regions_key(sample, method, position),
               *self.signal_key(sample, channel, method))  # fmt: skip

        def make() -> tuple[float, float]:
            index = RegionIndex.of(self.regions(sample, method, position))
            circles = self.star_circles(sample, method, outline)
            return measured_stars(index, self.signal(sample, channel, method), circles).growth

        return self.kept(key, make, lambda _: 64)

    def regions_key(self, sample: Sample, method: Method, position: int) -> tuple[Any, ...]:
        """Name the regions of a class by all that they depend on."""
        outline = method.outlines[position]
        channels = [channel_of(sample, outline.channel)]
        channels += [name for name in outline.channels_read() if name in sample.channels]
        edits = method.exception_for(sample.name).edits
        name, names = outline.region_class, method.class_names
        # Regions given by hand, or a rule, make a class depend on others.
        others = {e.region_class for e in edits if e.to == name} | set(outline.needs)
        return (
            "regions",
            position,
            sample.name,
            *(self.signal_key(sample, channel, method) for channel in channels),
            digest(
                outline.model_copy(update={"picks": ()}) if outline.picks else outline,
                [e.model_dump(mode="json") for e in edits if name in (e.region_class, e.to)],
                self._label_file_state(outline, sample),
            ),
            *(
                self.regions_key(sample, method, names.index(other))
                for other in sorted(others & set(names) - {name})
            ),
        )

    @staticmethod
    def _label_file_state(outline: ClassDefinition, sample: Sample) -> Any:
        if outline.source != "label_image":
            return None
        path = label_file(outline, sample.name)
        return file_identity(path) if path.exists() else None

    def regions(self, sample: Sample, method: Method, position: int = 0) -> RegionSet:
        """Return the regions of the class at an index of the method, as `RegionFinder.run`."""
        return self._cache.get(
            self.regions_key(sample, method, position),
            self._finder(sample, method, position).run,
            lambda regions: regions.nbytes,
        )

    def cleaned(self, sample: Sample, method: Method, position: int) -> LabelMap:
        """Return the regions of a class after its clean-up, before edits by hand; not kept."""
        return self._finder(sample, method, position).cleaned()[0]

    def found_before(self, sample: Sample, method: Method, position: int, step: int) -> LabelMap:
        """Return the regions of a class as they come to a step of its clean-up."""
        outline = method.outlines[position]
        early = outline.model_copy(update={"clean": outline.clean[:step]})
        method = method.with_outline(early, position)
        finder = self._finder(sample, method, position)
        return self._cache.get(
            ("found", *self.regions_key(sample, method, position)),
            lambda: finder.cleaned()[0],
            lambda found: found.labels.nbytes,
        )

    def before_keeping(
        self,
        sample: Sample,
        method: Method,
        position: int,
        step: int,
        key: str,
        channel: str | None,
    ) -> Any:
        """Return a quantity of the regions as they come to a step of the clean-up, shape (n,)."""
        outline = method.outlines[position]
        early = outline.model_copy(update={"clean": outline.clean[:step]})
        method = method.with_outline(early, position)
        name = ("before", *self.regions_key(sample, method, position), key, channel)
        finder = self._finder(sample, method, position)
        return self._cache.get(
            name,
            lambda: finder.measured(
                self.found_before(sample, method, position, step), key, channel
            ),
            lambda values: values.nbytes,
        )

    def values(
        self,
        sample: Sample,
        method: Method,
        outline: ClassDefinition,
        index: RegionIndex,
        channel: str,
        *,
        some: bool = False,
    ) -> RegionValues:
        """Return the values of regions of a class on a channel, as the method measures them.

        some : whether the index holds only some regions of the class, of which what follows from
        all of them is taken.
        """
        growth = None
        if some and outline.source == "stars":
            position = method.class_names.index(outline.region_class)
            growth = self.star_growth(sample, method, position, channel)
        return RegionValues(
            index,
            self.signal(sample, channel, method),
            self.followed(sample, channel, method),
            exclude_saturated=method.measure.exclude_saturated,
            exclude_empty=method.measure.exclude_empty,
            ring=(method.measure.ring_gap, method.measure.ring_width),
            aperture=(
                self.star_circles(sample, method, outline) if outline.source == "stars" else None
            ),
            growth=growth,
        )

    def measure(self, sample: Sample, method: Method, group: str = "") -> RegionTable:
        """Return the measurements of a sample; as `measure`, from the cache where possible."""
        sample = self.prepared(sample, method)
        names = method.measure.channels or sample.channel_names
        sets = [self.regions(sample, method, position) for position in range(len(method.outlines))]
        parts: dict[str, list[dict[str, Any]]] = {name: [] for name in names}
        flags: dict[str, list[Flags]] = {name: [] for name in names}
        for outline, regions in zip(method.outlines, sets, strict=True):
            index = RegionIndex.of(regions)
            placement = self.signal(sample, names[0], method).placement
            outside = drawn_outside(regions, outline.drawn, sample.name, placement)
            for name in names:
                values = self.values(sample, method, outline, index, name)
                flags[name].append(flags_of(values, regions, outside))
                parts[name].append(
                    {key: QUANTITIES[key].measure(values) for key in method.measure.quantities}
                )
        columns = {
            name: {
                key: np.concatenate([part[key] for part in own])
                for key in method.measure.quantities
            }
            for name, own in parts.items()
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
            flags={name: np.concatenate(own) for name, own in flags.items()},
            units={name: signal_unit(method, sample.name, name) for name in columns},
        )
        return with_pairs(table, method.measure.pairs, sets)


@dataclass(frozen=True)
class _FirstRegions:
    """Regions as they are before a background leaves them out."""

    evaluator: Evaluator
    sample: Sample
    method: Method
    position: int

    def key(self) -> tuple[Any, ...]:
        """Name them by all that they depend on."""
        return self.evaluator.regions_key(self.sample, self.method, self.position)

    def mask(self, rim: float) -> NDArray[np.bool_]:
        """Return their pixels with a rim around them."""
        regions = self.evaluator.regions(self.sample, self.method, self.position)
        inside = np.maximum(regions.labels, 0)
        return np.asarray((grown(inside, rim) if rim > 0 else inside) > 0)


def measure(sample: Sample, method: Method, group: str = "") -> RegionTable:
    """Return every quantity and derived column of the method for every region and channel.

    A derived column that refers to other samples finds its reference in this one or not at all.
    Raises StepError when a step or the outline cannot be applied to this sample.
    """
    table = Evaluator().measure(sample, method, group)
    return with_derived([table], method.measure.derived)[0]

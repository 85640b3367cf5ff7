"""Regions of one class in one sample: found, cleaned, edited by hand, numbered.

The order is fixed: pixels by threshold, drawing, rule or label image; connect; the clean-up's
steps in their order; edits by hand; numbers. Drawn regions and stars are not cleaned.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.cleaning import CLEANERS
from rilievo.core.errors import StepError
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Calibration, FloatPixels, Plane
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.measure.stars.finding import find_stars, star_regions
from rilievo.core.measure.stars.star_settings import StarCircles
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Method
from rilievo.core.progress import checkpoint
from rilievo.core.regions.derived_classes import OPERATIONS, derived_labels
from rilievo.core.regions.drawn import cover
from rilievo.core.regions.label_image import read_label_image
from rilievo.core.regions.label_map import LabelMap, Labels
from rilievo.core.regions.manual_edits import HandEdit, edited
from rilievo.core.regions.pixel_runs import runs_of
from rilievo.core.regions.region_set import RegionFacts, RegionSet, kept_pixels, numbered


@dataclass(frozen=True, eq=False)
class RegionFinder:
    """Finds the regions of one class in one sample.

    position : of the class in the method. signal, native : (channel) → plane after the corrections,
    and as in the file with its pixels moved alike. count : (channel) → histogram of the signal.
    regions : (name) → regions of another class. circles : (class) → those of its stars.
    """

    sample_name: str
    channel: str
    channels: tuple[str, ...]
    method: Method
    position: int
    signal: Callable[[str], Plane]
    native: Callable[[str], Plane]
    count: Callable[[str], Histogram]
    regions: Callable[[str], RegionSet]
    circles: Callable[[ClassDefinition], StarCircles]

    @property
    def outline(self) -> ClassDefinition:
        """The class."""
        return self.method.outlines[self.position]

    @property
    def keep(self) -> Literal["bright", "dark"]:
        """Which side of a threshold is kept."""
        return self.outline.keep

    @cached_property
    def values(self) -> FloatPixels:
        """Signal of the channel it is found on."""
        return self._plane.as_float()

    @cached_property
    def _plane(self) -> Plane:
        return self.signal(self.channel)

    @property
    def calibration(self) -> Calibration:
        """Size of a pixel."""
        return self._plane.calibration

    def histogram(self) -> Histogram:
        """Return the histogram of the channel it is found on."""
        return self.count(self.channel)

    def channel_values(self, name: str) -> FloatPixels:
        """Return another channel's signal. Raises StepError for a name that is not there."""
        if name not in self.channels:
            raise StepError(
                f"“{self.outline.region_class}” is found by the channel “{name}”, but sample "
                f"“{self.sample_name}” has {', '.join(self.channels)}; choose another channel."
            )
        values = self.signal(name).as_float()
        if values.shape != self.values.shape:
            raise StepError(
                f"The channels “{self.channel}” and “{name}” of sample “{self.sample_name}” differ "
                "in size; find regions on one of them."
            )
        return values

    def level(self) -> float:
        """Return the threshold, signal units; NaN for ways that are not one level."""
        return self._level

    @cached_property
    def _level(self) -> float:
        use = self.outline.threshold
        if self.outline.source != "threshold" or use.entry.find is None:
            return float("nan")
        # A level by hand needs no look at the pixels.
        if not use.entry.automatic or use.pooled:
            return use.level(Histogram.nothing())
        level = use.level(self.histogram().with_pixels(self.values))
        return use.parameters.on_side(level, self.keep)

    def measured(self, found: LabelMap, key: str, channel: str | None) -> NDArray[np.float64]:
        """Return a quantity of the regions 1 … count on a channel; None is the class's own."""
        if key in ("area", "area_unit"):
            # The most frequent limits by far need no look at the pixels' values.
            areas = np.bincount(np.maximum(found.labels, 0).ravel(), minlength=found.count + 1)[1:]
            return self._in_unit(areas.astype(np.float64), key)
        name = channel or self.channel
        if name != self.channel:
            self.channel_values(name)
        index = RegionIndex(found.labels, np.arange(1, found.count + 1))
        values = RegionValues(index, self.signal(name), self.native(name))
        result = QUANTITIES[key].measure(values)
        if QUANTITIES[key].unit in ("unit", "unit²") and self.calibration.pixel_size is None:
            raise self._uncalibrated()
        return result

    def _in_unit(self, areas: NDArray[np.float64], key: str) -> NDArray[np.float64]:
        if key == "area":
            return areas
        factor = self.calibration.area_factor
        if factor is None:
            raise self._uncalibrated()
        return areas * factor

    def _uncalibrated(self) -> StepError:
        return StepError(
            f"Regions are limited in calibrated units, but sample “{self.sample_name}” has no "
            "pixel size; give the limits in pixels."
        )

    def found(self) -> tuple[LabelMap, dict[int, RegionFacts], list[str]]:
        """Return the regions before clean-up and edits, what is known of them, and notes."""
        outline = self.outline
        if outline.source == "drawn":
            return self._drawn()
        if outline.source == "label_image":
            return self._from_file(), {}, []
        if outline.source == "derived":
            return self._derived()
        if outline.source == "stars":
            signal = self._plane
            circles = self.circles(outline)
            stars = find_stars(signal, self.native(self.channel), circles)
            return star_regions(stars, circles, signal.shape), {}, []
        use = outline.threshold
        if use.entry.mask is not None:
            mask = use.entry.mask(_PixelsOf(self), use.parameters)
        else:
            mask = kept_pixels(self.values, self.level(), outline.keep)
        return LabelMap.of(mask, outline.connectivity), {}, []

    def _drawn(self) -> tuple[LabelMap, dict[int, RegionFacts], list[str]]:
        covering = cover(
            self.outline.drawn, self.sample_name, lambda: self.signal(self.channel), self._plane
        )
        count = len(covering.singles)
        known = {
            number: RegionFacts(one.name, one.group, one.attributes, drawn=(one.index, one.cell))
            for number, one in enumerate(covering.singles, start=1)
        }
        notes = []
        if covering.shared:
            notes.append(
                f"{covering.shared} pixels are covered by more than one shape; they count for the "
                "one drawn last."
            )
        found = LabelMap(covering.labels, count, self.outline.connectivity, apart=True)
        return found, known, notes

    def _from_file(self) -> LabelMap:
        if not self.outline.label_image.get("file"):
            raise StepError(
                f"No label image is chosen for “{self.outline.region_class}”; choose one."
            )
        path = label_file(self.outline, self.sample_name)
        labels = read_label_image(path, self._plane.shape)
        return LabelMap(labels, int(labels.max(initial=0)), self.outline.connectivity, apart=True)

    def _derived(self) -> tuple[LabelMap, dict[int, RegionFacts], list[str]]:
        derivation = self.outline.derivation
        if "" in derivation.needs:
            raise StepError(
                f"“{self.outline.region_class}” is made as "
                f"“{OPERATIONS[derivation.operation]}”; choose the classes it is made from."
            )
        first = self.regions(derivation.a)
        second = self.regions(derivation.b) if len(derivation.needs) > 1 else None
        factor = 1.0
        if derivation.lengths_in == "unit":
            factor = 1 / self.calibration.square_side("A distance", self.sample_name)
        labels, known = derived_labels(derivation, first, second, self.outline.connectivity, factor)
        count = int(labels.max(initial=0))
        return LabelMap(labels, count, self.outline.connectivity, apart=True), known, []

    def cleaned(self) -> tuple[LabelMap, dict[int, RegionFacts], list[str]]:
        """Return the regions after the clean-up, what is known of them, and notes."""
        begun, known, notes = self.found()
        found = begun
        if self.outline.source not in ("drawn", "stars"):
            for use in self.outline.clean:
                checkpoint()
                if use.on:
                    found = CLEANERS[use.cleaner].apply(found, use.parameters, self)
        if found is not begun and known:
            known = _carried(begun.labels, found.labels, known)
        return found, known, notes

    @property
    def _edits(self) -> list[HandEdit]:
        """The edits by hand of this class in this sample."""
        edits = self.method.exception_for(self.sample_name).edits
        return [edit for edit in edits if edit.region_class == self.outline.region_class]

    def run(self) -> RegionSet:
        """Return the regions with their final numbers."""
        found, known, notes = self.cleaned()
        found, known = self._with_given(found, known)
        own = self._edits
        if not own:
            return numbered(found, self.level(), class_at=self.position, known=known, notes=notes)
        before = found
        after = edited(found, own, self._plane.placement)
        if after.found is not before and known:
            known = _carried(before.labels, after.found.labels, known)
        if after.lost:
            notes.append(
                f"{after.lost} edits by hand do not apply: their region is no longer there."
            )
        return numbered(
            after.found,
            self.level(),
            class_at=self.position,
            rejected=after.rejected,
            known={**known, **_merged(known, after.known)},
            notes=notes,
        )

    def given_away(self, name: str) -> list[NDArray[np.bool_]]:
        """Return the pixels of regions of this class that were given the class `name` by hand."""
        result = edited(self.cleaned()[0], self._edits, self._plane.placement)
        return [mask for to, mask in result.given if to == name]

    def _with_given(
        self, found: LabelMap, known: Mapping[int, RegionFacts]
    ) -> tuple[LabelMap, dict[int, RegionFacts]]:
        """Add the regions that other classes gave to this one by hand."""
        name, known = self.outline.region_class, dict(known)
        givers = {
            edit.region_class
            for edit in self.method.exception_for(self.sample_name).edits
            if edit.kind == "reclassify" and edit.to == name
        } & set(self.method.class_names)
        for giver in sorted(givers - {name}):
            position = self.method.class_names.index(giver)
            other = RegionFinder(
                self.sample_name,
                self.channel_of(self.method.outlines[position]),
                self.channels,
                self.method,
                position,
                self.signal,
                self.native,
                self.count,
                self.regions,
                self.circles,
            )
            for mask in other.given_away(name):
                labels = found.labels.copy()
                labels[mask] = found.count + 1
                found = LabelMap(
                    labels, found.count + 1, found.connectivity, found.reasons, apart=True
                )
                known[found.count] = RegionFacts(edit="class given by hand")
        return found, known

    def channel_of(self, outline: ClassDefinition) -> str:
        """Return the channel on which a class is found in this sample."""
        return outline.channel or self.channels[0]


def label_file(outline: ClassDefinition, sample: str) -> Path:
    """Return the label image of a sample."""
    return Path(outline.label_image.get("file", "").replace("{sample}", sample))


class _PixelsOf:
    """What a threshold that keeps pixels may look at."""

    def __init__(self, finder: RegionFinder) -> None:
        self._finder = finder
        self.keep: Literal["bright", "dark"] = finder.keep
        self.name = finder.sample_name

    @property
    def values(self) -> FloatPixels:
        return self._finder.values

    @property
    def calibration(self) -> Calibration:
        return self._finder.calibration

    def histogram(self) -> Histogram:
        return self._finder.histogram()

    def channel(self, name: str) -> FloatPixels:
        return self._finder.channel_values(name)


def _carried(
    before: Labels, after: Labels, known: Mapping[int, RegionFacts]
) -> dict[int, RegionFacts]:
    """What was known of regions, under the numbers they have now: by their first pixels."""
    runs = runs_of(after)
    numbers, first = np.unique(runs.labels, return_index=True)
    was = before[runs.rows[first], runs.starts[first]]
    return {
        int(number): known[int(old)]
        for number, old in zip(numbers, was, strict=True)
        if int(old) in known
    }


def _merged(
    known: Mapping[int, RegionFacts], edits: Mapping[int, RegionFacts]
) -> dict[int, RegionFacts]:
    """SampleSummary with the words of the edits put in."""
    merged = {}
    for number, one in edits.items():
        old = known.get(number, one)
        merged[number] = RegionFacts(
            old.name, old.group, old.attributes, old.parent, one.edit, old.drawn
        )
    return merged

"""One region class of an analysis: found, cleaned, edited by hand, numbered.

The order is fixed: pixels by threshold, drawing, rule or label image; connect; the clean-up's
steps in their order; edits by hand; numbers. Drawn regions and stars are not cleaned.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from functools import cached_property
from pathlib import Path
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from rilievo.core.cleaning import CLEANERS
from rilievo.core.errors import StepError
from rilievo.core.files.reader import file_identity
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Calibration, FloatPixels, Plane, Sample
from rilievo.core.image.metadata import stated_number
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.measure.stars.apertures import measured_stars
from rilievo.core.measure.stars.finding import find_stars, star_regions, usual_width
from rilievo.core.measure.stars.star_settings import StarCircles
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Method, digest
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.node import Node
from rilievo.core.pipeline.step_chain import Applied, channel_of
from rilievo.core.progress import checkpoint
from rilievo.core.regions.derived_classes import OPERATIONS, derived_labels
from rilievo.core.regions.drawn_shapes import cover
from rilievo.core.regions.label_image import read_label_image
from rilievo.core.regions.label_map import LabelMap, Labels
from rilievo.core.regions.manual_edits import HandEdit, edited
from rilievo.core.regions.pixel_runs import runs_of
from rilievo.core.regions.region_set import RegionAnnotation, RegionSet, kept_pixels, numbered

Column = NDArray[np.float64]


class AnalysedSample(Protocol):
    """What the analysis of a class needs of the sample's; see `analysis.Analysis`."""

    method: Method
    cache: AnalysisCache

    @property
    def sample(self) -> Sample:
        """The sample as the method reads it."""

    def signal(self, channel: str) -> Plane:
        """Return a channel after the corrections."""

    def signal_node(self, channel: str) -> Node[Applied]:
        """Return that as a node."""

    def aligned_raw(self, channel: str) -> Plane:
        """Return the native plane with its pixels moved alike."""

    def histogram(self, channel: str) -> Histogram:
        """Return the histogram of the signal."""

    def of_class(self, region_class: int | str) -> ClassAnalysis:
        """Return the analysis of another class."""

    def with_method(self, method: Method) -> AnalysedSample:
        """Return the same sample under another method."""


class ClassAnalysis:
    """One region class of an analysis: its level, its regions, and what they are found from.

    analysis : of the sample. index : of the class in the method.
    """

    def __init__(self, analysis: AnalysedSample, index: int) -> None:
        self.analysis, self.index = analysis, index
        self.definition = analysis.method.outlines[index]
        self.sample_name = analysis.sample.name

    @property
    def keep(self) -> Literal["bright", "dark"]:
        """Which side of a threshold is kept."""
        return self.definition.keep

    @cached_property
    def channel(self) -> str:
        """Name of the channel that it is found on. Raises StepError."""
        return channel_of(self.analysis.sample, self.definition.channel)

    @cached_property
    def signal(self) -> Plane:
        """Corrected plane of the channel it is found on."""
        return self.analysis.signal(self.channel)

    @cached_property
    def values(self) -> FloatPixels:
        """Signal of the channel it is found on."""
        return self.signal.as_float()

    @property
    def calibration(self) -> Calibration:
        """Size of a pixel."""
        return self.signal.calibration

    def histogram(self) -> Histogram:
        """Return the histogram of the channel it is found on."""
        return self.analysis.histogram(self.channel)

    def channel_values(self, name: str) -> FloatPixels:
        """Return another channel's signal. Raises StepError for a name that is not there."""
        names = self.analysis.sample.channel_names
        if name not in names:
            raise StepError(
                f"“{self.definition.region_class}” is found by the channel “{name}”, but sample "
                f"“{self.sample_name}” has {', '.join(names)}; choose another channel."
            )
        values = self.analysis.signal(name).as_float()
        if values.shape != self.values.shape:
            raise StepError(
                f"The channels “{self.channel}” and “{name}” of sample “{self.sample_name}” differ "
                "in size; find regions on one of them."
            )
        return values

    # -- nodes

    @cached_property
    def regions(self) -> Node[RegionSet]:
        """The regions with their final numbers."""
        return Node(
            self.analysis.cache,
            "regions",
            self._numbered,
            *self._inputs(),
            size=lambda regions: regions.nbytes,
        )

    def _inputs(self) -> tuple[Node[Any] | Hashable, ...]:
        """All that the regions depend on."""
        sample, definition = self.analysis.sample, self.definition
        channels = [name for name in definition.channels_read() if name in sample.channels]
        name, names = definition.region_class, self.analysis.method.class_names
        edits = [edit for edit in self._all_edits if name in (edit.region_class, edit.to)]
        # Regions given by hand, or a rule, make a class depend on others.
        others = {edit.region_class for edit in edits if edit.to == name} | set(definition.needs)
        return (
            self.index,
            sample.name,
            *(self.analysis.signal_node(name) for name in (self.channel, *channels)),
            digest(
                definition.model_copy(update={"picks": ()}) if definition.picks else definition,
                [edit.model_dump(mode="json") for edit in edits],
                self._label_file_state(),
            ),
            *(
                self.analysis.of_class(other).regions
                for other in sorted(others & set(names) - {name})
            ),
        )

    def _label_file_state(self) -> str | None:
        if self.definition.source != "label_image":
            return None
        path = label_file(self.definition, self.sample_name)
        return file_identity(path) if path.exists() else None

    def before_clean_up(self, step: int) -> ClassAnalysis:
        """Return the class without a step of its clean-up and those after it."""
        early = self.definition.model_copy(update={"clean": self.definition.clean[:step]})
        method = self.analysis.method.with_outline(early, self.index)
        return self.analysis.with_method(method).of_class(self.index)

    def labels_before_step(self, step: int) -> LabelMap:
        """Return the regions as they come to a step of the clean-up."""
        early = self.before_clean_up(step)
        return Node(
            self.analysis.cache,
            "labels before a step",
            lambda: early.cleaned()[0],
            early.regions,
            size=lambda found: found.labels.nbytes,
        ).get()

    def values_before_filter(self, step: int, key: str, channel: str | None) -> Column:
        """Return a quantity of the regions as they come to a step of the clean-up, shape (n,)."""
        early = self.before_clean_up(step)
        return Node(
            self.analysis.cache,
            "values before a filter",
            lambda: early.measured(self.labels_before_step(step), key, channel),
            early.regions,
            key,
            channel,
            size=lambda values: values.nbytes,
        ).get()

    def star_circles(self) -> StarCircles:
        """Return the circles in pixels with which the stars of the class are measured."""
        star, attributes = self.definition.star, self.analysis.sample.attributes
        width = Node(
            self.analysis.cache,
            "star width",
            lambda: usual_width(self.signal, star),
            self.analysis.signal_node(self.channel),
            star.width,
            star.sigmas,
        ).get()
        stated = [stated_number(attributes, name) for name in ("gain", "read noise")]
        return star.resolved(width, *stated)

    def star_growth(self, channel: str) -> tuple[float, float]:
        """Return by what the fluxes of the stars are multiplied on a channel, and its error."""

        def compute() -> tuple[float, float]:
            index = RegionIndex.of(self.regions.get())
            signal = self.analysis.signal(channel)
            return measured_stars(index, signal, self.star_circles()).growth

        return Node(
            self.analysis.cache,
            "star growth",
            compute,
            self.regions,
            self.analysis.signal_node(channel),
        ).get()

    # -- finding

    def level(self) -> float:
        """Return the threshold, signal units; NaN for ways that are not one level."""
        return self._level

    @cached_property
    def _level(self) -> float:
        use = self.definition.threshold
        if self.definition.source != "threshold" or use.entry.find is None:
            return float("nan")
        # A level by hand needs no look at the pixels.
        if not use.entry.automatic or use.pooled:
            return use.level(Histogram.nothing())
        level = use.level(self.histogram().with_pixels(self.values))
        return use.parameters.on_side(level, self.keep)

    def measured(self, label_map: LabelMap, key: str, channel: str | None) -> NDArray[np.float64]:
        """Return a quantity of the regions 1 … count on a channel; None is the class's own."""
        if key in ("area", "area_unit"):
            # The most frequent limits by far need no look at the pixels' values.
            areas = np.bincount(
                np.maximum(label_map.labels, 0).ravel(), minlength=label_map.count + 1
            )[1:]
            return self._in_unit(areas.astype(np.float64), key)
        name = channel or self.channel
        if name != self.channel:
            self.channel_values(name)
        index = RegionIndex(label_map.labels, np.arange(1, label_map.count + 1))
        values = RegionValues(index, self.analysis.signal(name), self.analysis.aligned_raw(name))
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

    def found(self) -> tuple[LabelMap, dict[int, RegionAnnotation], list[str]]:
        """Return the regions before clean-up and edits, what is known of them, and notes."""
        outline = self.definition
        if outline.source == "drawn":
            return self._drawn()
        if outline.source == "label_image":
            return self._from_file(), {}, []
        if outline.source == "derived":
            return self._derived()
        if outline.source == "stars":
            circles = self.star_circles()
            stars = find_stars(self.signal, self.analysis.aligned_raw(self.channel), circles)
            return star_regions(stars, circles, self.signal.shape), {}, []
        use = outline.threshold
        if use.entry.mask is not None:
            mask = use.entry.mask(_PixelsOf(self), use.parameters)
        else:
            mask = kept_pixels(self.values, self.level(), outline.keep)
        return LabelMap.of(mask, outline.connectivity), {}, []

    def _drawn(self) -> tuple[LabelMap, dict[int, RegionAnnotation], list[str]]:
        covering = cover(self.definition.drawn, self.sample_name, self.signal)
        count = len(covering.singles)
        annotation_of = {
            number: RegionAnnotation(
                single.name, single.group, single.attributes, drawn=(single.index, single.cell)
            )
            for number, single in enumerate(covering.singles, start=1)
        }
        notes = []
        if covering.shared:
            notes.append(
                f"{covering.shared} pixels are covered by more than one shape; they count for the "
                "one drawn last."
            )
        label_map = LabelMap(covering.labels, count, self.definition.connectivity, apart=True)
        return label_map, annotation_of, notes

    def _from_file(self) -> LabelMap:
        if not self.definition.label_image.get("file"):
            raise StepError(
                f"No label image is chosen for “{self.definition.region_class}”; choose one."
            )
        path = label_file(self.definition, self.sample_name)
        labels = read_label_image(path, self.signal.shape)
        return LabelMap(
            labels, int(labels.max(initial=0)), self.definition.connectivity, apart=True
        )

    def _derived(self) -> tuple[LabelMap, dict[int, RegionAnnotation], list[str]]:
        derivation = self.definition.derivation
        if "" in derivation.needs:
            raise StepError(
                f"“{self.definition.region_class}” is made as "
                f"“{OPERATIONS[derivation.operation]}”; choose the classes it is made from."
            )
        names = (derivation.a, derivation.b)[: len(derivation.needs)]
        made_of = [self.analysis.of_class(name).regions.get() for name in names]
        first, second = made_of[0], made_of[1] if len(made_of) > 1 else None
        factor = 1.0
        if derivation.lengths_in == "unit":
            factor = 1 / self.calibration.square_side("A distance", self.sample_name)
        labels, annotation_of = derived_labels(
            derivation, first, second, self.definition.connectivity, factor
        )
        count = int(labels.max(initial=0))
        return LabelMap(labels, count, self.definition.connectivity, apart=True), annotation_of, []

    def cleaned(self) -> tuple[LabelMap, dict[int, RegionAnnotation], list[str]]:
        """Return the regions after the clean-up, what is known of them, and notes."""
        begun, annotation_of, notes = self.found()
        label_map = begun
        if self.definition.source not in ("drawn", "stars"):
            for use in self.definition.clean:
                checkpoint()
                if use.on:
                    label_map = CLEANERS[use.cleaner].apply(label_map, use.parameters, self)
        if label_map is not begun and annotation_of:
            annotation_of = _carried(begun.labels, label_map.labels, annotation_of)
        return label_map, annotation_of, notes

    @property
    def _all_edits(self) -> tuple[HandEdit, ...]:
        return self.analysis.method.exception_for(self.sample_name).edits

    @property
    def _edits(self) -> list[HandEdit]:
        """The edits by hand of this class in this sample."""
        name = self.definition.region_class
        return [edit for edit in self._all_edits if edit.region_class == name]

    def _numbered(self) -> RegionSet:
        label_map, annotation_of, notes = self.cleaned()
        label_map, annotation_of = self._with_given(label_map, annotation_of)
        edits = self._edits
        if not edits:
            return numbered(
                label_map, self.level(), class_at=self.index, known=annotation_of, notes=notes
            )
        before = label_map
        after = edited(label_map, edits, self.signal.placement)
        if after.found is not before and annotation_of:
            annotation_of = _carried(before.labels, after.found.labels, annotation_of)
        if after.lost:
            notes.append(
                f"{after.lost} edits by hand do not apply: their region is no longer there."
            )
        return numbered(
            after.found,
            self.level(),
            class_at=self.index,
            rejected=after.rejected,
            known={**annotation_of, **_merged(annotation_of, after.known)},
            notes=notes,
        )

    def given_away(self, name: str) -> list[NDArray[np.bool_]]:
        """Return the pixels of regions of this class that were given the class `name` by hand."""
        result = edited(self.cleaned()[0], self._edits, self.signal.placement)
        return [mask for to, mask in result.given if to == name]

    def _with_given(
        self, label_map: LabelMap, annotation_of: Mapping[int, RegionAnnotation]
    ) -> tuple[LabelMap, dict[int, RegionAnnotation]]:
        """Add the regions that other classes gave to this one by hand."""
        name, annotation_of = self.definition.region_class, dict(annotation_of)
        givers = {
            edit.region_class
            for edit in self._all_edits
            if edit.kind == "reclassify" and edit.to == name
        } & set(self.analysis.method.class_names)
        for giver in sorted(givers - {name}):
            other = self.analysis.of_class(giver)
            for mask in other.given_away(name):
                labels = label_map.labels.copy()
                labels[mask] = label_map.count + 1
                label_map = LabelMap(
                    labels,
                    label_map.count + 1,
                    label_map.connectivity,
                    label_map.reasons,
                    apart=True,
                )
                annotation_of[label_map.count] = RegionAnnotation(edit="class given by hand")
        return label_map, annotation_of


def label_file(outline: ClassDefinition, sample: str) -> Path:
    """Return the label image of a sample."""
    return Path(outline.label_image.get("file", "").replace("{sample}", sample))


class _PixelsOf:
    """What a threshold that keeps pixels may look at."""

    def __init__(self, analysis: ClassAnalysis) -> None:
        self._class = analysis
        self.keep: Literal["bright", "dark"] = analysis.keep
        self.name = analysis.sample_name

    @property
    def values(self) -> FloatPixels:
        return self._class.values

    @property
    def calibration(self) -> Calibration:
        return self._class.calibration

    def histogram(self) -> Histogram:
        return self._class.histogram()

    def channel(self, name: str) -> FloatPixels:
        return self._class.channel_values(name)


def _carried(
    before: Labels, after: Labels, annotation_of: Mapping[int, RegionAnnotation]
) -> dict[int, RegionAnnotation]:
    """What was known of regions, under the numbers they have now: by their first pixels."""
    runs = runs_of(after)
    numbers, first = np.unique(runs.labels, return_index=True)
    was = before[runs.rows[first], runs.starts[first]]
    return {
        int(number): annotation_of[int(old)]
        for number, old in zip(numbers, was, strict=True)
        if int(old) in annotation_of
    }


def _merged(
    annotation_of: Mapping[int, RegionAnnotation], edits: Mapping[int, RegionAnnotation]
) -> dict[int, RegionAnnotation]:
    """What is known of regions, with the words of the edits put in."""
    merged = {}
    for number, edit in edits.items():
        old = annotation_of.get(number, edit)
        merged[number] = RegionAnnotation(
            old.name, old.group, old.attributes, old.parent, edit.edit, old.drawn
        )
    return merged

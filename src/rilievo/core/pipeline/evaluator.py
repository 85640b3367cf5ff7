"""A method applied to a sample: signal, histogram, regions, measurements.

All of it is pure: same sample and method, same bits. `Evaluator` keeps what it computes, named by
the pixels and the part of the method that matters; the steps are evaluated by `chain`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.cache import BudgetCache
from rilievo.core.errors import StepError
from rilievo.core.files.channel_preparation import Declared, prepared
from rilievo.core.files.sample_parts import Part, parts_checksum, read_parts
from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Pixels, Plane, Sample
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.measure.region_flags import Flags, drawn_outside, flags_of
from rilievo.core.method.class_definition import Outline
from rilievo.core.method.method import Method, digest
from rilievo.core.method.picks import pick_rows
from rilievo.core.method.signal_flags import marks_of, signal_unit
from rilievo.core.method.step_edits import moves_pixels, without_outside
from rilievo.core.pipeline.checks import Check, Traits, check_sample, proposed_levels, traits_of
from rilievo.core.pipeline.region_finder import Outliner, label_file
from rilievo.core.pipeline.step_chain import Applied, Chain, LeftOut, channel_of, read_plainly
from rilievo.core.pipeline.viewport_preview import visible_part, visible_window
from rilievo.core.regions import RegionSet
from rilievo.core.regions.label_map import Found
from rilievo.core.regions.morphology import grown
from rilievo.core.signal.steps import STEPS
from rilievo.core.table.compartments import with_pairs
from rilievo.core.table.derived_columns import with_derived
from rilievo.core.table.table import RegionTable
from rilievo.core.view.sampling import Viewport

DEFAULT_BUDGET = 2_000_000_000
# A plane of so many pixels is first shown as a sketch, whose coarsest level has about this side.
SKETCH_FROM = 8_000_000
_SKETCH_SIDE = 256
# A signal of more pixels than this is first shown from a coarse level of at most so many.
COARSE_FROM, _COARSE_PIXELS = 400_000, 300_000


def coarse_level(shape: tuple[int, int]) -> int:
    """Return how often a plane is halved to be shown quickly; 0 for a small one."""
    level = 0
    while (shape[0] >> level) * (shape[1] >> level) > _COARSE_PIXELS:
        level += 1
    return level


def _small(_: object) -> int:
    """The bytes of what is too small to be counted."""
    return 1000


def _for_view(plane: Plane) -> Pixels:
    """The pixels as they stand, or without infinities."""
    return plane.as_float() if plane.pixels.dtype.kind == "f" else plane.pixels


class Evaluator:
    """Evaluates methods on samples and keeps what may be asked again."""

    def __init__(self, budget: int = DEFAULT_BUDGET) -> None:
        self._cache = BudgetCache(budget)

    @property
    def budget(self) -> int:
        """Bytes of results that are kept."""
        return self._cache.budget

    @budget.setter
    def budget(self, budget: int) -> None:
        self._cache.budget = budget

    def file(self, path: Path, image: int = 0) -> Sample:
        """Return the sample in a file, without a checksum, which takes longer than the pixels."""
        stat = path.stat() if path.exists() else None
        key = ("file", str(path), image, stat and (stat.st_mtime_ns, stat.st_size))
        return self._cache.get(key, lambda: read_plainly(path, image), lambda s: s.nbytes)

    def sample(self, parts: Sequence[Part], name: str) -> Sample:
        """Return the sample made of parts of files, under its name in the study."""
        return read_parts(parts, name, self.file)

    def chain(self, sample: Sample, method: Method, level: int = 0) -> Chain:
        """Return the steps of the method on a sample, at a level of its pyramid."""
        return Chain(self._cache, self.file, sample, method, level, self._left_out)

    def _left_out(self, sample: Sample, method: Method, region_class: str) -> LeftOut:
        """The regions that a background leaves out: found without leaving any out."""
        first = without_outside(method)
        if region_class not in first.class_names:
            raise StepError(
                f"A background leaves the class “{region_class}” out, which is not there; choose "
                "another class."
            )
        return _FirstRegions(self, sample, first, first.class_names.index(region_class))

    def signal_key(self, sample: Sample, channel: str, method: Method) -> tuple[Any, ...]:
        """Name the corrected plane: pixels by checksum, and the steps so far."""
        return ("signal", *self.chain(sample, method).key(channel, len(method.steps)))

    def prepared(self, sample: Sample, method: Method, declared: Declared | None = None) -> Sample:
        """As `reading.prepared`; derived channels are kept."""
        if sample.variant:
            return sample
        key = ("prepared", sample.content, digest(method.reading, declared or Declared()))
        made = self._cache.get(
            key, lambda: prepared(sample, method.reading, declared), lambda s: s.nbytes
        )
        return made.renamed(sample.name)

    def checks(self, sample: Sample) -> tuple[list[Check], Traits]:
        """Return the warnings about a sample by itself, and what to compare with the others."""
        key = ("checks", sample.content, sample.name)
        found, traits = self._cache.get(
            key, lambda: (check_sample(sample, self._native(sample)), traits_of(sample)), _small
        )
        return list(found), traits

    def proposed_levels(self, sample: Sample) -> Declared:
        """As `checks.proposed_levels`."""
        return proposed_levels(sample, self._native(sample))

    def _native(self, sample: Sample) -> Callable[[str], Histogram]:
        return lambda channel: self.histogram(sample, channel, None)

    def checksum(self, parts: Sequence[Part], sample: Sample) -> str:
        """Return the checksum of a sample's files, once for as long as they stay as they are."""
        key = ("checksum", sample.identity)
        return self._cache.get(key, lambda: parts_checksum(parts), _small)

    def signal(self, sample: Sample, channel: str, method: Method) -> Plane:
        """Return a channel after the method's corrections, native units."""
        return self._applied(sample, channel, method).plane

    def _applied(self, sample: Sample, channel: str, method: Method) -> Applied:
        chain = self.chain(sample, method)
        return chain.after(channel_of(sample, channel), len(method.steps))

    def peek_signal(self, sample: Sample, channel: str, method: Method) -> Plane | None:
        """Return the signal if it is there already; computes nothing."""
        found = self.chain(sample, method).peek(channel, len(method.steps))
        return None if found is None else found.plane

    def peek_moved(self, sample: Sample, channel: str, method: Method) -> Plane:
        """Return a plane with the size, calibration and placement of the signal.

        That of the file while what moves its pixels is not computed.
        """
        if not moves_pixels(method):
            return sample.channels[channel]
        chain = self.chain(sample, method)
        moved = chain.moved_before(channel, len(method.steps))
        known = chain.peek(channel, moved) if moved else None
        return sample.channels[channel] if known is None else known.plane

    def step_numbers(
        self, sample: Sample, channel: str, method: Method, step_id: str
    ) -> dict[str, float]:
        """Return what a step told of a channel; nothing for a step that does not act on it."""
        chain = self.chain(sample, method)
        for place, use in chain.uses(channel_of(sample, channel)):
            if use.id == step_id:
                return dict(chain.after(channel, place + 1).numbers)
        return {}

    def followed(self, sample: Sample, channel: str, method: Method) -> Plane:
        """Return the native plane with its pixels moved as the steps move those of the signal."""
        chain = self.chain(sample, method)
        channel = channel_of(sample, channel)
        moving = [
            (place, use, how)
            for place, use in chain.uses(channel)
            if (how := STEPS[use.step].transform) is not None
        ]
        if not moving:
            return sample.channels[channel]

        def make() -> Plane:
            plane = sample.channels[channel]
            for place, use, how in moving:
                before = chain.after(channel, place).plane
                moved = how(before, use.parameters, chain.context(channel, place))
                plane = moved.applied(plane)
            return plane

        key = ("followed", *chain.key(channel, moving[-1][0] + 1))
        return self._cache.get(key, make, lambda plane: plane.pixels.nbytes)

    def histogram(self, sample: Sample, channel: str, method: Method | None) -> Histogram:
        """Return the full histogram of the signal, or of the native values for no method."""
        if method is None or self._is_native(sample, channel, method):
            key: tuple[str, ...] = ("native histogram", sample.content, channel)
            return self._cache.get(
                key, lambda: histogram_of(sample.channels[channel]), lambda h: h.counts.nbytes
            )
        return self._cache.get(
            ("histogram", *self.signal_key(sample, channel, method)),
            lambda: histogram_of(self.signal(sample, channel, method)),
            lambda h: h.counts.nbytes,
        )

    def pyramid(self, sample: Sample, channel: str, method: Method | None) -> Pyramid:
        """Return the signal, or for no method the native plane, at halved sizes."""
        if method is None or self._is_native(sample, channel, method):
            return self._cache.get(
                self._native_pyramid_key(sample, channel),
                lambda: Pyramid(_for_view(sample.channels[channel])),
                lambda p: p.nbytes,
            )
        return self._cache.get(
            ("pyramid", *self.signal_key(sample, channel, method)),
            lambda: Pyramid(self.signal(sample, channel, method).as_float()),
            lambda p: p.nbytes,
        )

    @staticmethod
    def _native_pyramid_key(sample: Sample, channel: str) -> tuple[str, ...]:
        return ("native pyramid", sample.content, channel)

    @staticmethod
    def _is_native(sample: Sample, channel: str, method: Method) -> bool:
        """Whether the signal is what is in the file, so that it needs no copy of its own."""
        return not method.steps_for(sample.name, channel)

    def quick_pyramid(self, sample: Sample, channel: str, method: Method | None) -> Pyramid:
        """As `pyramid` if that is there already, else for a large plane a sketch of it.

        Native planes are sketched by single pixels, signals by the steps at a coarse level.
        """
        if not self.is_sketch(sample, channel, method):
            return self.pyramid(sample, channel, method)
        if method is None or self._is_native(sample, channel, method):
            return Pyramid.sketch(_for_view(sample.channels[channel]), _SKETCH_SIDE)
        chain = self.chain(sample, method, coarse_level(sample.channels[channel].shape))
        coarse = chain.after(channel, len(method.steps)).plane
        moved = chain.moved_before(channel, len(method.steps))
        full = chain.exact().after(channel, moved).plane if moved else sample.channels[channel]
        return Pyramid.coarse(coarse.pixels, chain.level, full.shape)

    def visible(
        self, sample: Sample, channel: str, method: Method, viewport: Viewport
    ) -> tuple[Pyramid, Viewport] | None:
        """Return what the screen shows of a signal before all of it is computed, if it can be.

        The result is a part of the picture, and the viewport as it stands to that part.
        """
        exact = self.chain(sample, method)
        coarse = self.chain(sample, method, coarse_level(sample.channels[channel].shape))
        shape = self.peek_moved(sample, channel, method).shape
        window = visible_window(viewport, shape)
        if window is None or viewport.zoom * 2**coarse.level <= 1.0:
            return None
        part = visible_part(exact, coarse, channel, window)
        if part is None:
            return None
        rows, columns = window
        hidden = shape[0] - rows.stop if viewport.bottom_up else rows.start
        view = replace(viewport, left=viewport.left - columns.start, top=viewport.top - hidden)
        return Pyramid(part.pixels), view

    def is_sketch(self, sample: Sample, channel: str, method: Method | None) -> bool:
        """Whether `quick_pyramid` gives a sketch as yet."""
        size = sample.channels[channel].pixels.size
        if method is None or self._is_native(sample, channel, method):
            known = self._cache.peek(self._native_pyramid_key(sample, channel))
            return size >= SKETCH_FROM and known is None
        return size >= COARSE_FROM and self.peek_signal(sample, channel, method) is None

    def level(self, sample: Sample, method: Method, place: int = 0) -> float:
        """Return the threshold of a class for a sample, signal units; NaN where it is no level."""
        return self._outliner(sample, method, place).level()

    def picks(self, sample: Sample, method: Method, group: str = "") -> list[dict[str, Any]]:
        """Return what the picks of the method read in a sample, a row a pick and channel."""
        sample = self.prepared(sample, method)
        return pick_rows(sample, method.picks, lambda s, c: self.signal(s, c, method), group)

    def _outliner(self, sample: Sample, method: Method, place: int) -> Outliner:
        names = method.class_names
        return Outliner(
            sample.name,
            channel_of(sample, method.outlines[place].channel),
            sample.channel_names,
            method,
            place,
            signal=lambda channel: self.signal(sample, channel, method),
            native=lambda channel: self.followed(sample, channel, method),
            count=lambda channel: self.histogram(sample, channel, method),
            regions=lambda name: self.regions(sample, method, names.index(name)),
        )

    def regions_key(self, sample: Sample, method: Method, place: int) -> tuple[Any, ...]:
        """Name the regions of a class by all that they depend on."""
        outline = method.outlines[place]
        channels = [channel_of(sample, outline.channel)]
        channels += [name for name in outline.channels_read() if name in sample.channels]
        edits = method.exception_for(sample.name).edits
        name, names = outline.region_class, method.class_names
        # Regions given by hand, or a rule, make a class depend on others.
        others = {e.region_class for e in edits if e.to == name} | set(outline.needs)
        return (
            "regions",
            place,
            sample.name,
            *(self.signal_key(sample, channel, method) for channel in channels),
            digest(
                outline.model_copy(update={"picks": ()}),
                [e.model_dump(mode="json") for e in edits if name in (e.region_class, e.to)],
                self._label_file_state(outline, sample),
            ),
            *(
                self.regions_key(sample, method, names.index(other))
                for other in sorted(others & set(names) - {name})
            ),
        )

    @staticmethod
    def _label_file_state(outline: Outline, sample: Sample) -> Any:
        if outline.source != "label_image":
            return None
        path = label_file(outline, sample.name)
        return (path.stat().st_mtime_ns, path.stat().st_size) if path.is_file() else None

    def regions(self, sample: Sample, method: Method, place: int = 0) -> RegionSet:
        """Return the regions of the class at a place of the method, as `Outliner.run`."""
        return self._cache.get(
            self.regions_key(sample, method, place),
            self._outliner(sample, method, place).run,
            lambda regions: regions.nbytes,
        )

    def found_before(self, sample: Sample, method: Method, place: int, step: int) -> Found:
        """Return the regions of a class as they come to a step of its clean-up."""
        outline = method.outlines[place]
        early = outline.model_copy(update={"clean": outline.clean[:step]})
        method = method.with_outline(early, place)
        outliner = self._outliner(sample, method, place)
        return self._cache.get(
            ("found", *self.regions_key(sample, method, place)),
            lambda: outliner.cleaned()[0],
            lambda found: found.labels.nbytes,
        )

    def before_keeping(
        self, sample: Sample, method: Method, place: int, step: int, key: str, channel: str | None
    ) -> Any:
        """Return a quantity of the regions as they come to a step of the clean-up, shape (n,)."""
        outline = method.outlines[place]
        early = outline.model_copy(update={"clean": outline.clean[:step]})
        method = method.with_outline(early, place)
        name = ("before", *self.regions_key(sample, method, place), key, channel)
        outliner = self._outliner(sample, method, place)
        return self._cache.get(
            name,
            lambda: outliner.measured(self.found_before(sample, method, place, step), key, channel),
            lambda values: values.nbytes,
        )

    def values(
        self, sample: Sample, method: Method, outline: Outline, index: RegionIndex, channel: str
    ) -> RegionValues:
        """Return the values of regions of a class on a channel, as the method measures them."""
        return RegionValues(
            index,
            self.signal(sample, channel, method),
            self.followed(sample, channel, method),
            exclude_saturated=method.measure.exclude_saturated,
            exclude_empty=method.measure.exclude_empty,
            ring=(method.measure.ring_gap, method.measure.ring_width),
            aperture=outline.star if outline.source == "stars" else None,
        )

    def measure(self, sample: Sample, method: Method, group: str = "") -> RegionTable:
        """Return the measurements of a sample; as `measure`, from the cache where possible."""
        sample = self.prepared(sample, method)
        names = method.measure.channels or sample.channel_names
        sets = [self.regions(sample, method, place) for place in range(len(method.outlines))]
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
    place: int

    def key(self) -> tuple[Any, ...]:
        """Name them by all that they depend on."""
        return self.evaluator.regions_key(self.sample, self.method, self.place)

    def mask(self, rim: float) -> NDArray[np.bool_]:
        """Return their pixels with a rim around them."""
        regions = self.evaluator.regions(self.sample, self.method, self.place)
        inside = np.maximum(regions.labels, 0)
        return np.asarray((grown(inside, rim) if rim > 0 else inside) > 0)


def measure(sample: Sample, method: Method, group: str = "") -> RegionTable:
    """Return every quantity and derived column of the method for every region and channel.

    A derived column that refers to other samples finds its reference in this one or not at all.
    Raises StepError when a step or the outline cannot be applied to this sample.
    """
    table = Evaluator().measure(sample, method, group)
    return with_derived([table], method.measure.derived)[0]

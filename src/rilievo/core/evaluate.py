"""A method applied to a sample: signal, histogram, regions, measurements.

All of it is pure: same sample and method, same bits. `Evaluator` keeps what it computes, named by
the pixels and the part of the method that matters; the steps are evaluated by `chain`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from rilievo.core.cache import BudgetCache
from rilievo.core.chain import Applied, Chain, channel_of, read_plainly
from rilievo.core.checks import Check, Traits, check_sample, proposed_levels, traits_of
from rilievo.core.editing import moves_pixels
from rilievo.core.errors import StepError
from rilievo.core.files.parts import Part, parts_checksum, read_parts
from rilievo.core.histogram import Histogram, histogram_of
from rilievo.core.image import Pixels, Plane, Sample, placed
from rilievo.core.marks import marks_of
from rilievo.core.measures import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.method import Method, Outline, digest
from rilievo.core.picks import pick_rows
from rilievo.core.pyramid import Pyramid
from rilievo.core.reading import Declared, prepared
from rilievo.core.regions import RegionSet, find_regions
from rilievo.core.sampling import Viewport
from rilievo.core.steps import STEPS
from rilievo.core.table import RegionTable
from rilievo.core.thresholds import THRESHOLDS
from rilievo.core.visible import visible_part, visible_window

DEFAULT_BUDGET = 2_000_000_000
# A plane of so many pixels is first shown as a sketch, whose coarsest level has about this side.
SKETCH_FROM = 8_000_000
_SKETCH_SIDE = 256
# A signal of more pixels than this is first shown from a coarse level of at most so many.
COARSE_FROM, _COARSE_PIXELS = 400_000, 300_000


def threshold_of(outline: Outline, histogram: Histogram) -> float:
    """Return the level for a sample's signal histogram; NaN when there is nothing to part."""
    use = outline.threshold
    return THRESHOLDS[use.way].find(histogram, use.parameters)


def area_limits(outline: Outline, plane: Plane, sample_name: str) -> tuple[float, float | None]:
    """Return smallest and largest area in pixels. Raises StepError without a calibration."""
    if outline.area_in == "px":
        return outline.min_area, outline.max_area
    factor = plane.calibration.area_factor
    if factor is None:
        raise StepError(
            f"Areas are limited in calibrated units, but sample “{sample_name}” has no pixel "
            "size; give the limits in pixels."
        )
    largest = None if outline.max_area is None else outline.max_area / factor
    return outline.min_area / factor, largest


def regions_of(sample: Sample, method: Method, signal: Plane, level: float) -> RegionSet:
    """Return the regions that the outline finds on the signal of its channel."""
    outline = method.outline
    smallest, largest = area_limits(outline, signal, sample.name)
    return find_regions(
        signal.as_float(),
        level,
        keep=outline.keep,
        connectivity=outline.connectivity,
        fill=outline.fill_holes,
        min_area=smallest,
        max_area=largest,
        rejected=[
            (round(x), round(y))
            for x, y in (
                placed(signal.placement, *pixel)
                for pixel in method.exception_for(sample.name).rejected
            )
        ],
    )


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
        return Chain(self._cache, self.file, sample, method, level)

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

    def level(self, sample: Sample, method: Method) -> float:
        """Return the threshold for a sample, signal units."""
        channel = channel_of(sample, method.outline.channel)
        if not THRESHOLDS[method.outline.threshold.way].automatic:
            # A level by hand needs no look at the pixels.
            return threshold_of(method.outline, Histogram.nothing())
        return threshold_of(method.outline, self.histogram(sample, channel, method))

    def picks(self, sample: Sample, method: Method, group: str = "") -> list[dict[str, Any]]:
        """Return what the picks of the method read in a sample, a row a pick and channel."""
        sample = self.prepared(sample, method)
        return pick_rows(sample, method.picks, lambda s, c: self.signal(s, c, method), group)

    def _regions_key(self, sample: Sample, method: Method) -> tuple[str, ...]:
        channel = channel_of(sample, method.outline.channel)
        rejected = list(method.exception_for(sample.name).rejected)
        what = digest(method.outline, rejected)
        return ("regions", *self.signal_key(sample, channel, method), what)

    def regions(self, sample: Sample, method: Method) -> RegionSet:
        """As `regions_of`, with the signal and the level of the sample."""
        channel = channel_of(sample, method.outline.channel)
        return self._cache.get(
            self._regions_key(sample, method),
            lambda: regions_of(
                sample,
                method,
                self.signal(sample, channel, method),
                self.level(sample, method),
            ),
            lambda regions: regions.nbytes,
        )

    def measure(self, sample: Sample, method: Method, group: str = "") -> RegionTable:
        """Return the measurements of a sample; as `measure`, from the cache where possible."""
        sample = self.prepared(sample, method)
        regions = self.regions(sample, method)
        index = RegionIndex.of(regions)
        names = method.measure.channels or sample.channel_names
        columns = {}
        for name in names:
            native = self.followed(sample, name, method)
            values = RegionValues(
                index,
                self.signal(sample, name, method),
                native,
                exclude_saturated=method.measure.exclude_saturated,
                exclude_empty=method.measure.exclude_empty,
            )
            columns[name] = {
                key: QUANTITIES[key].measure(values) for key in method.measure.quantities
            }
        return RegionTable(
            sample=sample.name,
            file=sample.path.name if sample.path else "",
            group=group,
            region_class=method.outline.region_class,
            ids=regions.ids,
            columns=columns,
            unit=sample.first.calibration.unit,
            threshold=regions.threshold,
            image_pixels=regions.labels.size,
            marks={name: marks_of(method, sample.name, name) for name in columns},
        )


def measure(sample: Sample, method: Method, group: str = "") -> RegionTable:
    """Return every quantity of the method for every region and channel of a sample.

    Raises StepError when a step or the outline cannot be applied to this sample.
    """
    return Evaluator().measure(sample, method, group)

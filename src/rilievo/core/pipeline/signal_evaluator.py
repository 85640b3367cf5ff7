"""The steps of a method applied to a sample: signal, native values that follow, histograms.

All of it is pure: same sample and method, same bits. What is computed is kept, named by the
pixels and the part of the method that matters; the steps are evaluated by `step_chain`.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Iterable, Sequence
from pathlib import Path
from typing import Any

from cachetools import LRUCache

from rilievo.core.cache import BudgetCache, Result
from rilievo.core.errors import StepError
from rilievo.core.files.channel_preparation import NOTHING_DECLARED, MetadataOverrides, prepared
from rilievo.core.files.reader import file_identity
from rilievo.core.files.sample_parts import Part, parts_checksum, read_parts
from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Plane, Sample
from rilievo.core.image.stack import Frame
from rilievo.core.method.method import Method, digest
from rilievo.core.method.step_edits import moves_pixels
from rilievo.core.pipeline.step_chain import (
    Applied,
    Chain,
    ExclusionMask,
    channel_of,
    files_of,
    read_plainly,
)
from rilievo.core.signal.steps import STEPS

DEFAULT_BUDGET = 2_000_000_000


def bytes_of_little(_: object) -> int:
    """Return the bytes of what is too small to be counted."""
    return 1000


class SignalEvaluator:
    """Reads samples, applies steps, and keeps what may be asked again."""

    def __init__(self, budget: int = DEFAULT_BUDGET) -> None:
        self._cache = BudgetCache(budget)
        self._names: LRUCache[Any, tuple[Method, dict[tuple[str, int], str]]] = LRUCache(256)
        self._naming = threading.Lock()

    @property
    def budget(self) -> int:
        """Bytes of results that are kept."""
        return self._cache.budget

    @budget.setter
    def budget(self, budget: int) -> None:
        self._cache.budget = budget

    @property
    def held(self) -> int:
        """Bytes of results that are kept now."""
        return self._cache.held

    def turn(self) -> None:
        """Go on to the next of many samples, see `BudgetCache.turn`."""
        self._cache.turn()

    def clear(self) -> None:
        """Drop all that is kept: nothing of it will be asked for again."""
        self._cache.clear()
        with self._naming:
            self._names.clear()

    def kept(
        self, key: tuple[Hashable, ...], make: Callable[[], Result], size: Callable[[Result], int]
    ) -> Result:
        """Return what `make` gives, computed once for as long as there is room.

        key : names all that the result depends on. size : bytes of a result.
        """
        return self._cache.get(key, make, size)

    def file(self, path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
        """Return the sample in a file, without a checksum, which takes longer than the pixels.

        frame : one plane of a stack, or what is made of several.
        """
        key = ("file", file_identity(path, image), frame)
        return self._cache.get(key, lambda: read_plainly(path, image, frame), lambda s: s.nbytes)

    def sample(self, parts: Sequence[Part], name: str) -> Sample:
        """Return the sample made of parts of files, under its name in the study."""
        return read_parts(parts, name, self.file)

    def chain(self, sample: Sample, method: Method, level: int = 0) -> Chain:
        """Return the steps of the method on a sample, at a level of its pyramid."""
        named = self._names_of(sample, method, level)
        return Chain(self._cache, self.file, sample, method, level, self.exclusion_mask, named)

    def _names_of(
        self, sample: Sample, method: Method, level: int
    ) -> dict[tuple[str, int], str] | None:
        """What steps are called on a sample, worked out once; None where files could change it."""
        key = (id(method), sample.content, sample.name, level)
        with self._naming:
            known = self._names.get(key)
            if known is not None and known[0] is method:
                return known[1]
            if any(files_of(use.parameters) for use in method.steps) or any(
                outline.source == "label_image" for outline in method.outlines
            ):
                return None
            named: dict[tuple[str, int], str] = {}
            self._names[key] = method, named
            return named

    def signal_key(self, sample: Sample, channel: str, method: Method) -> tuple[Any, ...]:
        """Name the corrected plane: pixels by checksum, and the steps so far."""
        return ("signal", *self.chain(sample, method).key(channel, len(method.steps)))

    def prepared(
        self, sample: Sample, method: Method, declared: MetadataOverrides | None = None
    ) -> Sample:
        """As `reading.prepared`; derived channels are kept."""
        if sample.variant:
            return sample
        key = ("prepared", sample.content, digest(method.reading, declared or NOTHING_DECLARED))
        made = self._cache.get(
            key,
            lambda: prepared(sample, method.reading, declared, self._cache.get),
            lambda s: s.nbytes,
        )
        return made.renamed(sample.name)

    def histogram(self, sample: Sample, channel: str, method: Method | None) -> Histogram:
        """Return the full histogram of the signal, or of the native values for no method."""
        if method is None or self._is_native(sample, channel, method):
            key: tuple[str, ...] = ("native histogram", sample.content, channel)
            return self._cache.get(
                key, lambda: histogram_of(sample.channels[channel]), lambda h: h.nbytes
            )
        return self._cache.get(
            ("histogram", *self.signal_key(sample, channel, method)),
            lambda: histogram_of(self.signal(sample, channel, method)),
            lambda h: h.nbytes,
        )

    @staticmethod
    def _is_native(sample: Sample, channel: str, method: Method) -> bool:
        """Whether the signal is what is in the file, so that it needs no copy of its own."""
        return not method.steps_for(sample.name, channel)

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
        for index, use in chain.uses(channel_of(sample, channel)):
            if use.id == step_id:
                return dict(chain.after(channel, index + 1).numbers)
        return {}

    def step_reports(
        self, sample: Sample, method: Method, channels: Iterable[str]
    ) -> dict[str, dict[str, dict[str, float]]]:
        """Return what the steps told of the channels they act on: step → channel → numbers."""
        known = list(channels)
        return {
            use.id: {
                name: self.step_numbers(sample, name, method, use.id)
                for name in known
                if use.applies_to(name)
            }
            for use in method.steps
            if use.on
        }

    def followed(self, sample: Sample, channel: str, method: Method) -> Plane:
        """Return the native plane with its pixels moved as the steps move those of the signal."""
        chain = self.chain(sample, method)
        channel = channel_of(sample, channel)
        moving = [
            (index, use, how)
            for index, use in chain.uses(channel)
            if (how := STEPS[use.step].transform) is not None
        ]
        if not moving:
            return sample.channels[channel]

        def make() -> Plane:
            plane = sample.channels[channel]
            for index, use, how in moving:
                before = chain.after(channel, index).plane
                moved = how(before, use.parameters, chain.context(channel, index))
                plane = moved.applied(plane)
            return plane

        key = ("followed", *chain.key(channel, moving[-1][0] + 1))
        return self._cache.get(key, make, lambda plane: plane.pixels.nbytes)

    def checksum(self, parts: Sequence[Part], sample: Sample) -> str:
        """Return the checksum of a sample's files, once for as long as they stay as they are."""
        key = ("checksum", sample.identity)
        return self._cache.get(key, lambda: parts_checksum(parts), bytes_of_little)

    def exclusion_mask(self, sample: Sample, method: Method, region_class: str) -> ExclusionMask:
        """Return what a background leaves out; regions are found by `Evaluator` alone."""
        raise StepError(
            f"Regions of “{region_class}” are not found here; evaluate the method of "
            f"“{sample.name}” as a whole ({len(method.outlines)} classes)."
        )

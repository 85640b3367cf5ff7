"""The steps of a method on one sample, each evaluated when it is needed and kept.

A plane is named by what it depends on: the pixels, the steps so far with their parameters, and
the state of the files they use. At a coarse level the same steps run on a shrunken picture with
their lengths shrunken, to show quickly about what the exact result will be.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import FileError, StepError
from rilievo.core.files import sample_name
from rilievo.core.files.channel_preparation import prepared
from rilievo.core.files.reader import file_identity
from rilievo.core.image.calibration_frames import (
    Frames,
    FramesMissing,
    ImageFile,
    check_fits,
    combined,
    frame_channel,
)
from rilievo.core.image.image import Plane, Sample
from rilievo.core.image.pyramid import halved
from rilievo.core.method.method import Method, StepUse, digest
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.node import Key, Node
from rilievo.core.progress import checkpoint
from rilievo.core.signal.steps import STEPS, StepContext, StepParameters
from rilievo.core.signal.steps.background import (
    BackgroundParameters,
    OutsideRegions,
    with_background,
)
from rilievo.core.signal.steps.step import Step


@dataclass(frozen=True, eq=False)
class Applied:
    """A plane after a step. numbers : what the step told. undefined : pixels without a value."""

    plane: Plane
    numbers: dict[str, float]
    undefined: int


def _bytes_of(applied: Applied) -> int:
    return applied.plane.pixels.nbytes


def channel_of(sample: Sample, name: str | None) -> str:
    """Return a channel name of the sample; None means the first. Raises StepError."""
    if name is None:
        return sample.channel_names[0]
    if name not in sample.channels:
        raise StepError(
            f"Sample “{sample.name}” has no channel “{name}”, only "
            f"{', '.join(sample.channel_names)}; choose one of these or leave the sample out."
        )
    return name


def _counted(plane: Plane, numbers: dict[str, float]) -> Applied:
    """Make infinities undefined, and count what is."""
    pixels = plane.pixels
    if pixels.dtype.kind != "f":
        return Applied(plane, numbers, 0)
    undefined = pixels.size - int(np.count_nonzero(np.isfinite(pixels)))
    if undefined and np.isinf(pixels).any():
        plane = replace(plane, pixels=np.where(np.isinf(pixels), np.nan, pixels))
    return Applied(plane, numbers, undefined)


class RegionMask(Protocol):
    """Regions that a step needs: to leave them out, or to look at them alone."""

    @property
    def key(self) -> Key:
        """All that they depend on."""

    def mask(self, rim: float) -> NDArray[np.bool_]:
        """Return their pixels with a rim around them."""


class Chain:
    """The steps of a method on one sample.

    Parameters
    ----------
    cache : AnalysisCache
    sample : Sample
        As the method reads it.
    method : Method
    level : int
        How often the picture is halved.
    regions : callable, optional
        Gives the regions of a class that a step needs, found by a method without such steps.
    """

    def __init__(
        self,
        cache: AnalysisCache,
        sample: Sample,
        method: Method,
        level: int = 0,
        regions: Callable[[str], RegionMask] | None = None,
    ) -> None:
        self.sample, self.method, self.level = sample, method, level
        self._cache, self._regions = cache, regions
        self._uses: dict[str, list[tuple[int, StepUse]]] = {}
        self._named = cache.step_names(sample, method, level)

    # -- which steps

    def uses(self, channel: str) -> list[tuple[int, StepUse]]:
        """Return the steps that act on a channel, with their indices in the method."""
        if channel not in self._uses:
            acting = {use.id: use for use in self.method.steps_for(self.sample.name, channel)}
            self._uses[channel] = [
                (index, acting[use.id])
                for index, use in enumerate(self.method.steps)
                if use.id in acting
            ]
        return self._uses[channel]

    def before(self, channel: str, index: int) -> list[tuple[int, StepUse]]:
        """Return the steps that act on a channel before an index in the method."""
        return [(p, use) for p, use in self.uses(channel) if p < index]

    def moved_before(self, channel: str, index: int) -> int:
        """Return the index after the last step before `index` that moves pixels; 0 for none."""
        moving = [
            p + 1 for p, use in self.before(channel, index) if STEPS[use.step].transform is not None
        ]
        return max(moving, default=0)

    # -- names

    def node(self, channel: str, index: int) -> Node[Applied]:
        """Return the plane of a channel after the steps before an index in the method.

        index : 0 is the native plane, len(method.steps) the signal.
        """
        names = [self._name(channel, p, use) for p, use in self.before(channel, index)]
        return Node(
            self._cache,
            "plane",
            lambda: self._compute(channel, index),
            self.sample.content,
            channel,
            self.level,
            *names,
            size=_bytes_of,
        )

    def _name(self, channel: str, index: int, use: StepUse) -> str:
        if (channel, index) not in self._named:
            parts: list[Any] = [use.step, use.parameters]
            for file in files_of(use.parameters):
                parts.append(_state(file))
            for name in use.parameters.channels_read():
                if name in self.sample.channels and name != channel:
                    parts.append([str(part) for part in self.node(name, index).key])
            if outside := self._needed(use.parameters):
                parts += [str(part) for part in outside.key]
            for name in type(use.parameters).model_fields:
                reference = getattr(use.parameters, name)
                if isinstance(reference, ImageFile):
                    parts += self._name_of_reference(reference, index)
            self._named[channel, index] = digest(*parts)
        return self._named[channel, index]

    def _name_of_reference(self, reference: ImageFile, index: int) -> list[Any]:
        """What another sample depends on: all steps before, their files, its exceptions."""
        earlier = self.method.steps[:index]
        exception = self.method.exception_for(sample_name(Path(reference.file)))
        states = [_state(file) for use in earlier for file in files_of(use.parameters)]
        return [self.method.reading, *earlier, states, exception]

    # -- planes

    def after(self, channel: str, index: int) -> Applied:
        """Return what `node` computes."""
        return self.node(channel, index).get()

    def _compute(self, channel: str, index: int) -> Applied:
        steps = self.before(channel, index)
        if self.level:
            # What moves pixels is done at full size, and shrunken afterwards.
            first = self.moved_before(channel, index)
            steps = [(p, use) for p, use in steps if p >= first]
            if not steps:
                return self._shrunken(channel, first)
        elif not steps:
            native = self.sample.channels[channel_of(self.sample, channel)]
            return _counted(native.with_pixels(native.as_float(), native.lattice), {})
        return self._run(channel, *steps[-1])

    def exact(self) -> Chain:
        """Return the same chain at full size."""
        if not self.level:
            return self
        return Chain(self._cache, self.sample, self.method, 0, self._regions)

    def _shrunken(self, channel: str, index: int) -> Applied:
        """The exact plane at an index, halved."""
        exact, channel = self.exact(), channel_of(self.sample, channel)
        full = exact.after(channel, index).plane if index else self.sample.channels[channel]
        return _counted(shrunken(full, self.level), {})

    def _run(self, channel: str, index: int, use: StepUse) -> Applied:
        checkpoint()
        start = self.after(channel, index)
        step = STEPS[use.step]
        parameters = use.parameters.shrunk(2.0**self.level) if self.level else use.parameters
        context = self.context(channel, index)
        if step.estimate is not None and isinstance(parameters, BackgroundParameters):
            field, numbers = self.estimate(channel, index, use, step)
            context.record(**numbers)
            plane = with_background(start.plane, field, parameters, context)
        else:
            if regions := self._needed(parameters):
                context = replace(context, inside=self._mask(start.plane, regions, 0.0))
            plane = step.apply(start.plane, parameters, context)
            error = step.error_after(parameters, start.plane.level_error)
            if step.transform is None and plane.level_error != error:
                plane = replace(plane, level_error=error)
        if step.transform is None and plane.curve_error is start.plane.curve_error:
            # It is of values as they were calibrated.
            plane = replace(plane, curve_error=None)
        made = _counted(plane, context.numbers)
        if step.transform is None:
            made.numbers["undefined"] = float(made.undefined - start.undefined)
        return made

    def estimate(
        self, channel: str, index: int, use: StepUse, step: Step
    ) -> tuple[Any, dict[str, float]]:
        """Return the background that a step estimates, as it is before it is altered by hand."""
        how = step.estimate
        if how is None or not isinstance(use.parameters, BackgroundParameters):
            raise ValueError(f"The step {use.step} takes no background off.")
        plain = use.parameters.as_estimated
        parameters = plain.shrunk(2.0**self.level) if self.level else plain
        states = [_state(file) for file in files_of(plain)]
        outside = self._needed(plain)

        def compute() -> tuple[Any, dict[str, float]]:
            context = self.context(channel, index)
            plane = self.after(channel, index).plane
            if outside is not None and isinstance(plain, OutsideRegions):
                plane = self._without(plane, outside, plain.rim)
            return how(plane, parameters, context), context.numbers

        return Node(
            self._cache,
            "estimate",
            compute,
            self.node(channel, index),
            use.step,
            digest(plain, states),
            outside.key if outside is not None else None,
            size=lambda made: 0 if made[0].strides == (0, 0) else made[0].nbytes,
        ).get()

    def _needed(self, parameters: StepParameters) -> RegionMask | None:
        """The regions that a step needs, if it does."""
        name = parameters.regions_read()
        if not name:
            return None
        if self._regions is None:
            raise StepError("Nothing is known here of regions; evaluate the step within a method.")
        return self._regions(name)

    def _without(self, plane: Plane, outside: RegionMask, rim: float) -> Plane:
        """A plane with the pixels of regions, and a rim around them, undefined."""
        values = plane.as_float()
        left = np.where(self._mask(plane, outside, rim), values.dtype.type(np.nan), values)
        return plane.with_pixels(left, None)

    def _mask(self, plane: Plane, regions: RegionMask, rim: float) -> NDArray[np.bool_]:
        """The pixels of regions, and of a rim around them, in the size of a plane."""
        mask = regions.mask(rim)
        if not self.level and mask.shape != plane.shape:
            raise StepError(
                "Pixels are moved after a step that needs regions; put that step after those."
            )
        # A coarse pixel is inside where the region's pixel at its middle is.
        rows, columns = (
            ((np.arange(small) + 0.5) * large / small).astype(np.intp)
            for small, large in zip(plane.shape, mask.shape, strict=True)
        )
        return np.asarray(mask[np.ix_(rows, columns)])

    def context(self, channel: str, index: int) -> StepContext:
        """Return what the step at an index may know."""
        return StepContext(
            self.sample.name,
            channel,
            sources=_ChainSources(self, channel, index),
            exposure=_seconds(self.sample),
            channels=self.sample.channel_names,
        )

    # -- other files

    def read(self, file: ImageFile) -> Sample:
        """Return an image as the method reads it."""
        sample, reading = self._cache.file(Path(file.file), file.image), self.method.reading
        return Node(
            self._cache,
            "frame",
            lambda: prepared(sample, reading),
            sample.content,
            reading.model_dump_json(),
            size=lambda made: made.nbytes,
        ).get()

    def frames(self, frames: Frames, role: str, like: Plane, channel: str) -> Plane:
        """Return frames averaged into one plane, shrunken as the picture is."""
        if not frames.files:
            raise FramesMissing(
                f"The step has no {role} yet; choose one or more files, or switch the step off."
            )
        full = like if not self.level else self._size_of(channel, like)

        def compute() -> Plane:
            planes = []
            for file in frames.files:
                checkpoint()
                name = Path(file.file).name
                sample = self.read(file)
                plane = frame_channel(dict(sample.channels), channel, file=name, role=role)
                check_fits(plane, full, file=name, role=role, sample=self.sample.name)
                planes.append(plane)
            pixels = combined([plane.as_float() for plane in planes], frames.combine)
            return shrunken(planes[0].with_pixels(pixels, None), self.level)

        made = Node(
            self._cache,
            "frames",
            compute,
            tuple(_state(file) for file in frames.files),
            channel,
            frames.combine,
            self.level,
            self.method.reading.model_dump_json(),
            size=lambda plane: plane.pixels.nbytes,
        ).get()
        check_fits(
            made, like, file=Path(frames.files[0].file).name, role=role, sample=self.sample.name
        )
        return made

    def _size_of(self, channel: str, like: Plane) -> Plane:
        """A plane with the full size of one that is shrunken."""
        index = self.moved_before(channel, len(self.method.steps))
        full = self.exact().after(channel, index).plane if index else self.sample.channels[channel]
        return replace(like, pixels=np.broadcast_to(np.float32(0), full.shape), clipped=None)

    def reference(self, reference: ImageFile, channel: str, index: int) -> Plane:
        """Return a channel of another file after the steps before an index."""
        read = self.read(reference)
        other = read.renamed(sample_name(Path(reference.file)))
        chain = Chain(self._cache, other, self.method, self.level)
        name = channel if channel in other.channels else channel_of(other, None)
        if len(other.channels) > 1:
            name = channel_of(other, channel)
        return chain.after(name, index).plane


@dataclass(frozen=True)
class _ChainSources:
    """What a step of a chain finds outside of its own plane."""

    chain: Chain
    name: str
    index: int

    def channel(self, name: str) -> Plane:
        return self.chain.after(channel_of(self.chain.sample, name), self.index).plane

    def frames(self, frames: Frames, role: str, like: Plane) -> Plane:
        return self.chain.frames(frames, role, like, self.name)

    def exposure(self, frames: Frames, role: str) -> float:
        stated = {_seconds(self.chain.read(file)) for file in frames.files}
        first = stated.pop() if len(stated) == 1 else None
        if not first:
            raise StepError(
                f"The {role} states no exposure, or several; choose files of one stated exposure, "
                "or use the factor 1."
            )
        return first

    def reference(self, reference: ImageFile | None, role: str) -> Plane:
        if reference is None:
            raise FramesMissing(f"The step has no {role} yet; choose a file.")
        return self.chain.reference(reference, self.name, self.index)


def shrunken(plane: Plane, level: int) -> Plane:
    """Return a plane halved so many times, with what its pixels mean."""
    if not level:
        return plane
    values = plane.as_float()
    for _ in range(level):
        if min(values.shape) >= 2:
            values = halved(values)
    calibration = plane.calibration.scaled(2.0**level)
    return replace(
        plane, pixels=values, lattice=None, clipped=None, saturation=None, calibration=calibration
    )


def files_of(parameters: Any) -> list[ImageFile]:
    """Return all image files that parameters name."""
    files = []
    for name in type(parameters).model_fields:
        value = getattr(parameters, name)
        if isinstance(value, ImageFile):
            files.append(value)
        elif isinstance(value, Frames):
            files += value.files
    return files


def _state(file: ImageFile) -> str:
    """Name a file's present state; one that is gone has a name too."""
    try:
        return file_identity(Path(file.file), file.image)
    except FileError:
        return f"{file.file} is missing"


def _seconds(sample: Sample) -> float | None:
    """The exposure that a sample states, in seconds."""
    text = sample.attributes.get("exposure", "").split()
    try:
        value = float(text[0]) if text else 0.0
    except ValueError:
        return None
    return value if value > 0 else None

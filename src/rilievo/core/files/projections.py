"""What is made of many planes of a stack: largest value, mean, sum, median, spread, sharpest."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.files.reader_helpers import available_memory
from rilievo.core.image.image import Lattice, Pixels, Plane, Sample
from rilievo.core.image.stack import (
    PROJECTIONS,
    SECONDS_COLUMN,
    Frame,
    Projection,
    depth_column,
)
from rilievo.core.progress import checkpoint

Read = Callable[[Frame], Sample]
_ROWS_BYTES = 256_000_000


def projected(frame: Frame, how: Projection, read: Read) -> Sample:
    """Return a sample whose channels are made of the planes of a frame, channel by channel.

    The planes are read one after another, those of a median a part of the rows at a time where
    they are many. Undefined pixels are left out; a sum is undefined where one of its planes is.
    A pixel counts as saturated where it is in any of the planes.
    Source of the focus measure (mean square of the Sobel gradient of the first channel): Krotkov
    1987, International Journal of Computer Vision 1, 223–237.
    read : gives a single plane. Raises what it raises.
    """
    planes = frame.planes()
    if how == "sharpest":
        return _sharpest(planes, read)
    first = read(planes[0])
    channels = (
        _medians(planes, read, first) if how == "median" else _reduced(planes, read, first, how)
    )
    text = f"{PROJECTIONS[how].capitalize()} of {len(planes)} planes along "
    depth = depth_column(first.attributes)
    of_axis = ("z", depth and depth[0]) if frame.along == "z" else ("time", SECONDS_COLUMN)
    attributes = {k: v for k, v in first.attributes.items() if k not in of_axis}
    attributes["projection"] = f"{how} of {frame.along}"
    return replace(
        first,
        channels=channels,
        attributes=attributes,
        notes=(*first.notes, f"{text}{frame.along}, {frame.text}."),
    )


def _sharpest(planes: Sequence[Frame], read: Read) -> Sample:
    sharpest, place = read(planes[0]), planes[0]
    best = focus_measure(sharpest.first.as_float())
    for frame in planes[1:]:
        checkpoint()
        sample = read(frame)
        sharpness = focus_measure(sample.first.as_float())
        if sharpness > best:
            best, sharpest, place = sharpness, sample, frame
    note = (
        f"The sharpest of {len(planes)} planes is {place.text} (mean squared gradient {best:.4g})."
    )
    return replace(sharpest, notes=(*sharpest.notes, note))


def focus_measure(values: NDArray[Any]) -> float:
    """Return the mean square of the Sobel gradient; −inf where nothing is defined.

    values : shape (height, width); gradients that meet an undefined pixel are left out.
    """
    from scipy.ndimage import sobel  # noqa: PLC0415 (slow to import)

    exact = values.astype(np.float64, copy=False)
    gradient = sobel(exact, axis=0) ** 2 + sobel(exact, axis=1) ** 2
    defined = np.isfinite(gradient)
    return float(gradient[defined].mean()) if defined.any() else -math.inf


def _reduced(
    planes: Sequence[Frame], read: Read, first: Sample, how: Projection
) -> dict[str, Plane]:
    """Projections for which one plane after another is enough."""
    running = {name: _Running(plane, how) for name, plane in first.channels.items()}
    for frame in planes:
        checkpoint()
        sample = first if frame is planes[0] else read(frame)
        for name, sums in running.items():
            sums.take(sample.channels[name])
    return {name: sums.plane() for name, sums in running.items()}


class _Running:
    """What is known of a channel after some planes. Mean and spread by Welford's recurrence.

    Source: Welford 1962, Technometrics 4, 419–420.
    """

    def __init__(self, plane: Plane, how: Projection) -> None:
        self._like, self._how = plane, how
        self._clipped = np.zeros(plane.shape, np.bool_)
        self._any_clipped = False
        self._largest: Pixels | None = None
        if how != "max":
            self._count = np.zeros(plane.shape, np.int32)
            self._mean = np.zeros(plane.shape)
            self._squares = np.zeros(plane.shape) if how == "sd" else None
            self._taken = 0

    def take(self, plane: Plane) -> None:
        """Go on by a plane."""
        saturated = plane.saturated()
        if saturated is not None:
            self._clipped |= saturated
            self._any_clipped = True
        if self._how == "max":
            pixels = plane.pixels
            self._largest = pixels if self._largest is None else np.fmax(self._largest, pixels)
            return
        self._taken += 1
        values = plane.as_float().astype(np.float64)
        defined = np.isfinite(values)
        self._count += defined
        if self._how == "sum":
            # A sum of some planes is no sum of all: it stays undefined.
            self._mean += values
            return
        away = np.where(defined, values - self._mean, 0.0)
        self._mean += away / np.maximum(self._count, 1)
        if self._squares is not None:
            self._squares += away * np.where(defined, values - self._mean, 0.0)

    def plane(self) -> Plane:
        """The plane that was made."""
        like, clipped = self._like, self._clipped if self._any_clipped else None
        if self._largest is not None:
            return replace(like, pixels=self._largest, clipped=clipped)
        values = self._mean
        if self._squares is not None:
            few = self._count < 2
            values = np.where(few, np.nan, np.sqrt(self._squares / np.maximum(self._count - 1, 1)))
        elif self._how == "mean":
            values = np.where(self._count == 0, np.nan, values)
        lattice = like.lattice
        if self._how == "sum" and lattice is not None:
            lattice = Lattice(lattice.origin * self._taken, lattice.spacing)
        else:
            lattice = None
        return _made(like, values, clipped, lattice)


def _medians(planes: Sequence[Frame], read: Read, first: Sample) -> dict[str, Plane]:
    """Medians over planes, of as many rows at a time as there is room for."""
    height, width = first.first.shape
    room = min(_ROWS_BYTES, available_memory() // 4)
    rows = max(1, min(height, int(room // (8 * len(planes) * width * len(first.channels)))))
    values = {name: np.empty(plane.shape) for name, plane in first.channels.items()}
    clipped: dict[str, NDArray[np.bool_]] = {}
    for top in range(0, height, rows):
        part = slice(top, min(top + rows, height))
        stacks: dict[str, list[NDArray[Any]]] = {name: [] for name in values}
        for frame in planes:
            checkpoint()
            sample = read(frame)
            for name, stack in stacks.items():
                plane = sample.channels[name]
                stack.append(plane.as_float()[part].astype(np.float64))
                saturated = plane.saturated()
                if saturated is not None:
                    mask = clipped.setdefault(name, np.zeros(plane.shape, np.bool_))
                    mask[part] |= saturated[part]
        for name, stack in stacks.items():
            values[name][part] = _median(np.stack(stack))
    return {
        name: _made(plane, values[name], clipped.get(name), None)
        for name, plane in first.channels.items()
    }


def _median(stack: NDArray[np.float64]) -> NDArray[np.float64]:
    """The median over the first axis of what is defined."""
    ordered = np.sort(stack, axis=0)  # NaN goes to the end
    count = np.isfinite(stack).sum(axis=0)
    low, high = np.maximum(count - 1, 0) // 2, count // 2
    low, high = (np.take_along_axis(ordered, np.minimum(k, len(stack) - 1)[None], 0)[0]
                 for k in (low, high))  # fmt: skip
    return np.where(count == 0, np.nan, (low + high) / 2)


def _made(
    like: Plane,
    values: NDArray[np.float64],
    clipped: NDArray[np.bool_] | None,
    lattice: Lattice | None,
) -> Plane:
    """A plane of derived values: levels of single planes do not hold for them."""
    return replace(
        like,
        pixels=values,
        saturation=None,
        empty=None,
        type_range=None,
        lattice=lattice,
        clipped=clipped,
    )

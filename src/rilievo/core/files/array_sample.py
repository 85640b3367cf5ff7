"""A sample made of an array whose axes have letters, for formats that are no more than arrays."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import UnsupportedKind
from rilievo.core.files.reader import sample_name
from rilievo.core.files.reader_helpers import (
    check_size,
    colour_channels,
    native_order,
    planes_with_gaps,
    unique_names,
)
from rilievo.core.files.stack_axes import layout_of, left, selection
from rilievo.core.image.image import Calibration, Plane, Sample, plane_from_native
from rilievo.core.image.metadata import MetadataNode
from rilievo.core.image.stack import Frame, StackLayout

Absent = Callable[[tuple[int | slice, ...]], NDArray[np.bool_] | None]
_WORDS = {"z": "z", "t": "time", "c": "channel"}


@dataclass(frozen=True, kw_only=True)
class ArrayFacts:
    """What a file says of an array beside its values.

    layout : what is known of depth and time. bits : the depth of a camera in wider numbers.
    channel_names : along c, where they are known. absent : which values of what is taken are not
    in the file, in its shape; None for none.
    """

    calibration: Calibration = field(default_factory=Calibration)
    layout: StackLayout | None = None
    bits: int | None = None
    channel_names: Sequence[str] = ()
    metadata: tuple[MetadataNode, ...] = ()
    images: Sequence[str] = ()
    notes: Sequence[str] = ()
    absent: Absent = lambda _taken: None


def sample_of_array(
    path: Path,
    values: Any,
    axes: str,
    frame: Frame | None,
    facts: ArrayFacts,
) -> Sample:
    """Return the sample of an array, or of one plane of it in depth and time.

    values : what has `shape`, `dtype` and gives what is asked of it by index; only that is read.
    axes : a letter each, see `stack_axes`. Raises UnsupportedKind, TooLarge, FileEmpty.
    """
    shape, dtype = tuple(int(n) for n in values.shape), np.dtype(values.dtype)
    if dtype.kind not in "biuf" or "y" not in axes or "x" not in axes:
        raise UnsupportedKind(
            path, f"holds {dtype} numbers of {len(shape)} axes", "save two or more axes of numbers"
        )
    taken: tuple[int | slice, ...] = (slice(None),) * len(shape)
    if frame is not None:
        taken = selection(path, axes, shape, frame)
    rest = left(axes, taken)
    sides = tuple(n for n, place in zip(shape, taken, strict=True) if isinstance(place, slice))
    check_size(path, sides, dtype.itemsize)
    pixels, gaps = np.asarray(values[taken]), facts.absent(taken)
    if pixels.dtype == np.float16:
        pixels = pixels.astype(np.float32)
    inner = "yxs" if "s" in rest else "yx"
    outer = "".join(axis for axis in rest if axis not in inner)
    order = [rest.index(axis) for axis in outer + inner]
    pixels = pixels.transpose(order)
    lengths = pixels.shape[: len(outer)]
    names = unique_names(_labels(outer, lengths, facts.channel_names))
    channels: dict[str, Plane] = {}
    missing: dict[str, NDArray[np.bool_]] = {}
    lost = None
    if gaps is not None:
        lost = gaps.transpose(order).reshape(-1, *pixels.shape[len(outer) :])
    flat = pixels.reshape(-1, *pixels.shape[len(outer) :])
    for k, (name, plane) in enumerate(zip(names, flat, strict=True)):
        if inner == "yx":
            made = {name: plane_from_native(native_order(plane), facts.calibration, facts.bits)}
        else:
            prefix = "" if name == "gray" else f"{name} "
            colours = colour_channels(plane, facts.calibration, facts.bits)
            made = {prefix + colour: one for colour, one in colours.items()}
        channels |= made
        if lost is not None and lost[k].any():
            mask = lost[k].any(axis=-1) if inner == "yxs" else lost[k]
            missing |= dict.fromkeys(made, mask)
    channels, defects = planes_with_gaps(path, channels, missing, "blocks that are not in the file")
    layout = layout_of(axes, shape, facts.layout)
    return Sample(
        sample_name(path),
        channels,
        notes=facts.notes,
        metadata=facts.metadata,
        images=facts.images,
        attributes=layout.attributes(frame) if frame else {},
        defects=tuple(defects),
    )


def _labels(axes: str, lengths: Sequence[int], channel_names: Sequence[str]) -> list[str]:
    words = []
    for axis, length in zip(axes, lengths, strict=True):
        if axis == "c" and len(channel_names) == length:
            words.append(list(channel_names))
        elif length == 1:
            words.append([""])
        else:
            words.append([f"{_WORDS.get(axis, 'page')} {i + 1}" for i in range(length)])
    return [
        " ".join(w for w in words_of_axes if w) or "gray"
        for words_of_axes in itertools.product(*words)
    ]

"""NumPy arrays (`.npy`).

Two axes are a plane; of three, the first counts planes, or the last counts three or four colours.
"""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from rilievo.core.errors import NotAnImage, UnsupportedKind
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.files.reader_helpers import (
    check_size,
    chosen_image,
    colour_channels,
    damaged,
    native_order,
    truncated,
)
from rilievo.core.files.stack_axes import selection
from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.image.stack import Frame, StackLayout

MAGIC = b"\x93NUMPY"


def npy_layout(path: Path, image: int = 0) -> StackLayout:
    """Return how many planes an array of three axes has, of unknown meaning."""
    chosen_image(path, 1, image)
    with path.open("rb") as file:
        shape, _, _ = _header(path, file)
    planes = shape[0] if len(shape) == 3 and not _is_colour(shape) else 1
    return StackLayout(pages=planes)


def _is_colour(shape: tuple[int, ...]) -> bool:
    return shape[2] in (3, 4) and min(shape[:2]) > 4


def read_npy(path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
    """Read an array; nothing in the file is ever run. frame : the one plane that is kept."""
    chosen_image(path, 1, image)
    # Never mapped: the file may be cut while it is in use.
    with path.open("rb") as file:
        shape, by_column, dtype = _header(path, file)
        if dtype.hasobject:
            raise UnsupportedKind(
                path, "holds Python objects and no numbers", "save the numbers alone"
            )
        if len(shape) not in (2, 3) or dtype.kind not in "biuf":
            raise UnsupportedKind(
                path,
                f"holds {dtype} numbers in {len(shape)} dimensions",
                "save two or three dimensions of integers or floats",
            )
        check_size(path, shape, dtype.itemsize)
        count = math.prod(shape)
        flat = np.fromfile(file, dtype, count)
        beyond = len(file.read(1)) > 0
    if flat.size < count:
        raise truncated(path)
    defects = (damaged(path, "it is longer than its array"),) if beyond else ()
    values = native_order(flat.reshape(shape, order="F" if by_column else "C"))
    if values.dtype == np.float16:
        values = values.astype(np.float32)
    if values.ndim == 2:
        channels = {"gray": plane_from_native(values)}
    elif frame is not None:
        place = selection(path, "?yx", values.shape, frame)
        channels = {"gray": plane_from_native(native_order(values[place]))}
    elif _is_colour(values.shape):
        channels = colour_channels(values)
    else:
        channels = {
            f"plane {i + 1}": plane_from_native(native_order(v)) for i, v in enumerate(values)
        }
    attributes = StackLayout().attributes(frame) if frame else {}
    return Sample(sample_name(path), channels, defects=defects, attributes=attributes)


def _header(path: Path, file: BinaryIO) -> tuple[tuple[int, ...], bool, np.dtype[Any]]:
    """Shape, whether the first index runs fastest, and number type."""
    try:
        version = np.lib.format.read_magic(file)
        if version == (1, 0):
            return np.lib.format.read_array_header_1_0(file)
        return np.lib.format.read_array_header_2_0(file)
    except ValueError as exc:
        if "EOF" in str(exc):
            raise truncated(path) from exc
        raise NotAnImage(path, "is a damaged NumPy file", "save it again from its source") from exc


READERS.add(
    "npy",
    Reader(
        "npy",
        "NumPy array",
        (".npy",),
        lambda head: head.startswith(MAGIC),
        read_npy,
        layout=npy_layout,
        read_plane=read_npy,
    ),
    order=20,
)

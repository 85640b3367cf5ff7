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
from rilievo.core.image.image import Sample, plane_from_native

MAGIC = b"\x93NUMPY"


def read_npy(path: Path, image: int = 0) -> Sample:
    """Read an array; nothing in the file is ever run."""
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
    elif values.shape[2] in (3, 4) and min(values.shape[:2]) > 4:
        channels = colour_channels(values)
    else:
        channels = {
            f"plane {i + 1}": plane_from_native(native_order(v)) for i, v in enumerate(values)
        }
    return Sample(sample_name(path), channels, defects=defects)


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
    Reader("npy", "NumPy array", (".npy",), lambda head: head.startswith(MAGIC), read_npy),
    order=20,
)

"""NumPy arrays (`.npy`).

Two axes are a plane; of three, the first counts planes, or the last counts three or four colours.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from rilievo.core.errors import NotAnImage, UnsupportedKind
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.files.reader_helpers import (
    check_size,
    chosen_image,
    colour_channels,
    native_order,
    truncated,
)
from rilievo.core.image.image import Sample, plane_from_native

MAGIC = b"\x93NUMPY"


def read_npy(path: Path, image: int = 0) -> Sample:
    """Read an array; nothing in the file is ever run."""
    chosen_image(path, 1, image)
    try:
        # Mapped first, so that size and kind are known before any pixel is read.
        mapped = np.load(path, mmap_mode="r", allow_pickle=False)
    except ValueError as exc:
        if "objects" in str(exc).lower():
            raise UnsupportedKind(
                path, "holds Python objects and no numbers", "save the numbers alone"
            ) from exc
        if "mmap length is greater" in str(exc):
            raise truncated(path) from exc
        raise NotAnImage(path, "is a damaged NumPy file", "save it again from its source") from exc
    except EOFError as exc:
        raise truncated(path) from exc
    if mapped.ndim not in (2, 3) or mapped.dtype.kind not in "biuf":
        raise UnsupportedKind(
            path,
            f"holds {mapped.dtype} numbers in {mapped.ndim} dimensions",
            "save two or three dimensions of integers or floats",
        )
    check_size(path, mapped.shape, mapped.dtype.itemsize)
    values = native_order(np.array(mapped))
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
    return Sample(sample_name(path), channels)


READERS.add(
    "npy",
    Reader("npy", "NumPy array", (".npy",), lambda head: head.startswith(MAGIC), read_npy),
    order=20,
)

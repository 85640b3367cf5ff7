"""Label images: TIFF files whose pixels are region numbers, written and read."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from numpy.typing import NDArray

from rilievo.core.atomic_write import write_bytes_safely
from rilievo.core.errors import UnsupportedKind
from rilievo.core.files.ome_writer import is_ome_name, write_ome
from rilievo.core.files.reader import read_sample
from rilievo.core.image.image import Calibration
from rilievo.core.regions.label_map import Labels
from rilievo.core.regions.region_set import CLASS_STRIDE, RegionSet


def label_numbers(regions: RegionSet) -> NDArray[Any]:
    """Return the numbers of a class's regions, shape of the picture; what was left out is 0."""
    return np.where(regions.labels > 0, regions.labels % CLASS_STRIDE, 0)


def write_label_image(
    regions: RegionSet, path: Path, name: str = "region", calibration: Calibration | None = None
) -> None:
    """Write the numbers of a class's regions as whole numbers of 16 bit, or 32 where needed.

    path : TIFF; OME-TIFF and OME-Zarr by their endings, with the class's name and the pixel size.
    Raises FileUnreadable, UnsupportedKind for a folder that is something else.
    """
    labels = label_numbers(regions)
    if is_ome_name(path):
        write_ome(path, {}, {name: labels}, calibration)
        return
    kind = np.uint16 if labels.max(initial=0) < 2**16 else np.uint32
    buffer = BytesIO()
    tifffile.imwrite(buffer, labels.astype(kind), compression="zlib")
    write_bytes_safely(path, buffer.getvalue())


def read_label_image(path: Path, shape: tuple[int, int]) -> Labels:
    """Return the labels in a file. Raises FileError for one that is not of `shape` or no labels."""
    sample = read_sample(path, checksum=False)
    labels = sample.first.pixels
    if len(sample.channels) != 1 or labels.dtype.kind not in "iu":
        raise UnsupportedKind(
            path, "holds no label image (one plane of whole numbers)", "choose another file"
        )
    if labels.shape != shape:
        raise UnsupportedKind(
            path,
            f"has {labels.shape[1]}×{labels.shape[0]} pixels, the sample {shape[1]}×{shape[0]}",
            "choose the labels of this sample",
        )
    if labels.size and (int(labels.min()) < 0 or int(labels.max()) >= CLASS_STRIDE):
        raise UnsupportedKind(path, "has numbers below 0 or above 9 999 999", "renumber the labels")
    return np.asarray(labels, np.int32)

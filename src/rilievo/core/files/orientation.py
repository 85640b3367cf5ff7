"""Pictures that say how they are to be turned (tag 274 of TIFF and EXIF) are turned when read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from rilievo.core.image.image import Pixels, Plane, Sample
from rilievo.core.image.metadata import MetadataNode

_TAG, _TABLES = "Orientation", ("EXIF", "TIFF tags of the first page")
# Where the first row and the first column of the file lie, as the tag's values 1 to 8 say.
_NAMES = (
    "TOPLEFT",
    "TOPRIGHT",
    "BOTRIGHT",
    "BOTLEFT",
    "LEFTTOP",
    "RIGHTTOP",
    "RIGHTBOT",
    "LEFTBOT",
)
_WORDS = (
    "", "mirrored", "turned by half", "mirrored upside down", "mirrored along the diagonal",
    "turned by a quarter to the right", "mirrored along the other diagonal",
    "turned by a quarter to the left",
)  # fmt: skip
_SWAPS_SIDES = 5


def orientation_in(metadata: Sequence[MetadataNode]) -> int:
    """Return the orientation that a file states, 1 to 8; 1 where it states none."""
    for table in metadata:
        if table.name not in _TABLES:
            continue
        for node in table.children:
            if node.name != _TAG:
                continue
            if node.value in _NAMES:
                return _NAMES.index(node.value) + 1
            if node.value.isdigit() and 1 <= int(node.value) <= len(_NAMES):
                return int(node.value)
    return 1


def upright(pixels: Pixels, orientation: int) -> Pixels:
    """Return pixels of shape (height, width) as they are to be seen. orientation : 1 to 8."""
    turned = pixels.T if orientation >= _SWAPS_SIDES else pixels
    if orientation in (2, 3, 6, 7):
        turned = turned[:, ::-1]
    if orientation in (3, 4, 7, 8):
        turned = turned[::-1]
    return np.ascontiguousarray(turned)


def turned_upright(sample: Sample) -> Sample:
    """Return the sample with all its channels turned as its file states, and a note of that."""
    orientation = orientation_in(sample.metadata)
    if orientation == 1:
        return sample
    channels = {name: _upright_plane(plane, orientation) for name, plane in sample.channels.items()}
    note = f"The picture is {_WORDS[orientation - 1]}, as its orientation tag says."
    return replace(sample, channels=channels, notes=(*sample.notes, note))


def _upright_plane(plane: Plane, orientation: int) -> Plane:
    calibration = plane.calibration
    return replace(
        plane,
        pixels=upright(plane.pixels, orientation),
        clipped=None if plane.clipped is None else upright(plane.clipped, orientation),
        calibration=calibration.turned() if orientation >= _SWAPS_SIDES else calibration,
    )

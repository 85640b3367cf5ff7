"""Marks of single regions: what must be known of the numbers of one region, not of its channel."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import UNMOVED, Placement, placed
from rilievo.core.measure import RegionValues
from rilievo.core.regions import RegionSet
from rilievo.core.regions.drawn_shapes import DrawnRegion, singles
from rilievo.core.signal.masks import grown_by_square

# Fewer pixels than this give a spread or a percentile that means little.
FEW_PIXELS = 10

REGION_MARKS = {
    "saturated inside": "pixels of the region are at or above the saturation level",
    "touches the edge": "the region reaches the border of the picture, so part may be missing",
    "few pixels": f"fewer than {FEW_PIXELS} pixels were measured",
    "undefined inside": "pixels of the region have no value and were left out",
    "partly outside": "the shape that was drawn reaches beyond the picture",
    "in several parts": "the region has parts that do not touch; perimeter and hull are of all",
    "beside undefined": "a pixel beside the region has no value, so part may be missing",
}

Flags = NDArray[np.uint8]


def flag(mark: str) -> int:
    """Return the bit that stands for a mark."""
    return 1 << list(REGION_MARKS).index(mark)


def marks_in(flags: int) -> tuple[str, ...]:
    """Return the marks that the bits stand for."""
    return tuple(mark for k, mark in enumerate(REGION_MARKS) if flags >> k & 1)


def flags_of(values: RegionValues, regions: RegionSet, outside: NDArray[np.bool_]) -> Flags:
    """Return the marks of regions on one channel as bits, shape (n,).

    outside : which regions were drawn beyond the picture.
    """
    height, width = regions.labels.shape
    x, y, wide, high = regions.boxes.T if regions.count else np.zeros((4, 0), np.int64)
    marked = {
        "saturated inside": values.count_of("saturated") > 0,
        "touches the edge": (x == 0) | (y == 0) | (x + wide == width) | (y + high == height),
        "few pixels": values.n < FEW_PIXELS,
        "undefined inside": values.count_of("undefined") > 0,
        "partly outside": outside,
        "in several parts": values.index.parts > 1,
        "beside undefined": _beside_undefined(values, regions),
    }
    flags = np.zeros(regions.count, np.uint8)
    for mark, regions_marked in marked.items():
        flags[regions_marked] |= flag(mark)
    return flags


def _beside_undefined(values: RegionValues, regions: RegionSet) -> NDArray[np.bool_]:
    """Which regions have an undefined pixel of no region among the eight around one of theirs."""
    undefined = np.zeros(regions.labels.shape, np.bool_)
    for plane in (values.signal, values.native_plane):
        if plane.pixels.dtype.kind == "f":
            undefined |= ~np.isfinite(plane.pixels)
    undefined &= regions.labels <= 0
    if not undefined.any():
        return np.zeros(regions.count, np.bool_)
    beside = grown_by_square(undefined, 1)
    return np.isin(regions.ids, np.unique(regions.labels[beside]))


def drawn_outside(
    regions: RegionSet, drawn: Sequence[DrawnRegion], sample: str, placement: Placement
) -> NDArray[np.bool_]:
    """Return which regions were drawn beyond the picture, in the order of their numbers."""
    result = np.zeros(regions.count, np.bool_)
    height, width = regions.labels.shape
    beyond = set()
    for single in singles(drawn, sample):
        left, top, right, bottom = single.shape.box()
        at = placement if single.frame == "file" else UNMOVED
        corners = [placed(at, x, y) for x in (left, right) for y in (top, bottom)]
        inside = all(-0.5 <= x <= width - 0.5 and -0.5 <= y <= height - 0.5 for x, y in corners)
        if not inside:
            beyond.add((single.index, single.cell))
    for k, region in enumerate(regions.ids.tolist()):
        result[k] = regions.facts(region).drawn in beyond
    return result

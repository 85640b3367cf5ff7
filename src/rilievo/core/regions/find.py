"""From a signal plane and a threshold to numbered regions.

The order is fixed: threshold, fill holes, connect, keep by area, number, reject by hand.
Numbers are given in row order of each region's first pixel, before rejection by hand, so that
rejecting one region does not rename the others.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

Labels = NDArray[np.int32]
Mask = NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class RegionSet:
    """Regions of one sample.

    labels : shape (height, width), int32; 0 is outside, other numbers name regions.
    ids : the region numbers, ascending; gaps are regions rejected by hand.
    boxes : shape (n, 4), x, y, width, height in pixels, in the order of `ids`.
    areas : pixels per region, in the order of `ids`.
    centres : shape (n, 2), centroid x, y, in the order of `ids`.
    threshold : the level that was applied, signal units.
    dropped : regions left out by area; rejected : regions left out by hand.
    """

    labels: Labels
    ids: NDArray[np.int64]
    boxes: NDArray[np.int64]
    areas: NDArray[np.int64]
    centres: NDArray[np.float64]
    threshold: float
    dropped: int
    rejected: int

    @property
    def count(self) -> int:
        """Number of regions."""
        return int(self.ids.size)

    @property
    def nbytes(self) -> int:
        """Memory held."""
        return self.labels.nbytes + self.boxes.nbytes + self.areas.nbytes + self.centres.nbytes

    def at(self, x: int, y: int) -> int:
        """Return the number of the region that covers a pixel; 0 for none or outside."""
        height, width = self.labels.shape
        if 0 <= x < width and 0 <= y < height:
            return int(self.labels[y, x])
        return 0

    def a_pixel_of(self, region: int) -> tuple[int, int]:
        """Return x, y of the region's first pixel in row order."""
        k = int(np.searchsorted(self.ids, region))
        x, y, width, height = (int(v) for v in self.boxes[k])
        rows, columns = np.nonzero(self.labels[y : y + height, x : x + width] == region)
        return x + int(columns[0]), y + int(rows[0])


def kept_pixels(
    values: NDArray[np.floating[Any]], level: float, keep: Literal["bright", "dark"]
) -> Mask:
    """Return where values > level (bright) or ≤ level (dark); NaN is never kept.

    A NaN level keeps nothing.
    """
    kept = values > level if keep == "bright" else values <= level
    return np.asarray(kept, dtype=np.bool_)


def structure(connectivity: Literal[4, 8]) -> Mask:
    """Return the 3×3 neighbourhood of a pixel, itself included."""
    return np.asarray(ndimage.generate_binary_structure(2, 1 if connectivity == 4 else 2))


def fill_holes(mask: Mask, connectivity: Literal[4, 8]) -> Mask:
    """Return the mask with every part of its background filled that no border pixel reaches.

    The background is connected by 4 where the objects are by 8, and the other way round.
    """
    outside, count = ndimage.label(~mask, structure(4 if connectivity == 8 else 8))
    reached = np.zeros(count + 1, dtype=np.bool_)
    for border in (outside[0], outside[-1], outside[:, 0], outside[:, -1]):
        reached[border] = True
    if reached[1:].all():
        return mask
    hole = ~reached
    hole[0] = False
    return np.asarray(mask | hole[outside], dtype=np.bool_)


def find_regions(
    values: NDArray[np.floating[Any]],
    level: float,
    *,
    keep: Literal["bright", "dark"] = "bright",
    connectivity: Literal[4, 8] = 8,
    fill: bool = True,
    min_area: float = 0.0,
    max_area: float | None = None,
    rejected: Sequence[tuple[int, int]] = (),
) -> RegionSet:
    """Return the regions of a signal plane.

    values : shape (height, width), signal units; NaN is background.
    min_area, max_area : pixels, both ends included.
    rejected : pixels (x, y); the region that covers one is left out.
    """
    mask = kept_pixels(values, level, keep)
    if fill:
        mask = fill_holes(mask, connectivity)
    labels, count = ndimage.label(mask, structure(connectivity), output=np.int32)
    labels, dropped = _keep_by_area(labels, count, min_area, max_area)
    labels, by_hand = _reject(labels, rejected)
    return _described(labels, level, dropped, by_hand)


def _keep_by_area(
    labels: Labels, count: int, min_area: float, max_area: float | None
) -> tuple[Labels, int]:
    if min_area <= 1 and max_area is None:
        return labels, 0
    areas = np.bincount(labels.ravel(), minlength=count + 1)
    good = areas >= min_area
    if max_area is not None:
        good &= areas <= max_area
    good[0] = False
    numbers = np.zeros(count + 1, np.int32)
    numbers[good] = np.arange(1, np.count_nonzero(good) + 1, dtype=np.int32)
    return numbers[labels], count - int(np.count_nonzero(good))


def _reject(labels: Labels, rejected: Sequence[tuple[int, int]]) -> tuple[Labels, int]:
    height, width = labels.shape
    numbers = {int(labels[y, x]) for x, y in rejected if 0 <= x < width and 0 <= y < height} - {0}
    if not numbers:
        return labels, 0
    kept = np.arange(int(labels.max()) + 1, dtype=np.int32)
    kept[list(numbers)] = 0
    return kept[labels], len(numbers)


def _described(labels: Labels, level: float, dropped: int, rejected: int) -> RegionSet:
    flat = np.flatnonzero(labels)
    width = labels.shape[1]
    numbers = labels.ravel()[flat]
    rows, columns = np.divmod(flat, width)
    areas = np.bincount(numbers)
    ids = np.flatnonzero(areas)
    if ids.size == 0:
        nothing = np.zeros(0, np.int64)
        return RegionSet(
            labels,
            nothing,
            np.zeros((0, 4), np.int64),
            nothing,
            np.zeros((0, 2)),
            level,
            dropped,
            rejected,
        )
    centres = np.stack(
        [np.bincount(numbers, weights=where)[ids] / areas[ids] for where in (columns, rows)],
        axis=1,
    )
    found = ndimage.find_objects(labels)
    boxes = np.array(
        [
            (part[1].start, part[0].start, part[1].stop - part[1].start,
             part[0].stop - part[0].start)
            for part in (found[i - 1] for i in ids)
        ],
        dtype=np.int64,
    )  # fmt: skip
    return RegionSet(labels, ids, boxes, areas[ids], centres, level, dropped, rejected)

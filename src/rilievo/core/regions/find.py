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

from rilievo.core.regions.runs import Runs, runs_of

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


def connected(mask: Mask, connectivity: Literal[4, 8]) -> tuple[Labels, int]:
    """Return the connected parts of a mask, numbered from 1 in row order, and their number."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import; the window opens without it)

    structure = ndimage.generate_binary_structure(2, 1 if connectivity == 4 else 2)
    labels, count = ndimage.label(mask, structure, output=np.int32)
    return labels, int(count)


def fill_holes(mask: Mask, connectivity: Literal[4, 8]) -> Mask:
    """Return the mask with every part of its background filled that no border pixel reaches.

    The background is connected by 4 where the objects are by 8, and the other way round.
    """
    outside, count = connected(~mask, 4 if connectivity == 8 else 8)
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
    labels, count = connected(mask, connectivity)
    runs = runs_of(labels)
    areas = np.bincount(runs.labels, weights=runs.lengths, minlength=count + 1)
    good = areas >= min_area
    if max_area is not None:
        good &= areas <= max_area
    good[0] = False
    kept = int(np.count_nonzero(good))
    numbers = np.zeros(count + 1, np.int32)
    numbers[good] = np.arange(1, kept + 1, dtype=np.int32)
    by_hand = _rejected_numbers(numbers[labels[_inside(labels, rejected)]])
    numbers[np.isin(numbers, by_hand)] = 0
    if kept < count or by_hand.size:
        labels = numbers[labels]
        runs = runs.renumbered(numbers)
    return _described(labels, runs, level, count - kept, int(by_hand.size))


def _inside(labels: Labels, pixels: Sequence[tuple[int, int]]) -> tuple[list[int], list[int]]:
    height, width = labels.shape
    found = [(x, y) for x, y in pixels if 0 <= x < width and 0 <= y < height]
    return [y for _, y in found], [x for x, _ in found]


def _rejected_numbers(found: Labels) -> Labels:
    numbers = np.unique(found)
    return numbers[numbers > 0]


def _described(labels: Labels, runs: Runs, level: float, dropped: int, rejected: int) -> RegionSet:
    most = int(runs.labels.max()) if runs.labels.size else 0
    areas = np.bincount(runs.labels, weights=runs.lengths, minlength=most + 1)
    ids = np.flatnonzero(areas)
    areas = areas[ids]
    middle = runs.starts + (runs.lengths - 1) / 2
    centres = np.stack(
        [
            np.bincount(runs.labels, weights=runs.lengths * where, minlength=most + 1)[ids] / areas
            for where in (middle, runs.rows)
        ],
        axis=1,
    )
    boxes = runs.boxes(most)[ids]
    return RegionSet(labels, ids, boxes, areas.astype(np.int64), centres, level, dropped, rejected)

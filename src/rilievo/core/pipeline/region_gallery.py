"""Contact prints: single regions as small pictures, all at one scale and in one range."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Plane
from rilievo.core.regions import RegionSet
from rilievo.core.table.rows import Rows

# A region has this share of its own size around it.
_MARGIN = 0.25
_LEAST_SIDE = 8


def print_rows(
    rows: Rows,
    shown: NDArray[np.int64],
    key: str,
    channel: str,
    *,
    falling: bool = False,
    only: Mapping[str, Iterable[int]] | None = None,
) -> NDArray[np.int64]:
    """Return a row for each region among those shown, in the order of a column.

    channel : whose rows are taken, where there are any. only : regions by sample; None for all.
    """
    if channel in rows.channels:
        shown = shown[rows.channel_at[shown] == rows.channels.index(channel)]
    if only is not None:
        shown = shown[np.isin(shown, rows.rows_of(only))]
    order = rows.ordered(shown, [(key, falling)])
    regions = np.stack([rows.table_at[order].astype(np.int64), rows.region[order]])
    _, first = np.unique(regions, axis=1, return_index=True)
    return np.asarray(order[np.sort(first)])


@dataclass(frozen=True, eq=False)
class Print:
    """A square part of a signal with one region in its middle.

    values : shape (side, side), NaN beyond the picture. inside : which pixels are the region's.
    """

    region: int
    values: NDArray[np.float32]
    inside: NDArray[np.bool_]


def common_side(sets: Sequence[RegionSet], most: int = 400) -> int:
    """Return the side of a print that most regions fit, pixels: the 95th percentile of boxes."""
    sizes = [regions.boxes[:, 2:].max(axis=1) for regions in sets if regions.count]
    if not sizes:
        return _LEAST_SIDE
    side = float(np.quantile(np.concatenate(sizes), 0.95)) * (1 + 2 * _MARGIN)
    return int(min(max(side, _LEAST_SIDE), most))


def print_of(signal: Plane, regions: RegionSet, region: int, side: int) -> Print:
    """Return the print of a region: its middle in the middle, whatever its size."""
    k = regions.index_of(region)
    values = np.full((side, side), np.nan, np.float32)
    inside = np.zeros((side, side), np.bool_)
    if k is None:
        return Print(region, values, inside)
    x, y, width, height = (int(v) for v in regions.boxes[k])
    left, top = x + width // 2 - side // 2, y + height // 2 - side // 2
    rows = slice(max(top, 0), min(top + side, signal.shape[0]))
    columns = slice(max(left, 0), min(left + side, signal.shape[1]))
    if rows.start < rows.stop and columns.start < columns.stop:
        there = (
            slice(rows.start - top, rows.stop - top),
            slice(columns.start - left, columns.stop - left),
        )
        values[there] = signal.pixels[rows, columns]
        inside[there] = regions.labels[rows, columns] == region
    return Print(region, values, inside)


def print_grey(thumbnail: Print, low: float, high: float) -> NDArray[np.uint8]:
    """Return a print as levels 0 to 255 between the ends of a display range; undefined is 0."""
    span = high - low if high > low else 1.0
    shares = np.clip((thumbnail.values - low) / span, 0, 1)
    return np.asarray(np.nan_to_num(shares) * 255, np.uint8)


def rim_of(inside: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Return the pixels beside a region, along its outline."""
    padded = np.pad(inside, 1)
    near = padded[:-2, 1:-1] | padded[2:, 1:-1] | padded[1:-1, :-2] | padded[1:-1, 2:]
    return np.asarray(near & ~inside)

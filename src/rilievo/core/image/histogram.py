"""Histograms at full resolution, and pooled for display.

Integer data, and integer data minus a constant, have one bin a level up to 65 536 levels;
float data have 65 536 equal bins over the finite range. Undefined pixels are counted apart.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Lattice, Plane
from rilievo.core.tiled_map import in_pieces

if TYPE_CHECKING:
    import pandas

HistogramKind = Literal["counts", "share", "cumulative"]

MOST_BINS = 65_536
_PIECE = 1 << 19
_WHOLE_NUMBERS = Lattice(0.0, 1.0)


@dataclass(frozen=True, eq=False)
class Histogram:
    """Counts per bin of equal width.

    counts : shape (n,), int64. Bin k holds values around `first + k · width` when `levels`
    (each value is a level), else first + k·width ≤ value < first + (k + 1)·width; the last bin
    includes its upper edge.
    undefined : number of pixels that are NaN or infinite.
    """

    counts: NDArray[np.int64]
    first: float
    width: float
    levels: bool
    undefined: int = 0

    @classmethod
    def nothing(cls, undefined: int = 0) -> Histogram:
        """Return the histogram of no finite pixel."""
        return cls(np.zeros(1, np.int64), 0.0, 1.0, levels=True, undefined=undefined)

    @property
    def total(self) -> int:
        """Number of finite pixels."""
        return int(self.counts.sum())

    @property
    def values(self) -> NDArray[np.float64]:
        """The value a bin stands for: its level, or its centre."""
        offset = 0.0 if self.levels else 0.5
        centres = self.first + (np.arange(self.counts.size) + offset) * self.width
        return np.asarray(centres, dtype=np.float64)

    @property
    def lowest(self) -> float:
        """Lower end of the data, in signal or native units."""
        return self.first

    @property
    def highest(self) -> float:
        """Upper end of the data."""
        return self.first + (self.counts.size - (1 if self.levels else 0)) * self.width

    def share_at_or_below(self, value: float) -> float:
        """Return the share of pixels ≤ value; exact for levels, to a bin for floats."""
        if self.total == 0:
            return math.nan
        bins = math.floor((value - self.first) / self.width + 1e-9) + (1 if self.levels else 0)
        return float(self.counts[: max(0, min(bins, self.counts.size))].sum()) / self.total

    def quantile(self, share: float) -> float:
        """Return the lowest bin value with at least `share` of the pixels at or below it."""
        if self.total == 0:
            return math.nan
        cumulative = np.cumsum(self.counts)
        k = int(np.searchsorted(cumulative, max(1.0, share * cumulative[-1])))
        return float(self.values[min(k, self.counts.size - 1)])


def histogram_of(plane: Plane) -> Histogram:
    """Return the histogram of a plane's finite pixels."""
    return histogram_of_values(plane.pixels, plane.lattice)


def histogram_of_values(pixels: NDArray[Any], lattice: Lattice | None) -> Histogram:
    """As `histogram_of`, for the values of any part of a plane."""
    finite: NDArray[Any] = pixels.ravel()
    if pixels.dtype.kind == "f":
        is_finite = np.isfinite(finite)
        if not is_finite.all():
            finite = finite[is_finite]
    undefined = pixels.size - finite.size
    if finite.size == 0:
        return Histogram.nothing(undefined)
    if pixels.dtype.kind == "u" and pixels.dtype.itemsize <= 2 and lattice == _WHOLE_NUMBERS:
        return _by_value(finite)
    low, high = float(finite.min()), float(finite.max())
    if lattice is not None:
        levels = round((high - low) / lattice.spacing) + 1
        if levels <= MOST_BINS:
            return _by_level(finite, low, lattice.spacing, levels, undefined)
    if low == high:
        return Histogram(np.array([finite.size]), low, 1.0, levels=True, undefined=undefined)
    return _by_range(finite, low, high, undefined)


def _counted(
    finite: NDArray[Any], index: Callable[[NDArray[Any]], NDArray[Any]], bins: int
) -> NDArray[np.int64]:
    """Count bin numbers piece by piece, so that the numbers need no memory of their own."""

    def count(piece: NDArray[Any]) -> NDArray[np.int64]:
        return np.bincount(index(piece))

    pieces = [finite[i : i + _PIECE] for i in range(0, finite.size, _PIECE)]
    total = np.zeros(bins, np.int64)
    for counts in in_pieces(count, pieces, values=finite.size):
        total[: counts.size] += counts
    return total


def _by_value(finite: NDArray[Any]) -> Histogram:
    """Small unsigned numbers are bin numbers as they stand; their range shows afterwards."""
    counts = _counted(finite, lambda piece: piece, np.iinfo(finite.dtype).max + 1)
    occurs = np.flatnonzero(counts)
    first, last = int(occurs[0]), int(occurs[-1])
    return Histogram(counts[first : last + 1].copy(), float(first), 1.0, levels=True)


def _by_level(
    finite: NDArray[Any], low: float, spacing: float, levels: int, undefined: int
) -> Histogram:
    if finite.dtype.kind in "iu":
        first = int(low)

        def index(piece: NDArray[Any]) -> NDArray[Any]:
            return np.asarray(piece.astype(np.int64) - first)

        counts = _counted(finite, index, levels)
        return Histogram(counts, low, spacing, levels=True, undefined=undefined)
    start, step = finite.dtype.type(low), finite.dtype.type(spacing)

    def nearest(piece: NDArray[Any]) -> NDArray[Any]:
        return np.asarray(np.rint((piece - start) / step).astype(np.int64))

    counts = _counted(finite, nearest, levels)
    return Histogram(counts, low, spacing, levels=True, undefined=undefined)


def _by_range(finite: NDArray[Any], low: float, high: float, undefined: int) -> Histogram:
    width = (high - low) / MOST_BINS
    if not math.isfinite(width) or width == 0:
        # A range beyond the floats' own, or too narrow to divide: one bin says the truth.
        return Histogram(np.array([finite.size]), low, 1.0, levels=True, undefined=undefined)

    def index(piece: NDArray[Any]) -> NDArray[Any]:
        bins = ((piece.astype(np.float64) - low) / width).astype(np.int64)
        return np.asarray(np.clip(bins, 0, MOST_BINS - 1, out=bins))

    counts = _counted(finite, index, MOST_BINS)
    return Histogram(counts, low, width, levels=False, undefined=undefined)


def pooled(
    histogram: Histogram, low: float, high: float, bins: int
) -> tuple[NDArray[np.float64], float]:
    """Return shares of pixels in `bins` equal display bins from low to high, and the bin width.

    Where the full histogram has fewer levels than the display has bins, its levels are spread
    evenly over the bins they cover, so that no comb of empty bins appears.
    """
    edges = np.linspace(low, high, bins + 1)
    starts = histogram.first - (0.5 * histogram.width if histogram.levels else 0.0)
    fine_edges = starts + np.arange(histogram.counts.size + 1) * histogram.width
    cumulative = np.concatenate(([0.0], np.cumsum(histogram.counts, dtype=np.float64)))
    at_edges = np.interp(edges, fine_edges, cumulative)
    total = max(histogram.total, 1)
    return np.diff(at_edges) / total, (high - low) / bins


def heights_between(
    histogram: Histogram, kind: HistogramKind, low: float, high: float, most: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return edges, shape (n + 1,), and heights of at most `most` display bins from low to high.

    A bin is never narrower than one of the histogram, so that zooming in shows its own levels.
    """
    bins = min(most, max(1, math.ceil((high - low) / histogram.width)))
    if bins < most and histogram.levels:
        # Bins centred on the levels themselves.
        first = math.floor((low - histogram.first) / histogram.width)
        bins += 1
        low = histogram.first + (first - 0.5) * histogram.width
        high = low + bins * histogram.width
    shares, _ = pooled(histogram, low, high, bins)
    edges = np.linspace(low, high, bins + 1)
    if kind == "counts":
        return edges, shares * histogram.total
    if kind == "cumulative":
        shift = 0.5 * histogram.width if histogram.levels else 0.0
        before = histogram.share_at_or_below(low - shift) if histogram.total else 0.0
        return edges, before + np.cumsum(shares)
    return edges, shares


def histogram_frame(named: Mapping[str, Histogram]) -> pandas.DataFrame:
    """Return a row a bin that holds a pixel: name, level, count, share, cumulative share."""
    import pandas  # noqa: PLC0415 (slow to import)

    parts = [_bin_rows(name, one) for name, one in named.items() if one.total]
    columns = ["name", "level", "bin_width", "count", "share", "cumulative"]
    return pandas.concat(parts) if parts else pandas.DataFrame(columns=columns)


def _bin_rows(name: str, histogram: Histogram) -> pandas.DataFrame:
    import pandas  # noqa: PLC0415 (slow to import)

    held = histogram.counts > 0
    counts = histogram.counts[held]
    return pandas.DataFrame(
        {
            "name": name,
            "level": histogram.values[held],
            "bin_width": histogram.width,
            "count": counts,
            "share": counts / histogram.total,
            "cumulative": counts.cumsum() / histogram.total,
        }
    )

"""Histograms at full resolution, and pooled for display.

Data on a lattice (whole numbers, also in floats, multiplied or shifted) have one bin a level;
others have bins as wide as their own spread asks for. Only bins that hold a pixel are kept, so
that neither one far pixel nor empty stretches change what is found from them. Undefined pixels
are counted apart.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Lattice, Plane
from rilievo.core.image.value_lattice import joined_spacing, own_lattice
from rilievo.core.result_frame import ResultFrame
from rilievo.core.tiled_map import in_pieces

HistogramKind = Literal["counts", "share", "cumulative"]

MOST_BINS = 65_536
_PIECE = 1 << 19
_WHOLE_NUMBERS = Lattice(0.0, 1.0)
# Bins that are counted in one array; what lies farther out is counted by itself.
_DENSE = 1 << 20
_SAMPLE = 1 << 14
# Share of normal data → width of the shortest stretch that holds it, in standard deviations.
_SHORTEST = ((0.1, 0.2513), (0.25, 0.6373), (0.5, 1.349), (0.75, 2.3007), (0.95, 3.92), (1.0, 6.0))


@dataclass(frozen=True, eq=False)
class Histogram:
    """Counts of the bins of equal width that hold a pixel.

    bins : shape (n,), int64, ascending numbers of the bins. counts : shape (n,), int64, above 0.
    Bin k holds the value `first + k · width` when `levels` (each value is a level), else
    first + k·width ≤ value < first + (k + 1)·width.
    lowest, highest : ends of the data, signal or native units; 0 without a finite pixel.
    undefined : number of pixels that are NaN or infinite.
    pixels : the values counted, for percentiles to all their digits where bins are wider than
    a level; None where they are not at hand, and percentiles are interpolated inside of a bin.
    """

    bins: NDArray[np.int64]
    counts: NDArray[np.int64]
    first: float
    width: float
    levels: bool
    lowest: float
    highest: float
    undefined: int = 0
    pixels: NDArray[Any] | None = field(default=None, repr=False)

    @classmethod
    def nothing(cls, undefined: int = 0) -> Histogram:
        """Return the histogram of no finite pixel."""
        none = np.zeros(0, np.int64)
        return cls(none, none, 0.0, 1.0, True, 0.0, 0.0, undefined)

    @classmethod
    def of_levels(
        cls, bins: NDArray[np.int64], counts: NDArray[np.int64], lattice: Lattice, undefined: int
    ) -> Histogram:
        """Return the histogram of levels `origin + bins · spacing`, each of which occurs."""
        first, width = lattice.origin, lattice.spacing
        low, high = (first + float(k) * width for k in (bins[0], bins[-1]))
        return cls(bins - bins[0], counts, low, width, True, low, high, undefined)

    @cached_property
    def total(self) -> int:
        """Number of finite pixels."""
        return int(self.counts.sum())

    @property
    def nbytes(self) -> int:
        """Memory of the bins."""
        return self.bins.nbytes + self.counts.nbytes

    @cached_property
    def values(self) -> NDArray[np.float64]:
        """The value a bin stands for: its level, or its centre."""
        offset = 0.0 if self.levels else 0.5
        return np.asarray(self.first + (self.bins + offset) * self.width, dtype=np.float64)

    @cached_property
    def step(self) -> int:
        """The number of bins between levels that can occur: 2 where all values are even."""
        return joined_spacing(self.bins) if self.levels else 1

    @cached_property
    def at_or_below(self) -> NDArray[np.int64]:
        """The number of pixels in each bin and those before it, shape (n,)."""
        return np.cumsum(self.counts)

    def share_at_or_below(self, value: float) -> float:
        """Return the share of pixels ≤ value; exact for levels, within a bin for others."""
        return float(self.shares_at_or_below(np.array([value]))[0])

    def shares_at_or_below(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """As `share_at_or_below`, for several values; NaN where there is no pixel."""
        if self.total == 0:
            return np.full(values.shape, math.nan)
        positions = (values - self.first) / self.width
        if self.levels:
            known = np.concatenate(([0], self.at_or_below))
            found = known[np.searchsorted(self.bins, np.floor(positions + 1e-9), side="right")]
            return np.asarray(found / self.total)
        return np.asarray(np.interp(positions, *self.cumulative()) / self.total)

    def cumulative(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return both ends of each bin, in bins, and how many pixels lie before each end.

        Between two ends pixels are spread evenly; over an empty stretch nothing is.
        """
        edges = np.stack([self.bins, self.bins + 1], axis=1).ravel().astype(np.float64)
        before = self.at_or_below - self.counts
        pixels = np.stack([before, self.at_or_below], axis=1).ravel().astype(np.float64)
        return edges, pixels

    @property
    def _whole(self) -> bool:
        """Whether levels are whole numbers, which floats hold without rounding."""
        return self.levels and self.first.is_integer() and self.width.is_integer()

    def level_above(self, number: int) -> float:
        """Return the level that parts a bin, by its number, from the next one above.

        A whole level is its own; others lie half way up to the next, since a pixel may be off
        its level by its rounding.
        """
        further = 0.0 if self._whole else 0.5 if self.levels else 1.0
        return self.first + (number + further) * self.width

    def with_pixels(self, pixels: NDArray[Any]) -> Histogram:
        """Return the histogram with the values that it counts, where bins do not tell them."""
        return self if self._whole else replace(self, pixels=pixels)

    def quantile(self, share: float) -> float:
        """Return the percentile of the values at `share`, 0 to 1; NaN for no pixel.

        Between values by linear interpolation (Hyndman & Fan 1996, American Statistician 50,
        361–365, type 7); exact for levels and where `pixels` are at hand.
        """
        if self.total == 0:
            return math.nan
        position = min(max(share, 0.0), 1.0) * (self.total - 1)
        rank = math.floor(position)
        low, high = self._at_ranks((rank, min(rank + 1, self.total - 1)))
        return low + (position - rank) * (high - low)

    def _at_ranks(self, ranks: tuple[int, int]) -> tuple[float, float]:
        """The values that stand at ranks from 0 when all pixels are sorted."""
        if self.pixels is not None:
            finite = _finite(self.pixels)
            found = np.partition(finite, ranks)[list(ranks)]
            return float(found[0]), float(found[1])
        found = self.at_or_below.searchsorted(ranks, side="right")
        if self.levels:
            return float(self.values[found[0]]), float(self.values[found[1]])
        inside = (np.asarray(ranks) + 0.5 - self.at_or_below[found]) / self.counts[found] + 1
        values = self.first + (self.bins[found] + inside) * self.width
        ends = {0: self.lowest, self.total - 1: self.highest}
        low, high = (ends.get(rank, float(v)) for rank, v in zip(ranks, values, strict=True))
        return low, high

    def spread(self) -> float:
        """Return the standard deviation of normal data with as short a tenth of the pixels.

        A tenth is that of one population where there are several. Where so many pixels are equal,
        the shortest quarter, and so on.
        """
        return _spread(self.values, self.counts)

    def by_spread(self) -> Histogram:
        """Return the same pixels in bins as wide as their spread asks for, never finer than here.

        Width 2 · 1.349 σ / N^(1/3) with σ of `spread`. Source: Freedman & Diaconis 1981,
        Zeitschrift für Wahrscheinlichkeitstheorie und verwandte Gebiete 57, 453–476.
        """
        if not self.levels or self.total == 0:
            return self
        unit = self.step * self.width
        factor = max(1, round(_width(self.spread(), self.total) / unit)) * self.step
        return self if factor == self.step else self._widened(factor)

    def within_most_bins(self) -> Histogram:
        """Return the same pixels in bins twice as wide until they are few enough to keep."""
        histogram = self
        while histogram.bins.size > MOST_BINS:
            histogram = histogram._widened(2)
        return histogram

    def _widened(self, factor: int) -> Histogram:
        """The histogram with `factor` bins in one; the edges lie between levels."""
        bins, counts = summed_bins(self.bins // factor, self.counts)
        first = self.first - (0.5 * self.width if self.levels else 0.0)
        return replace(
            self, bins=bins, counts=counts, first=first, width=self.width * factor, levels=False
        )


def _spread(values: NDArray[np.float64], counts: NDArray[np.int64]) -> float:
    """As `Histogram.spread`, for ascending values and how often each occurs."""
    at_or_below = np.cumsum(counts)
    total = int(at_or_below[-1]) if at_or_below.size else 0
    for share, sigmas in _SHORTEST:
        targets = at_or_below - counts + math.ceil(share * total)
        starts = np.flatnonzero(targets <= total)
        ends = np.searchsorted(at_or_below, targets[starts])
        extent = float((values[ends] - values[starts]).min())
        if extent > 0:
            return extent / sigmas
    return 0.0


def _width(sigma: float, count: int) -> float:
    return float(2 * 1.349 * sigma / count ** (1 / 3))


def _finite(pixels: NDArray[Any]) -> NDArray[Any]:
    finite: NDArray[Any] = pixels.ravel()
    if pixels.dtype.kind == "f":
        is_finite = np.isfinite(finite)
        if not is_finite.all():
            finite = finite[is_finite]
    return finite


def histogram_of(plane: Plane) -> Histogram:
    """Return the histogram of a plane's finite pixels."""
    return histogram_of_values(plane.pixels, plane.lattice)


def histogram_of_values(pixels: NDArray[Any], lattice: Lattice | None) -> Histogram:
    """As `histogram_of`, for the values of any part of a plane.

    lattice : what is known of the values; None has floats looked at for a lattice of their own.
    """
    finite = _finite(pixels)
    undefined = pixels.size - finite.size
    if finite.size == 0:
        return Histogram.nothing(undefined)
    if pixels.dtype.kind == "u" and pixels.dtype.itemsize <= 2 and lattice == _WHOLE_NUMBERS:
        return _by_value(finite)
    low, high = float(finite.min()), float(finite.max())
    if low == high:
        total = np.array([finite.size])
        return Histogram.of_levels(np.zeros(1, np.int64), total, Lattice(low, 1.0), undefined)
    few = np.sort(finite[:: max(1, finite.size // _SAMPLE)])
    if pixels.dtype.kind != "f":
        lattice = lattice or _WHOLE_NUMBERS
    spacing_found = lattice and Lattice(low, lattice.spacing)
    if spacing_found is None:
        spacing_found = own_lattice(finite, few, low)
    if spacing_found is not None:
        by_level = _by_level(finite, few, spacing_found, undefined)
        if by_level is not None:
            return by_level
    return _by_spread(finite, few, (low, high), spacing_found, undefined)


def _counted(
    finite: NDArray[Any], index: Callable[[NDArray[Any]], NDArray[Any]], start: int
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Count bin numbers piece by piece, so that the numbers need no memory of their own.

    start : the first of the bins that are counted in one array. Returns bins and counts.
    """

    def count(piece: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[Any]]:
        numbers = index(piece)
        if start:
            numbers = numbers - start
        if numbers.dtype.kind == "u" or (numbers.min() >= 0 and numbers.max() < _DENSE):
            return np.bincount(numbers), numbers[:0]
        near = (numbers >= 0) & (numbers < _DENSE)
        return np.bincount(numbers[near].astype(np.intp)), numbers[~near]

    pieces = [finite[i : i + _PIECE] for i in range(0, finite.size, _PIECE)]
    dense, far = np.zeros(0, np.int64), []
    for counts, others in in_pieces(count, pieces, values=finite.size):
        if counts.size > dense.size:
            dense = np.pad(dense, (0, counts.size - dense.size))
        dense[: counts.size] += counts
        if others.size:
            far.append(others)
    bins = np.flatnonzero(dense)
    if not far:
        return bins + start, dense[bins]
    numbers, counts = np.unique(np.concatenate(far), return_counts=True)
    return summed_bins(
        np.concatenate([bins, numbers.astype(np.int64)]) + start,
        np.concatenate([dense[bins], counts]),
    )


def summed_bins(
    bins: NDArray[np.int64], counts: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return each bin once, in order, with the sum of its counts."""
    bins_met, at = np.unique(bins, return_inverse=True)
    return bins_met, np.bincount(at, weights=counts, minlength=bins_met.size).astype(np.int64)


def _by_value(finite: NDArray[Any]) -> Histogram:
    """Small unsigned numbers are bin numbers as they stand."""
    bins, counts = _counted(finite, lambda piece: piece, 0)
    return Histogram.of_levels(bins, counts, _WHOLE_NUMBERS, 0)


def _window(few: NDArray[Any], low: float, width: float) -> int:
    """Where the bins begin that are counted in one array: most pixels lie inside."""
    if (float(few[-1]) - low) / width < _DENSE:
        return 0
    near = float(few[few.size // 1000])
    return max(0, int((near - low) / width) - _DENSE // 8)


def _by_level(
    finite: NDArray[Any], few: NDArray[Any], lattice: Lattice, undefined: int
) -> Histogram | None:
    """One bin a level; None where more levels occur than are kept."""
    if (float(few[-1]) - lattice.origin) / lattice.spacing >= 2.0**62:
        return None
    if finite.dtype.kind in "iu":
        first = int(lattice.origin)

        def index(piece: NDArray[Any]) -> NDArray[Any]:
            if piece.dtype.itemsize == 8:
                return np.asarray((piece - piece.dtype.type(first)).astype(np.int64))
            return np.asarray(piece.astype(np.int64) - first)
    else:
        start, step = finite.dtype.type(lattice.origin), finite.dtype.type(lattice.spacing)

        def index(piece: NDArray[Any]) -> NDArray[Any]:
            return np.asarray(np.rint((piece - start) / step).astype(np.int64))

    bins, counts = _counted(finite, index, _window(few, lattice.origin, lattice.spacing))
    if bins.size > MOST_BINS:
        return None
    return Histogram.of_levels(bins, counts, lattice, undefined)


def _by_spread(
    finite: NDArray[Any],
    few: NDArray[Any],
    ends: tuple[float, float],
    lattice: Lattice | None,
    undefined: int,
) -> Histogram:
    """Bins by the spread of the values, on a lattice a whole number of levels wide."""
    low, high = ends
    if not math.isfinite(high - low):
        # A range beyond the floats' own: one bin says the truth.
        total = np.array([finite.size])
        zero = np.zeros(1, np.int64)
        return Histogram(zero, total, low, high / 2 - low / 2, False, low, high, undefined)
    sigma = _spread(few.astype(np.float64), np.ones(few.size, np.int64))
    width = _width(sigma, finite.size) or _width((high - low) / 6, finite.size)
    width = max(width, (high - low) / 2.0**60)
    first = low
    if lattice is not None:
        width = max(1, round(width / lattice.spacing)) * lattice.spacing
        first = low - lattice.spacing / 2

    def index(piece: NDArray[Any]) -> NDArray[Any]:
        return np.asarray(((piece.astype(np.float64) - first) / width).astype(np.int64))

    bins, counts = _counted(finite, index, _window(few, low, width))
    return Histogram(bins, counts, first, width, False, low, high, undefined).within_most_bins()


def pooled(
    histogram: Histogram, low: float, high: float, bins: int
) -> tuple[NDArray[np.float64], float]:
    """Return shares of pixels in `bins` equal display bins from low to high, and the bin width.

    Where the full histogram has fewer levels than the display has bins, its levels are spread
    evenly over the bins they cover, so that no comb of empty bins appears.
    """
    edges = np.linspace(low, high, bins + 1)
    width = (high - low) / bins
    if histogram.total == 0:
        return np.zeros(bins), width
    ends, pixels = histogram.cumulative()
    offset = 0.5 if histogram.levels else 0.0
    at_edges = np.interp(edges, histogram.first + (ends - offset) * histogram.width, pixels)
    return np.diff(at_edges) / histogram.total, width


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


def histogram_frame(named: Mapping[str, Histogram]) -> ResultFrame:
    """Return a row a bin that holds a pixel: name, level, count, share, cumulative share."""
    some = [(name, histogram) for name, histogram in named.items() if histogram.total]
    return ResultFrame(
        {
            "name": [name for name, histogram in some for _ in range(histogram.counts.size)],
            "level": _end_to_end([histogram.values for _, histogram in some]),
            "bin_width": _end_to_end(
                [np.full(histogram.counts.size, histogram.width) for _, histogram in some]
            ),
            "count": _end_to_end([histogram.counts for _, histogram in some]),
            "share": _end_to_end([histogram.counts / histogram.total for _, histogram in some]),
            "cumulative": _end_to_end(
                [histogram.at_or_below / histogram.total for _, histogram in some]
            ),
        }
    )


def _end_to_end(parts: list[NDArray[Any]]) -> NDArray[Any]:
    return np.concatenate(parts) if parts else np.zeros(0)

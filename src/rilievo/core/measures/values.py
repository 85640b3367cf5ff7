"""The pixels of all regions, grouped once, from which every quantity is computed.

Grouping depends on the regions alone and is shared by the channels. Sums are taken about a
value of the region itself, so that they keep their digits on data with a large offset.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image import Plane
from rilievo.core.regions.find import RegionSet
from rilievo.core.regions.runs import runs_of

Floats = NDArray[np.float64]


class RegionIndex:
    """Which pixels belong to which region.

    ids : region numbers, ascending, shape (n,).
    pixels : flat pixel positions, grouped by region, row order within each.
    group : for each of `pixels` the place of its region in `ids`.
    """

    def __init__(self, labels: NDArray[np.int32], ids: NDArray[np.int64]) -> None:
        self.shape = (labels.shape[0], labels.shape[1])
        self.ids = ids
        runs = runs_of(labels)
        order = np.argsort(runs.labels, kind="stable")
        lengths = runs.lengths[order]
        first = (runs.rows * self.shape[1] + runs.starts)[order]
        # Each run becomes its pixels: its first position, counted on by one a pixel.
        before = np.cumsum(lengths) - lengths
        self.pixels = np.repeat(first - before, lengths) + np.arange(int(lengths.sum()))
        self.group = np.repeat(np.searchsorted(ids, runs.labels[order]), lengths)
        self.areas = np.bincount(self.group, minlength=ids.size)
        # Filled by the quantities of form, which share what they trace.
        self.form: dict[str, Floats] | None = None

    @classmethod
    def of(cls, regions: RegionSet) -> RegionIndex:
        """Return the index of a region set."""
        return cls(regions.labels, regions.ids)

    @cached_property
    def x(self) -> NDArray[np.intp]:
        """Column of each of `pixels`."""
        return np.asarray(self.pixels % self.shape[1], dtype=np.intp)

    @cached_property
    def y(self) -> NDArray[np.intp]:
        """Row of each of `pixels`."""
        return np.asarray(self.pixels // self.shape[1], dtype=np.intp)

    @property
    def count(self) -> int:
        """Number of regions."""
        return int(self.ids.size)


def whole_plane_index(shape: tuple[int, int]) -> RegionIndex:
    """Return the index of one region, number 1, that covers a plane of (height, width)."""
    return RegionIndex(np.ones(shape, np.int32), np.array([1]))


class RegionValues:
    """Signal and native values of one channel at the pixels of a RegionIndex.

    Undefined pixels, and saturated or empty ones if asked, are left out of `values`; the counts
    of all of them are kept.
    """

    def __init__(
        self,
        index: RegionIndex,
        signal: Plane,
        native: Plane,
        *,
        exclude_saturated: bool = False,
        exclude_empty: bool = False,
    ) -> None:
        self.index = index
        self.calibration = native.calibration
        self.signal = signal
        all_signal = signal.pixels.ravel()[index.pixels].astype(np.float64)
        all_native = native.pixels.ravel()[index.pixels].astype(np.float64)
        self.undefined = ~(np.isfinite(all_signal) & np.isfinite(all_native))
        saturated = all_native >= self._or_nan(native.saturation)
        if native.clipped is not None:
            saturated = native.clipped.ravel()[index.pixels]
        self._marked = {
            "undefined": self.undefined,
            "saturated": self._at_level(saturated),
            "empty": self._at_level(all_native <= self._or_nan(native.empty)),
        }
        used = ~self.undefined
        if exclude_saturated:
            used &= ~self._marked["saturated"]
        if exclude_empty:
            used &= ~self._marked["empty"]
        self.group = index.group[used]
        self.pixels = index.pixels[used]
        self.values: Floats = all_signal[used]
        self.native: Floats = all_native[used]

    @staticmethod
    def _or_nan(level: float | None) -> float:
        return np.nan if level is None else level

    def _at_level(self, mask: NDArray[np.bool_]) -> NDArray[np.bool_]:
        return mask & ~self.undefined

    def count_of(self, kind: str) -> Floats:
        """Return per region how many of all its pixels are of a kind, excluded or not.

        kind : "saturated", "empty", "undefined", or "negative" (signal < 0, of the used pixels).
        """
        if kind == "negative":
            group = self.group[self.values < 0]
        else:
            group = self.index.group[self._marked[kind]]
        return np.bincount(group, minlength=self.index.count).astype(np.float64)

    @cached_property
    def n(self) -> Floats:
        """Pixels measured, per region."""
        return np.bincount(self.group, minlength=self.index.count).astype(np.float64)

    @cached_property
    def _starts(self) -> NDArray[np.intp]:
        return np.searchsorted(self.group, np.arange(self.index.count))

    def mean_of(self, values: Floats) -> Floats:
        """Return the mean per region of one number per used pixel; NaN for no pixel."""
        anchor, away = self._about_first(values)
        return anchor + away

    def _about_first(self, values: Floats) -> tuple[Floats, Floats]:
        """The first value of each region, and how far the mean is from it; NaN for no pixel."""
        some = self.n > 0
        anchor, away = np.full((2, self.index.count), np.nan)
        anchor[some] = values[self._starts[some]]
        total = np.bincount(
            self.group, weights=values - anchor[self.group], minlength=self.index.count
        )
        away[some] = total[some] / self.n[some]
        return anchor, away

    @cached_property
    def centred(self) -> Floats:
        """The signal values minus the mean of their region, without rounding the mean first."""
        anchor, away = self._about_first(self.values)
        return (self.values - anchor[self.group]) - away[self.group]

    def sum_of(self, values: Floats) -> Floats:
        """Return the sum per region; NaN for no pixel."""
        return self.mean_of(values) * self.n

    @cached_property
    def mean(self) -> Floats:
        """Mean signal per region."""
        return self.mean_of(self.values)

    @cached_property
    def sd(self) -> Floats:
        """Sample standard deviation (n − 1) per region; NaN below two pixels."""
        total = np.bincount(self.group, weights=self.centred**2, minlength=self.index.count)
        result = np.full(self.index.count, np.nan)
        enough = self.n > 1
        result[enough] = np.sqrt(total[enough] / (self.n[enough] - 1))
        return result

    @cached_property
    def slices(self) -> list[slice]:
        """Where the used pixels of each region stand."""
        ends = self._starts + self.n.astype(np.intp)
        return [slice(a, b) for a, b in zip(self._starts.tolist(), ends.tolist(), strict=True)]

    def sorted_of(self, values: Floats) -> Floats:
        """Return one number per used pixel, sorted within each region."""
        # Region by region: far faster than sorting all pixels by region and value at once.
        ordered = values.copy()
        for part in self.slices:
            ordered[part].sort()
        return ordered

    @cached_property
    def sorted(self) -> Floats:
        """The signal values, sorted within each region."""
        return self.sorted_of(self.values)

    def quantile(self, share: float) -> Floats:
        """Return the percentile of the signal per region; NaN for no pixel.

        share : 0 is the minimum, 0.5 the median, 1 the maximum.
        """
        return self.quantile_of(self.sorted, share)

    def quantile_of(self, ordered: Floats, share: float) -> Floats:
        """Return the percentile per region of numbers that `sorted_of` has put in order.

        By linear interpolation; source: Hyndman & Fan 1996, The American Statistician 50,
        361–365, type 7.
        """
        result = np.full(self.index.count, np.nan)
        some = self.n > 0
        position = self._starts[some] + share * (self.n[some] - 1)
        below = np.floor(position).astype(np.intp)
        last = self._starts[some] + self.n[some].astype(np.intp) - 1
        above = np.minimum(below + 1, last)
        part = position - below
        low, high = ordered[below], ordered[above]
        result[some] = low + part * (high - low)
        return result

    @cached_property
    def median(self) -> Floats:
        """Median signal per region."""
        return self.quantile(0.5)

    def per_region(self, measure: Callable[[Floats], float], values: Floats) -> Floats:
        """Return a number per region from its own used pixels; NaN for no pixel."""
        return np.array(
            [measure(values[part]) if part.stop > part.start else np.nan for part in self.slices],
            dtype=np.float64,
        )

    def most_frequent(self) -> Floats:
        """Return the most frequent value per region, the lowest on a tie."""
        return self.per_region(most_frequent_of, self.sorted)

    def shares_in_bins(self, low: float, high: float, bins: int) -> list[Floats]:
        """Return per region the share of pixels in each of `bins` equal bins from low to high."""
        places = ((self.values - low) * (bins / (high - low))).astype(np.int64)
        np.clip(places, 0, bins - 1, out=places)
        return [np.bincount(places[part]) / max(part.stop - part.start, 1) for part in self.slices]

    def extreme(self, highest: bool) -> tuple[Floats, Floats]:
        """Return column and row of the first extreme in row order, per region; NaN for none."""
        find = np.argmax if highest else np.argmin
        width = self.index.shape[1]
        x, y = np.full(self.index.count, np.nan), np.full(self.index.count, np.nan)
        for i, part in enumerate(self.slices):
            if part.stop > part.start:
                position = int(self.pixels[part][find(self.values[part])])
                y[i], x[i] = divmod(position, width)
        return x, y

    @cached_property
    def brightness_centre(self) -> tuple[Floats, Floats]:
        """Centre of brightness per region, column and row; NaN if the sum is ≤ 0."""
        width = self.index.shape[1]
        return self._weighted(self.pixels % width), self._weighted(self.pixels // width)

    def _weighted(self, where: NDArray[np.intp]) -> Floats:
        total = self.sum_of(self.values)
        with np.errstate(divide="ignore", invalid="ignore"):
            centre = self.sum_of(self.values * where.astype(np.float64)) / total
        return np.where(total > 0, centre, np.nan)

    @cached_property
    def plane_range(self) -> tuple[float, float]:
        """Lowest and highest finite value of the whole signal plane."""
        pixels = self.signal.pixels
        finite = pixels[np.isfinite(pixels)] if pixels.dtype.kind == "f" else pixels
        return (float(finite.min()), float(finite.max())) if finite.size else (np.nan, np.nan)


def most_frequent_of(ordered: Floats) -> float:
    """Return the most frequent of sorted values, the lowest on a tie."""
    starts = np.flatnonzero(np.concatenate(([True], ordered[1:] != ordered[:-1])))
    lengths = np.diff(starts, append=ordered.size)
    return float(ordered[starts[int(lengths.argmax())]])


def column(values: NDArray[Any]) -> Floats:
    """Return an array as a column of floats."""
    return np.asarray(values, dtype=np.float64)

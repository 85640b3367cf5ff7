"""Every intensity quantity of a whole plane in a pass or two, where its values are levels.

A 16-bit plane of 16 million pixels has at most 65 536 different values. The definitions of
`intensity` and its sisters are computed on these values with the number of pixels that have
each, instead of on the pixels: same formula, same result, a fraction of the time.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from rilievo.core.histogram import Histogram, histogram_of_values
from rilievo.core.image import Lattice, Plane
from rilievo.core.measures.values import Floats, RegionIndex, RegionValues
from rilievo.core.pieces import in_pieces

_ROWS = 128
_WHOLE = NDArray[np.float64]


class _WholePlane(RegionIndex):
    """One region, number 1, that covers a plane, without a list of its pixels."""

    def __init__(self, shape: tuple[int, int]) -> None:
        self.shape = shape
        self.ids = np.array([1])
        self.areas = np.array([shape[0] * shape[1]])


class LevelValues(RegionValues):
    """The values of a whole plane by level; see RegionValues for what each name means.

    values : the levels that occur. weights : how many pixels have each.
    """

    def __init__(
        self,
        plane: Plane,
        histogram: Histogram,
        *,
        exclude_saturated: bool = False,
        exclude_empty: bool = False,
    ) -> None:
        self.index = _WholePlane(plane.shape)
        self.calibration = plane.calibration
        self.signal = plane
        self._plane = plane
        occurs = np.flatnonzero(histogram.counts)
        some = occurs.size > 0
        self._range = (histogram.lowest, histogram.highest) if some else (np.nan, np.nan)
        values, weights = histogram.values[occurs], histogram.counts[occurs]
        saturated = values >= self._or_nan(plane.saturation)
        empty = values <= self._or_nan(plane.empty)
        self._counted = {
            "saturated": int(weights[saturated].sum()),
            "empty": int(weights[empty].sum()),
            "undefined": histogram.undefined,
        }
        used = np.ones(values.size, np.bool_)
        if exclude_saturated:
            used &= ~saturated
        if exclude_empty:
            used &= ~empty
        self._everything = bool(used.all())
        self.values = values[used]
        self.native = self.values
        self.weights = weights[used].astype(np.float64)
        self.group = np.zeros(self.values.size, np.intp)
        self._counted["negative"] = int(self.weights[self.values < 0].sum())

    def count_of(self, kind: str) -> Floats:
        """Return how many pixels are of a kind, excluded or not."""
        return np.array([float(self._counted[kind])])

    @cached_property
    def n(self) -> Floats:
        """Pixels measured."""
        return np.array([self.weights.sum()])

    def mean_of(self, values: Floats) -> Floats:
        """Return the mean of one number per level, each as often as its level occurs."""
        if not values.size:
            return np.array([np.nan])
        away = float(np.dot(values - values[0], self.weights))
        return np.array([values[0] + away / self.n[0]])

    @cached_property
    def centred(self) -> Floats:
        """The levels minus their mean, without rounding the mean first."""
        away = self.values - self.values[:1]
        return np.asarray(away - np.dot(away, self.weights) / max(self.n[0], 1.0))

    @cached_property
    def sd(self) -> Floats:
        """Sample standard deviation (n − 1); NaN below two pixels."""
        if self.n[0] < 2:
            return np.array([np.nan])
        squares = float(np.dot(self.centred**2, self.weights))
        return np.array([np.sqrt(squares / (self.n[0] - 1))])

    def sorted_of(self, values: Floats) -> Floats:
        """Return one number per level; `quantile_of` puts them in order with their weights."""
        return values

    def quantile_of(self, ordered: Floats, share: float) -> Floats:
        """Return the percentile by linear interpolation (Hyndman & Fan 1996, type 7)."""
        if not ordered.size:
            return np.array([np.nan])
        # The levels themselves are in order already, and asked for many percentiles.
        in_order = ordered is self.values
        order = None if in_order else np.argsort(ordered, kind="stable")
        upto = self._upto if order is None else np.cumsum(self.weights[order])
        position = share * (upto[-1] - 1)
        below = np.floor(position)
        # Pixel k, counted from 0, has the first level with more than k pixels up to it.
        ends = np.searchsorted(upto, [below, min(below + 1, upto[-1] - 1)], side="right")
        low, high = ordered[ends if order is None else order[ends]]
        return np.array([low + (position - below) * (high - low)])

    @cached_property
    def _upto(self) -> Floats:
        return np.cumsum(self.weights)

    def per_region(self, measure: Callable[[Floats], float], values: Floats) -> Floats:
        """Not used: what needs single pixels has its own form here."""
        raise NotImplementedError

    def most_frequent(self) -> Floats:
        """Return the most frequent level, the lowest on a tie."""
        if not self.values.size:
            return np.array([np.nan])
        return np.array([self.values[int(self.weights.argmax())]])

    def shares_in_bins(self, low: float, high: float, bins: int) -> list[Floats]:
        """Return the share of pixels in each of `bins` equal bins from low to high."""
        if not self.values.size:
            return [np.zeros(0)]
        places = ((self.values - low) * (bins / (high - low))).astype(np.int64)
        counts = np.bincount(np.clip(places, 0, bins - 1), weights=self.weights)
        return [counts / self.n[0]]

    @cached_property
    def plane_range(self) -> tuple[float, float]:
        """Lowest and highest finite value of the whole plane."""
        return self._range

    def first_place_of(self, value: float) -> tuple[int, int]:
        """Return column and row of the first pixel in row order with a value."""
        pixels = self._plane.pixels
        for first in range(0, pixels.shape[0], _ROWS):
            is_it = pixels[first : first + _ROWS] == value
            if is_it.any():
                y, x = divmod(int(is_it.argmax()), self.index.shape[1])
                return x, first + y
        raise ValueError(f"No pixel has the value {value}.")

    def extreme(self, highest: bool) -> tuple[Floats, Floats]:
        """Return column and row of the first extreme in row order; NaN for no pixel."""
        if not self.values.size:
            return np.array([np.nan]), np.array([np.nan])
        x, y = self._places[highest]
        return np.array([float(x)]), np.array([float(y)])

    @cached_property
    def _places(self) -> tuple[tuple[int, int], tuple[int, int]]:
        # Levels are in ascending order.
        return self.first_place_of(self.values[0]), self.first_place_of(self.values[-1])

    @cached_property
    def brightness_centre(self) -> tuple[Floats, Floats]:
        """Centre of brightness, column and row; NaN if the sum is ≤ 0."""
        columns, rows = self._marginals()
        total = float(columns.sum())
        if not total > 0:
            return np.array([np.nan]), np.array([np.nan])
        x = float(np.dot(columns, np.arange(columns.size))) / total
        y = float(np.dot(rows, np.arange(rows.size))) / total
        return np.array([x]), np.array([y])

    def _marginals(self) -> tuple[_WHOLE, _WHOLE]:
        """Sums over the used pixels of each column and of each row, float64."""
        pixels = self._plane.pixels
        height, width = self.index.shape

        def part(first: int) -> tuple[_WHOLE, _WHOLE]:
            block = pixels[first : first + _ROWS]
            if block.dtype.kind == "f" or not self._everything:
                block = self._used_or_zero(block)
            # A sum of 128 16-bit numbers fits into 32 bits, which is twice as fast.
            small = block.dtype.kind == "u" and block.dtype.itemsize <= 2
            columns = block.sum(axis=0, dtype=np.uint32 if small else np.float64)
            rows = block.sum(axis=1, dtype=np.uint64 if small else np.float64)
            return columns.astype(np.float64), rows.astype(np.float64)

        parts = in_pieces(part, range(0, height, _ROWS), values=pixels.size)
        columns = np.zeros(width)
        for one, _ in parts:
            columns += one
        return columns, np.concatenate([rows for _, rows in parts])

    def _used_or_zero(self, block: NDArray[np.generic]) -> _WHOLE:
        values = block.astype(np.float64)
        used = np.isfinite(values)
        if not self._everything:
            lowest, highest = self.values[[0, -1]] if self.values.size else (np.inf, -np.inf)
            used &= (values >= lowest) & (values <= highest)
        return np.where(used, values, 0.0)


def has_levels(plane: Plane) -> bool:
    """Whether the plane's values are levels few enough to be counted one by one."""
    return plane.lattice is not None and plane.clipped is None


def level_values(
    plane: Plane, *, exclude_saturated: bool = False, exclude_empty: bool = False
) -> LevelValues | None:
    """Return the values of a native plane by level; None where its values are too many."""
    if not has_levels(plane):
        return None
    lattice = plane.lattice or Lattice(0.0, 1.0)
    histogram = histogram_of_values(plane.pixels, lattice)
    if not histogram.levels:
        return None
    return LevelValues(
        plane, histogram, exclude_saturated=exclude_saturated, exclude_empty=exclude_empty
    )

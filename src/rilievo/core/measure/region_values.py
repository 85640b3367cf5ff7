"""The pixels of all regions, grouped once, from which every quantity is computed.

Grouping depends on the regions alone and is shared by the channels. What the quantities need is
found by compiled loops, some regions at a time, so that no copy of all values is ever held.
"""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Plane
from rilievo.core.measure.region_index import Floats, RegionForm, RegionIndex
from rilievo.core.tiled_map import in_pieces

# Regions of so many pixels are sorted faster by NumPy than by the compiled loop.
_WORTH_SORTING = 200

if TYPE_CHECKING:
    from rilievo.core.measure.stars.apertures import StarTable
    from rilievo.core.measure.stars.star_settings import StarCircles

# Percentiles that have a key of their own, found together.
SHARES = (0.01, 0.05, 0.25, 0.5, 0.75, 0.95, 0.99)
# A local ring begins so far outside its region and is so wide, pixels.
RING_GAP, RING_WIDTH = 2.0, 5.0


class RegionValues:
    """Signal and native values of one channel at the pixels of a RegionIndex.

    Undefined pixels, and saturated or empty ones if asked, are left out; the counts of all of
    them are kept. Each number is one per region, NaN where no pixel is measured.
    ring : gap and width of the local ring, pixels. aperture : how stars are measured, for a class
    of stars; growth : of their light beyond it, None for that of these stars themselves.
    """

    def __init__(
        self,
        index: RegionIndex,
        signal: Plane,
        native: Plane,
        *,
        exclude_saturated: bool = False,
        exclude_empty: bool = False,
        ring: tuple[float, float] = (RING_GAP, RING_WIDTH),
        aperture: StarCircles | None = None,
        growth: tuple[float, float] | None = None,
    ) -> None:
        self.index = index
        self.calibration = native.calibration
        self.signal = signal
        self.native_plane = native
        self.aperture = aperture
        self._growth = growth
        self._ring_size = ring
        self._exclude = {"saturated": exclude_saturated, "empty": exclude_empty}

    def gathered(self, some: NDArray[Any]) -> tuple[Floats, Floats, dict[str, NDArray[np.bool_]]]:
        """Return signal, native values and masks at the pixels of regions at indices in a row.

        The masks are “undefined”, “saturated”, “empty” and “used”.
        """
        first, end = self.index.starts[some[0]], self.index.starts[some[-1] + 1]
        at = self.index.pixels[first:end]
        signal = self.signal.pixels.ravel()[at].astype(np.float64)
        native = self.native_plane.pixels.ravel()[at].astype(np.float64)
        defined = np.isfinite(signal) & np.isfinite(native)
        plane = self.native_plane
        if plane.clipped is not None:
            saturated = plane.clipped.ravel()[at] & defined
        else:
            saturated = (native >= or_nan(plane.saturation)) & defined
        empty = (native <= or_nan(plane.empty)) & defined
        used = defined.copy()
        for mask, left_out in (
            (saturated, self._exclude["saturated"]),
            (empty, self._exclude["empty"]),
        ):
            if left_out:
                used &= ~mask
        masks = {"undefined": ~defined, "saturated": saturated, "empty": empty, "used": used}
        return signal, native, masks

    @cached_property
    def _moments(self) -> dict[str, Floats]:
        """What moments_of finds, and how many pixels are of each kind."""
        from rilievo.core.measure.measure_kernels import MOMENTS, moments_of  # noqa: PLC0415 (compiled)

        index, kinds = self.index, ("saturated", "empty", "undefined")

        def part(some: NDArray[np.int64]) -> Floats:
            signal, native, masks = self.gathered(some)
            starts = index.starts[some[0] : some[-1] + 2]
            bounds = starts - starts[0]
            at = index.pixels[starts[0] : starts[-1]]
            moments = moments_of(signal, native, masks["used"], at, bounds, index.shape[1])
            counts = [_counted(masks[kind], bounds) for kind in kinds]
            return np.column_stack([moments, *counts])

        parts = in_pieces(part, index.together(), values=index.pixels.size)
        names = (*MOMENTS, *kinds)
        stacked = np.concatenate(parts) if parts else np.zeros((0, len(names)))
        return dict(zip(names, stacked.T, strict=True))

    def _ordered(self, shares: tuple[float, ...]) -> Floats:
        """What order_of finds, shape (n, 4 + shares)."""
        from rilievo.core.measure.measure_kernels import order_of  # noqa: PLC0415 (compiled)

        index = self.index
        low, high = self.plane_range
        levels = self.signal.lattice is not None

        def part(some: NDArray[np.int64]) -> Floats:
            signal, _, masks = self.gathered(some)
            used = masks["used"]
            starts = index.starts[some[0] : some[-1] + 2]
            bounds = starts - starts[0]
            if len(some) == 1:
                # One large region: NumPy sorts faster, and what is in order is left alone.
                signal, used = np.sort(signal[used]), np.ones(int(used.sum()), np.bool_)
                bounds = np.array([0, signal.size])
            elif used.all():
                for k in np.flatnonzero(np.diff(bounds) >= _WORTH_SORTING):
                    signal[bounds[k] : bounds[k + 1]].sort()
            ordered = order_of(signal, used, bounds, np.array(shares), levels, low, high)
            return np.asarray(ordered, dtype=np.float64)

        parts = in_pieces(part, index.together(), values=index.pixels.size)
        return np.concatenate(parts) if parts else np.zeros((0, 4 + len(shares)))

    @cached_property
    def _in_order(self) -> Floats:
        return self._ordered(SHARES)

    @cached_property
    def ring(self) -> RegionValues:
        """The values of the ring around each region."""
        return RegionValues(
            self.index.ring(*self._ring_size, self.calibration.ratio),
            self.signal,
            self.native_plane,
            exclude_saturated=self._exclude["saturated"],
            exclude_empty=self._exclude["empty"],
        )

    @cached_property
    def stars(self) -> StarTable | None:
        """What is measured of each star; None for regions that are no stars."""
        if self.aperture is None:
            return None
        from rilievo.core.measure.stars.apertures import measured_stars  # noqa: PLC0415 (compiled)

        return measured_stars(self.index, self.signal, self.aperture, self._growth)

    @cached_property
    def form(self) -> RegionForm:
        """The form of regions with the true sides of pixels, in the sample's unit or in pixels."""
        return self.index.form_in(self.sides)

    @property
    def sides(self) -> tuple[float, float]:
        """Width and height of a pixel in the sample's unit; 1 and 1 without a calibration."""
        return self.calibration.sides or (1.0, 1.0)

    def count_of(self, kind: str) -> Floats:
        """Return per region how many of all its pixels are of a kind, excluded or not.

        kind : "saturated", "empty", "undefined", or "negative" (signal < 0, of the used pixels).
        """
        return self._moments[kind]

    @property
    def has_saturation(self) -> bool:
        """Whether it is known from which level on pixels are saturated."""
        return self.native_plane.clipped is not None or self.native_plane.saturation is not None

    @property
    def n(self) -> Floats:
        """Pixels measured."""
        return self._moments["n"]

    @property
    def mean(self) -> Floats:
        """Mean signal."""
        return self._moments["mean"]

    @property
    def sum(self) -> Floats:
        """Sum of the signal."""
        return self.mean * self.n

    @property
    def sd(self) -> Floats:
        """Sample standard deviation (n − 1); NaN below two pixels."""
        with np.errstate(invalid="ignore", divide="ignore"):
            deviation = np.sqrt(self._moments["m2"] * (self.n / (self.n - 1)))
        return np.where(self.n > 1, deviation, np.nan)

    def moment(self, order: int) -> Floats:
        """Return the central population moment of order 2, 3 or 4."""
        return self._moments[f"m{order}"]

    @property
    def native_mean(self) -> Floats:
        """Mean of the native values."""
        return self._moments["native_mean"]

    @property
    def removed(self) -> Floats:
        """Mean of native − signal."""
        return self._moments["removed"]

    def quantile(self, share: float) -> Floats:
        """Return the percentile of the signal by linear interpolation.

        share : 0 is the minimum, 0.5 the median, 1 the maximum. Source: Hyndman & Fan 1996, type 7.
        """
        if share in SHARES:
            return self._in_order[:, 4 + SHARES.index(share)]
        return self._ordered((share,))[:, 4]

    @property
    def median(self) -> Floats:
        """Median signal."""
        return self.quantile(0.5)

    @property
    def mad(self) -> Floats:
        """Median absolute deviation from the median."""
        return self._in_order[:, 0]

    @property
    def mean_deviation(self) -> Floats:
        """Mean absolute deviation from the median."""
        return self._in_order[:, 1]

    @property
    def mode(self) -> Floats:
        """Most frequent value where values are levels, else the half-sample mode."""
        return self._in_order[:, 2]

    @property
    def entropy(self) -> Floats:
        """Shannon entropy of 256 equal bins over the plane's range, bits."""
        return self._in_order[:, 3]

    def extreme(self, highest: bool) -> tuple[Floats, Floats, Floats]:
        """Return value, column and row of the first extreme in row order."""
        at = self._moments["first_max" if highest else "first_min"]
        defined = np.isfinite(at)
        value = np.full(self.index.count, np.nan)
        value[defined] = self.signal.pixels.ravel()[at[defined].astype(np.int64)]
        return value, at % self.index.shape[1], at // self.index.shape[1]

    @cached_property
    def brightness_centre(self) -> tuple[Floats, Floats]:
        """Centre of brightness, column and row; NaN if the sum is ≤ 0."""
        first = np.full(self.index.count, -1.0)
        some = self.index.areas > 0
        first[some] = self.index.pixels[self.index.starts[:-1][some]]
        total = np.where(self.sum > 0, self.sum, np.nan)
        width = self.index.shape[1]
        x = first % width + self._moments["away_x"] / total
        return x, first // width + self._moments["away_y"] / total

    @cached_property
    def plane_range(self) -> tuple[float, float]:
        """Lowest and highest finite value of the whole signal plane; NaN for none."""
        pixels = self.signal.pixels
        if pixels.dtype.kind != "f":
            return (float(pixels.min()), float(pixels.max())) if pixels.size else (np.nan, np.nan)
        # Row by row, so that no second image of what is finite is made.
        low, high = np.inf, -np.inf
        for row in range(0, pixels.shape[0], 64):
            block = pixels[row : row + 64]
            finite = np.isfinite(block)
            low = min(low, float(block.min(where=finite, initial=np.inf)))
            high = max(high, float(block.max(where=finite, initial=-np.inf)))
        return (low, high) if low <= high else (np.nan, np.nan)


def or_nan(level: float | None) -> float:
    """Return a level that nothing reaches where there is none."""
    return np.nan if level is None else level


def _counted(mask: NDArray[np.bool_], starts: NDArray[np.int64]) -> Floats:
    """How many of the mask lie in each stretch; a stretch may be empty."""
    before = np.concatenate([[0], np.cumsum(mask)])
    return np.asarray(before[starts[1:]] - before[starts[:-1]], dtype=np.float64)


def column(values: NDArray[Any]) -> Floats:
    """Return an array as a column of floats."""
    return np.asarray(values, dtype=np.float64)

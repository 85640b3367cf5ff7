"""How the intensities of a region are distributed: spread, percentiles, mode, form."""

from __future__ import annotations

import numpy as np

from rilievo.core.measures.quantity import Column, quantity
from rilievo.core.measures.values import Floats, RegionValues

_ENTROPY_BINS = 256


def _absolute_deviation(values: RegionValues, centre: Column) -> Floats:
    return np.abs(values.values - centre[values.group])


def _mad(values: RegionValues) -> Column:
    away = values.sorted_of(_absolute_deviation(values, values.median))
    return values.quantile_of(away, 0.5)


@quantity(
    "mad",
    title="MAD",
    unit="signal",
    family="intensity",
    definition="median absolute deviation from the median, unscaled",
)
def mad(values: RegionValues) -> Column:
    """Return median |v − median(v)|."""
    return _mad(values)


@quantity(
    "mad_sigma",
    title="MAD sigma",
    unit="signal",
    family="intensity",
    definition="1.4826 × mad: the standard deviation of a normal distribution with that mad",
)
def mad_sigma(values: RegionValues) -> Column:
    """Return 1.4826 · mad."""
    return 1.4826 * _mad(values)


@quantity(
    "mean_dev",
    title="Mean deviation",
    unit="signal",
    family="intensity",
    definition="mean absolute deviation from the median",
)
def mean_dev(values: RegionValues) -> Column:
    """Return Σ |v − median(v)| / n."""
    return values.mean_of(_absolute_deviation(values, values.median))


def half_sample_mode(ordered: Floats) -> float:
    """Return the half-sample mode of sorted values.

    The half of the sample with the smallest range is taken, the lowest on a tie, and halved
    again until three or fewer values remain; of three, the closer pair is averaged.
    Source: Bickel & Frühwirth 2006, Computational Statistics & Data Analysis 50, 3500–3530.
    """
    rest = ordered
    while rest.size > 3:
        half = (rest.size + 1) // 2
        ranges = rest[half - 1 :] - rest[: rest.size - half + 1]
        start = int(ranges.argmin())
        rest = rest[start : start + half]
    if rest.size == 3:
        below, above = rest[1] - rest[0], rest[2] - rest[1]
        if below == above:
            return float(rest[1])
        rest = rest[:2] if below < above else rest[1:]
    return float(rest.mean())


@quantity(
    "mode",
    title="Mode",
    unit="signal",
    family="intensity",
    definition=(
        "most frequent value of integer data, the lowest on a tie; half-sample mode of floating "
        "point data"
    ),
)
def mode(values: RegionValues) -> Column:
    """Return the most frequent value where values are levels, else the half-sample mode."""
    if values.signal.lattice is None:
        return values.per_region(half_sample_mode, values.sorted)
    return values.most_frequent()


def _percentile(percent: int) -> None:
    @quantity(
        f"p{percent:02}",
        title=f"P{percent}",
        unit="signal",
        family="intensity",
        definition=f"{percent} % of the pixels are at or below, by linear interpolation",
    )
    def percentile(values: RegionValues) -> Column:
        """Return the percentile (Hyndman & Fan type 7)."""
        return values.quantile(percent / 100)


for _percent in (1, 5, 25, 75, 95, 99):
    _percentile(_percent)


def _moment(values: RegionValues, order: int) -> Column:
    # A general power of an array takes ten times as long as products.
    squares = values.centred * values.centred
    powers = {2: squares, 3: squares * values.centred, 4: squares * squares}
    return values.mean_of(powers[order])


def _standardised(values: RegionValues, order: int) -> Column:
    """Return the moment divided by that power of the spread; NaN when all values are equal."""
    spread = _moment(values, 2)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(spread > 0, _moment(values, order) / spread ** (order / 2), np.nan)


@quantity(
    "skewness",
    title="Skewness",
    unit="",
    family="intensity",
    definition="g1 from population moments: 0 for a symmetric distribution",
)
def skewness(values: RegionValues) -> Column:
    """Return m₃ / m₂^1.5; NaN when all values are equal."""
    return _standardised(values, 3)


@quantity(
    "kurtosis",
    title="Kurtosis",
    unit="",
    family="intensity",
    definition="excess g2 from population moments: 0 for a normal distribution",
)
def kurtosis(values: RegionValues) -> Column:
    """Return m₄ / m₂² − 3; NaN when all values are equal."""
    return _standardised(values, 4) - 3


@quantity(
    "entropy",
    title="Entropy",
    unit="bit",
    family="intensity",
    definition="Shannon entropy of the region's 256-bin histogram over the plane's range",
)
def entropy(values: RegionValues) -> Column:
    """Return −Σ p log₂ p over 256 equal bins from the plane's lowest to its highest value."""
    low, high = values.plane_range
    if not high > low:
        return np.where(values.n > 0, 0.0, np.nan)

    bits = []
    for shares in values.shares_in_bins(low, high, _ENTROPY_BINS):
        some = shares[shares > 0]
        bits.append(-(some * np.log2(some)).sum() + 0.0 if some.size else np.nan)
    return np.array(bits, dtype=np.float64)

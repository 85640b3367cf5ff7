"""How the intensities of a region are distributed: spread, percentiles, mode, form."""

from __future__ import annotations

from functools import partial

import numpy as np

from rilievo.core.measure.quantity import QUANTITIES, Column, listed, percentile
from rilievo.core.measure.region_values import SHARES, RegionValues

_distribution = partial(listed, "intensity", order=20)


def _standardised(values: RegionValues, order: int) -> Column:
    """The moment divided by that power of the spread; NaN when all values are equal."""
    spread = values.moment(2)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(spread > 0, values.moment(order) / spread ** (order / 2), np.nan)


_distribution(
    "mad", "MAD", "MAD", "signal", "median absolute deviation from the median, unscaled",
    "median |v − ṽ|", lambda v: v.mad,
    numeric_role="difference",
)  # fmt: skip
_distribution(
    "mad_sigma", "MAD sigma", "σ(MAD)", "signal",
    "1.4826 × mad: the standard deviation of a normal distribution with that mad",
    "1.4826 · median |v − ṽ|", lambda v: 1.4826 * v.mad,
    numeric_role="difference",
)  # fmt: skip
_distribution(
    "mean_dev", "Mean deviation", "d̄", "signal", "mean absolute deviation from the median",
    "Σ |v − ṽ| / n", lambda v: v.mean_deviation,
    numeric_role="difference",
)  # fmt: skip
_distribution(
    "mode", "Mode", "mode v", "signal",
    "most frequent value of integer data, the lowest on a tie; half-sample mode of floating "
    "point data",
    "mode v", lambda v: v.mode,
    source="Bickel & Frühwirth 2006, Computational Statistics & Data Analysis 50, 3500–3530",
    numeric_role="level",
)  # fmt: skip

for _share in SHARES:
    if _share != 0.5:
        QUANTITIES.add(f"p{round(100 * _share):02}", percentile(round(100 * _share)), order=20)

_distribution(
    "skewness", "Skewness", "g₁", "",
    "g1 from population moments: 0 for a symmetric distribution", "m₃ / m₂^1.5",
    lambda v: _standardised(v, 3),
)  # fmt: skip
_distribution(
    "kurtosis", "Kurtosis", "g₂", "",
    "excess g2 from population moments: 0 for a normal distribution", "m₄ / m₂² − 3",
    lambda v: _standardised(v, 4) - 3,
)  # fmt: skip
_distribution(
    "entropy", "Entropy", "H", "bit",
    "Shannon entropy of the region's 256-bin histogram over the plane's range", "−Σ p log₂ p",
    lambda v: v.entropy, source="Shannon 1948, Bell System Technical Journal 27, 379–423",
)  # fmt: skip

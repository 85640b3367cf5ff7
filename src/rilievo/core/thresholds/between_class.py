"""The threshold that parts the histogram into two classes of largest between-class variance."""

from __future__ import annotations

import math

import numpy as np

from rilievo.core.histogram import Histogram
from rilievo.core.thresholds.threshold import ThresholdParameters, threshold


class BetweenClassThreshold(ThresholdParameters):
    """The level that parts two classes best (Otsu), found for each sample on its own."""


@threshold(
    "between_class_variance",
    title="Automatic (Otsu)",
    parameters=BetweenClassThreshold,
    automatic=True,
)
def between_class_level(
    histogram: Histogram,
    parameters: BetweenClassThreshold,  # noqa: ARG001 (it has none)
) -> float:
    """Return the level t that maximises the between-class variance.

        σ²(t) = w₀(t) · w₁(t) · (m₁(t) − m₀(t))²

    with weights w and means m of the pixels ≤ t and > t, over every bin of the full histogram.
    Several bins with the same variance (an empty stretch between the classes) give the middle
    of the stretch, so that the result does not lean on one class. NaN when all values are equal.
    Source: Otsu 1979, IEEE Transactions on Systems, Man, and Cybernetics 9, 62–66.
    """
    counts = histogram.counts.astype(np.float64)
    if np.count_nonzero(counts) < 2:
        return math.nan
    # Positions relative to the mean keep the digits when values carry a large offset.
    positions = np.arange(counts.size, dtype=np.float64)
    positions -= np.average(positions, weights=counts)
    total = counts.sum()
    weight_below = np.cumsum(counts)
    sum_below = np.cumsum(counts * positions)
    weight_above = total - weight_below
    inside = (weight_below > 0) & (weight_above > 0)
    variance = np.full(counts.size, -1.0)
    variance[inside] = (sum_below[inside] * total) ** 2 / (
        weight_below[inside] * weight_above[inside]
    )
    best = np.flatnonzero(variance >= variance.max() * (1 - 1e-12))
    bin_number = (int(best[0]) + int(best[-1])) // 2
    # Of a float bin all values lie below its upper edge; a level is its own upper edge.
    edge = bin_number + (0 if histogram.levels else 1)
    return histogram.first + edge * histogram.width

"""The threshold that parts the histogram into two classes of largest between-class variance."""

from __future__ import annotations

import math

import numpy as np

from rilievo.core.histogram import Histogram
from rilievo.core.thresholds.threshold import (
    Parted,
    ThresholdParameters,
    has_two_levels,
    level_of_bin,
    middle_of_best,
    threshold,
)


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
    if not has_two_levels(histogram):
        return math.nan
    # Places relative to the mean keep the digits of the difference of means.
    places = np.arange(histogram.counts.size)
    parted = Parted.of(histogram, -float(np.average(places, weights=histogram.counts)))
    inside, weight = parted.inside, parted.weight
    variance = np.zeros(weight.size)
    variance[inside] = (parted.first[inside] * parted.total) ** 2 / (
        weight[inside] * (parted.total - weight[inside])
    )
    return level_of_bin(histogram, middle_of_best(variance, inside))

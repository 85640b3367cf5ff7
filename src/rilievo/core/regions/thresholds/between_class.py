"""The threshold that parts the histogram into two classes of largest between-class variance."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds.threshold import (
    Parted,
    ThresholdParameters,
    best_cut,
    threshold,
)


class BetweenClassThreshold(ThresholdParameters):
    """The level that parts two classes best (Otsu), found for each sample on its own."""

    in_words: ClassVar[str] = "the threshold of largest between-class variance (Otsu 1979)"


@threshold(
    "between_class_variance",
    title="Automatic (Otsu)",
    parameters=BetweenClassThreshold,
    automatic=True,
    short_title="Otsu",
    order=30,
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
    # Places about the mean, so that the difference of the means keeps its digits.
    if histogram.total == 0:
        return math.nan
    positions = (histogram.bins - histogram.bins[0]) / histogram.step
    return best_cut(histogram, -float(np.average(positions, weights=histogram.counts)), _between)


def _between(parted: Parted) -> NDArray[np.float64]:
    """The between-class variance times the square of the pixels; positions are about the mean."""
    weight, first = parted.below
    return np.asarray((first * parted.total) ** 2 / (weight * (parted.total - weight)))

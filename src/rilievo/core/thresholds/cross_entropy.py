"""The threshold of least cross entropy between the picture and its two-level form."""

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


class CrossEntropyThreshold(ThresholdParameters):
    """The level whose two-level picture tells most of the original."""


@threshold(
    "cross_entropy",
    title="Minimum cross entropy",
    parameters=CrossEntropyThreshold,
    automatic=True,
)
def cross_entropy_level(
    histogram: Histogram,
    parameters: CrossEntropyThreshold,  # noqa: ARG001 (it has none)
) -> float:
    """Return the level t that minimises the cross entropy with the classes' means.

        η(t) = −Σ_{g ≤ t} g·h(g)·ln m₀(t) − Σ_{g > t} g·h(g)·ln m₁(t)

    g counts bins from 1 at the lowest value, so that it is positive for signals that are not.
    Several levels alike give the middle of their stretch. NaN when all values are equal.
    Source: Li & Lee 1993, Pattern Recognition 26, 617–625.
    """
    if not has_two_levels(histogram):
        return math.nan
    parted = Parted.of(histogram, 1.0)
    inside = parted.inside
    below, first = parted.weight[inside], parted.first[inside]
    above, rest = parted.total - below, parted.whole - first
    entropy = np.full(parted.weight.size, np.inf)
    entropy[inside] = -first * np.log(first / below) - rest * np.log(rest / above)
    return level_of_bin(histogram, middle_of_best(-entropy, inside))

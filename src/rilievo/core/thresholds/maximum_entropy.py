"""The threshold that leaves most information in both classes."""

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


class MaximumEntropyThreshold(ThresholdParameters):
    """The level at which both classes together are most spread out."""


@threshold(
    "maximum_entropy",
    title="Maximum entropy",
    parameters=MaximumEntropyThreshold,
    automatic=True,
)
def maximum_entropy_level(
    histogram: Histogram,
    parameters: MaximumEntropyThreshold,  # noqa: ARG001 (it has none)
) -> float:
    """Return the level t that maximises the sum of the entropies of both classes.

        H(t) = −Σ_{g ≤ t} (p/P)·ln(p/P) − Σ_{g > t} (p/(1−P))·ln(p/(1−P)),   P = Σ_{g ≤ t} p

    Several levels alike give the middle of their stretch. NaN when all values are equal.
    Source: Kapur, Sahoo & Wong 1985, Computer Vision, Graphics, and Image Processing 29, 273–285.
    """
    if not has_two_levels(histogram):
        return math.nan
    parted = Parted.of(histogram)
    some = parted.counts > 0
    # With counts n: Σ (n/N)·ln(n/N) = (Σ n·ln n) / N − ln N.
    terms = np.zeros(parted.counts.size)
    terms[some] = parted.counts[some] * np.log(parted.counts[some])
    summed = np.cumsum(terms)
    inside = parted.inside
    below = parted.weight[inside]
    above = parted.total - below
    entropy = np.full(parted.weight.size, -np.inf)
    entropy[inside] = (
        np.log(below)
        - summed[inside] / below
        + np.log(above)
        - (summed[-1] - summed[inside]) / above
    )
    return level_of_bin(histogram, middle_of_best(entropy, inside))

"""The threshold half way between the means of the classes that it parts."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds.threshold import (
    Parted,
    ThresholdParameters,
    has_two_levels,
    threshold,
)

_MOST_ROUNDS = 10_000


class IterativeMeanThreshold(ThresholdParameters):
    """Half way between the means of both classes, repeated until it stays."""

    in_words: ClassVar[str] = "the iterative mean threshold (Ridler & Calvard 1978)"


@threshold(
    "iterative_mean",
    title="Iterative mean",
    parameters=IterativeMeanThreshold,
    automatic=True,
    short_title="mean",
    order=80,
)
def iterative_mean_level(
    histogram: Histogram,
    parameters: IterativeMeanThreshold,  # noqa: ARG001 (it has none)
) -> float:
    """Return the level t = (m₀(t) + m₁(t)) / 2 that is reached from the mean of all pixels.

    m₀ and m₁ are the means of the bins ≤ t and > t. NaN when all values are equal.
    Source: Ridler & Calvard 1978, IEEE Transactions on Systems, Man, and Cybernetics 8, 630–632.
    """
    if not has_two_levels(histogram):
        return math.nan
    parted = Parted.of(histogram)
    index = parted.whole / parted.total
    for _ in range(_MOST_ROUNDS):
        cut = int(np.floor(index))
        below, first = parted.weight[cut], parted.first[cut]
        after = (first / below + (parted.whole - first) / (parted.total - below)) / 2
        if int(np.floor(after)) == cut:
            index = after
            break
        index = after
    offset = 0.0 if histogram.levels else 0.5
    return float(histogram.first + (index + offset) * histogram.width)

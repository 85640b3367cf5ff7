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
    position = parted.whole / parted.total
    for _ in range(_MOST_ROUNDS):
        cut = _bin_below(parted, position)
        below, first = parted.weight[cut], parted.first[cut]
        position = (first / below + (parted.whole - first) / (parted.total - below)) / 2
        if _bin_below(parted, position) == cut:
            break
    offset = 0.0 if histogram.levels else 0.5
    start = float(histogram.bins[0]) + offset
    return histogram.first + (start + float(position) * histogram.step) * histogram.width


def _bin_below(parted: Parted, position: float) -> int:
    """The last bin at or below a position that lies between the first and the last."""
    return int(np.searchsorted(parted.positions, position, side="right")) - 1

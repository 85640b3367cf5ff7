"""The threshold that leaves most information in both classes."""

from __future__ import annotations

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


class MaximumEntropyThreshold(ThresholdParameters):
    """The level at which both classes together are most spread out."""

    in_words: ClassVar[str] = "the threshold of maximum entropy (Kapur, Sahoo & Wong 1985)"


@threshold(
    "maximum_entropy",
    title="Maximum entropy",
    parameters=MaximumEntropyThreshold,
    automatic=True,
    short_title="max ent.",
    order=110,
)
def maximum_entropy_level(
    histogram: Histogram,
    parameters: MaximumEntropyThreshold,  # noqa: ARG001 (it has none)
) -> float:
    """Return the level t that maximises the sum of the entropies of both classes.

        H(t) = −Σ_{g ≤ t} (p/P)·ln(p/P) − Σ_{g > t} (p/(1−P))·ln(p/(1−P)),   P = Σ_{g ≤ t} p

    p are shares of bins as wide as the spread of the values asks for (`Histogram.by_spread`):
    where hardly two pixels share a level, single levels tell nothing of a class's entropy.
    Several levels alike give the middle of their stretch. NaN when all values are equal.
    Source: Kapur, Sahoo & Wong 1985, Computer Vision, Graphics, and Image Processing 29, 273–285.
    """
    return best_cut(histogram.by_spread(), 0.0, _both_entropies)


def _both_entropies(parted: Parted) -> NDArray[np.float64]:
    """The sum of the entropies of both classes: with counts n, ln N − (Σ n·ln n) / N for each."""
    summed = np.cumsum(parted.counts * np.log(parted.counts))
    below, above = parted.below[0], parted.above[0]
    inside = summed[:-1]
    return np.asarray(
        np.log(below) - inside / below + np.log(above) - (summed[-1] - inside) / above
    )

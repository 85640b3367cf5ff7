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

    Several levels alike give the middle of their stretch. NaN when all values are equal.
    Source: Kapur, Sahoo & Wong 1985, Computer Vision, Graphics, and Image Processing 29, 273–285.
    """
    return best_cut(histogram, 0.0, _both_entropies)


def _both_entropies(parted: Parted) -> NDArray[np.float64]:
    """The sum of the entropies of both classes: with counts n, ln N − (Σ n·ln n) / N for each."""
    some = parted.counts > 0
    terms = np.zeros(parted.counts.size)
    terms[some] = parted.counts[some] * np.log(parted.counts[some])
    summed = np.cumsum(terms)
    below, above = parted.below[0], parted.above[0]
    inside = summed[parted.inside]
    return np.asarray(
        np.log(below) - inside / below + np.log(above) - (summed[-1] - inside) / above
    )

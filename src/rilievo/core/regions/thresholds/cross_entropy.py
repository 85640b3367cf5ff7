"""The threshold of least cross entropy between the picture and its two-level form."""

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


class CrossEntropyThreshold(ThresholdParameters):
    """The level whose two-level picture tells most of the original."""

    in_words: ClassVar[str] = "the threshold of minimum cross entropy (Li & Lee 1993)"


@threshold(
    "cross_entropy",
    title="Minimum cross entropy",
    parameters=CrossEntropyThreshold,
    automatic=True,
    short_title="cross ent.",
    order=70,
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
    return best_cut(histogram, 1.0, _told)


def _told(parted: Parted) -> NDArray[np.float64]:
    """Minus the cross entropy."""
    return np.asarray(
        sum(first * np.log(first / weight) for weight, first in (parted.below, parted.above))
    )

"""The threshold some robust sigmas beside the background's most frequent value."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.histogram import Histogram
from rilievo.core.robust import NORMAL
from rilievo.core.thresholds.threshold import ThresholdParameters, has_two_levels, threshold


class BackgroundSigmas(ThresholdParameters):
    """The background's mode plus so many of its robust sigmas."""

    sigmas: float = Field(
        5.0, ge=-100, le=100, title="Sigmas", description="negative for dark objects",
        json_schema_extra={"unit": "sigma", "step": 0.5},
    )  # fmt: skip


@threshold(
    "background_sigmas",
    title="Background + sigmas",
    parameters=BackgroundSigmas,
    automatic=True,
)
def background_sigmas_level(histogram: Histogram, parameters: BackgroundSigmas) -> float:
    """Return mode + k·σ of the background.

    The mode is the half-sample mode; σ = 1.4826 × the median distance from the mode of the pixels
    on the side without objects: at or below it for k ≥ 0, at or above it for k < 0. A σ of 0
    counts as one bin. NaN when all values are equal.
    Source: Bickel & Frühwirth 2006, Computational Statistics & Data Analysis 50, 3500–3530.
    """
    if not has_two_levels(histogram):
        return math.nan
    some = np.flatnonzero(histogram.counts)
    values, counts = histogram.values[some], histogram.counts[some]
    mode = half_sample_mode_of_counts(values, counts)
    side = values <= mode if parameters.sigmas >= 0 else values >= mode
    away, weights = np.abs(values[side] - mode), counts[side]
    order = np.argsort(away, kind="stable")
    cumulative = np.cumsum(weights[order])
    middle = int(np.searchsorted(cumulative, cumulative[-1] / 2))
    sigma = NORMAL * float(away[order][middle])
    return mode + parameters.sigmas * max(sigma, histogram.width)


def half_sample_mode_of_counts(values: NDArray[np.float64], counts: NDArray[np.int64]) -> float:
    """Return the half-sample mode of values, ascending, that occur `counts` times; shape (n,).

    The half of the sample with the smallest range is taken, the lowest on a tie, and halved
    again, until it has one value, or two that occur once each: their mean.
    """
    while values.size > 1 and int(counts.sum()) > 2:
        ends = np.cumsum(counts)
        starts = ends - counts
        half = (int(ends[-1]) + 1) // 2
        # A half that begins within a value is no narrower than one that begins with it.
        first = np.flatnonzero(starts + half <= ends[-1])
        last = np.searchsorted(ends, starts[first] + half)
        best = int((values[last] - values[first]).argmin())
        low, high = int(first[best]), int(last[best])
        kept = counts[low : high + 1].copy()
        kept[-1] -= int(kept.sum()) - half
        values, counts = values[low : high + 1], kept
    return float(values.mean())

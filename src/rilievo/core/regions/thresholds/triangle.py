"""The threshold at the foot of the histogram's longer slope."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds.threshold import (
    ThresholdParameters,
    has_two_levels,
    level_between,
    threshold,
)


class TriangleThreshold(ThresholdParameters):
    """Where the histogram bends most between its peak and its far end, for one large class."""

    in_words: ClassVar[str] = "the triangle threshold (Zack, Rogers & Latt 1977)"


@threshold(
    "triangle",
    title="Triangle",
    parameters=TriangleThreshold,
    automatic=True,
    short_title="triangle",
    order=130,
)
def triangle_level(
    histogram: Histogram,
    parameters: TriangleThreshold,  # noqa: ARG001 (it has none)
) -> float:
    """Return the level of the bin farthest below the line from the peak to the longer end.

    The bins are as wide as the spread of the values asks for (`Histogram.by_spread`), so that
    no empty level beside the peak lies below the line. The peak is the highest bin (the lowest of
    several alike), the end the last bin that is not empty on the side where that is farther away;
    the first of several bins equally far is taken, counted from the peak. NaN when all values are
    equal.
    Source: Zack, Rogers & Latt 1977, Journal of Histochemistry & Cytochemistry 25, 741–753.
    """
    if not has_two_levels(histogram):
        return math.nan
    wide = histogram.by_spread()
    if not has_two_levels(wide):
        return level_between(histogram, 0, 1)
    bins, counts = wide.bins // wide.step, wide.counts.astype(np.float64)
    peak = int(counts.argmax())
    end = bins.size - 1 if bins[-1] - bins[peak] >= bins[peak] - bins[0] else 0
    way = 1 if end > peak else -1
    own = np.arange(peak, end + way, way)
    # Of an empty stretch, the bin nearest to the peak lies farthest below the line.
    stretches = bins[own[1:]] != bins[own[:-1]] + way
    empty = bins[own[:-1]][stretches] + way
    candidates = np.concatenate([bins[own], empty])
    heights = np.concatenate([counts[own], np.zeros(empty.size)])
    # The distance from the line is this height over a constant.
    away = (candidates - bins[peak]) / (bins[end] - bins[peak])
    below = counts[peak] + away * (counts[end] - counts[peak]) - heights
    order = np.argsort(np.abs(candidates - bins[peak]), kind="stable")
    farthest = int(candidates[order][int(below[order].argmax())])
    # Towards dark values the peak's side begins above the bin that was found.
    return wide.level_above((farthest if way > 0 else farthest - 1) * wide.step)

"""The threshold at the foot of the histogram's longer slope."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds.threshold import (
    ThresholdParameters,
    has_two_levels,
    level_of_bin,
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

    The peak is the highest bin (the lowest of several alike), the end the last bin that is not
    empty on the side where that is farther away; the first of several bins equally far is taken,
    counted from the peak. NaN when all values are equal.
    Source: Zack, Rogers & Latt 1977, Journal of Histochemistry & Cytochemistry 25, 741–753.
    """
    if not has_two_levels(histogram):
        return math.nan
    counts = histogram.counts.astype(np.float64)
    some = np.flatnonzero(counts)
    peak = int(counts.argmax())
    first, last = int(some[0]), int(some[-1])
    end = last if last - peak >= peak - first else first
    way = 1 if end > peak else -1
    bins = np.arange(peak, end + way, way)
    # The distance from the line is this height over a constant.
    line = counts[peak] + (bins - peak) / (end - peak) * (counts[end] - counts[peak])
    farthest = int(bins[int((line - counts[bins]).argmax())])
    # Towards dark values the peak's side begins above the bin that was found.
    return level_of_bin(histogram, farthest if way > 0 else farthest - 1)

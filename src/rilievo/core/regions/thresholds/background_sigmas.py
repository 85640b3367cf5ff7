"""The threshold some robust sigmas beside the background's most frequent value."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds.threshold import ThresholdParameters, has_two_levels, threshold
from rilievo.core.robust_statistics import NORMAL


class BackgroundSigmas(ThresholdParameters):
    """The background's mode plus so many of its robust sigmas."""

    in_words: ClassVar[str] = "the mode of the background plus {sigmas} robust standard deviations"

    sigmas: float = Field(
        5.0, ge=-100, le=100, title="Sigmas", description="negative for dark objects",
        json_schema_extra={"unit": "sigma", "step": 0.5},
    )  # fmt: skip


@threshold(
    "background_sigmas",
    title="Background + sigmas",
    parameters=BackgroundSigmas,
    automatic=True,
    short_title="bg + σ",
    order=10,
)
def background_sigmas_level(histogram: Histogram, parameters: BackgroundSigmas) -> float:
    """Return mode + k·σ of the background.

    The mode is that of `mode_of_counts`; σ = 1.4826 × the median distance from it of the pixels
    on the side without objects: at or below it for k ≥ 0, at or above it for k < 0. A σ of 0
    counts as one bin. NaN when all values are equal.
    """
    if not has_two_levels(histogram):
        return math.nan
    some = np.flatnonzero(histogram.counts)
    values, counts = histogram.values[some], histogram.counts[some]
    mode = mode_of_counts(values, counts, histogram.width)
    side = values <= mode if parameters.sigmas >= 0 else values >= mode
    away, weights = np.abs(values[side] - mode), counts[side]
    order = np.argsort(away, kind="stable")
    cumulative = np.cumsum(weights[order])
    middle = int(np.searchsorted(cumulative, cumulative[-1] / 2))
    sigma = NORMAL * float(away[order][middle])
    return mode + parameters.sigmas * max(sigma, histogram.width)


def mode_of_counts(values: NDArray[np.float64], counts: NDArray[np.int64], width: float) -> float:
    """Return the mode of values, ascending, that occur `counts` times; `width` is that of a bin.

    The peak of the counts smoothed by a Gaussian of 0.9 · s · N^(−1/5) (at least half a bin),
    where s is the width of the shortest stretch with half of the pixels over 1.349, the standard
    deviation if they are normal. A single peak of noise in many levels is thereby no mode.
    Source: Silverman 1986, Density Estimation for Statistics and Data Analysis, section 3.4.
    """
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    total = int(counts.sum())
    ends = np.cumsum(counts)
    half = (total + 1) // 2
    first = np.flatnonzero(ends - counts + half <= total)
    last = np.searchsorted(ends, ends[first] - counts[first] + half)
    best = int((values[last] - values[first]).argmin())
    low, high = float(values[first[best]]), float(values[last[best]])
    spread = (high - low + width) / 1.349
    smooth = max(0.9 * spread * total**-0.2, width / 2)
    step = max(smooth / 4, width / 2)
    bins = int(np.ceil((high - low + 6 * smooth) / step)) + 1
    start = low - 3 * smooth
    positions = np.rint((values - start) / step)
    inside = (positions >= 0) & (positions < bins)
    pooled = np.bincount(positions[inside].astype(np.intp), weights=counts[inside], minlength=bins)
    peak = int(ndimage.gaussian_filter1d(pooled, smooth / step, mode="constant").argmax())
    return float(np.clip(start + peak * step, values[0], values[-1]))

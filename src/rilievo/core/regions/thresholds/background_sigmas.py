"""The threshold some robust sigmas beside the background's most frequent value."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np
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
    on the side without objects: at or below it for k ≥ 0, at or above it for k < 0. Pixels of a
    level count as spread evenly over it, of which σ² is freed again by w²/12 (Sheppard's
    correction, w the distance between levels); it is w²/12 at least. NaN when all values are equal.
    Source: Sheppard 1898, Proceedings of the London Mathematical Society 29, 353–380.
    """
    if not has_two_levels(histogram):
        return math.nan
    mode = mode_of_counts(histogram)
    sigma = NORMAL * _median_distance(histogram, mode, below=parameters.sigmas >= 0)
    if histogram.levels:
        rounding = (histogram.width * histogram.step) ** 2 / 12
        sigma = math.sqrt(max(sigma**2 - rounding, rounding))
    return mode + parameters.sigmas * sigma


def _median_distance(histogram: Histogram, mode: float, *, below: bool) -> float:
    """The median distance from the mode of the pixels on one side of it."""
    if not histogram.levels and histogram.pixels is not None:
        values = histogram.pixels.ravel()
        side = values[values <= mode] if below else values[values >= mode]
        side = side[np.isfinite(side)]
        if side.size:
            return float(np.median(np.abs(side.astype(np.float64) - mode)))
    # Pixels of a bin are spread evenly over it; the mode parts its own.
    half = histogram.width * (histogram.step if histogram.levels else 1) / 2
    edges = np.stack([histogram.values - half, histogram.values + half], axis=1).ravel()
    pixels = histogram.cumulative()[1]
    at_mode = float(np.interp(mode, edges, pixels))
    middle = at_mode / 2 if below else (at_mode + float(pixels[-1])) / 2
    return abs(mode - float(np.interp(middle, pixels, edges)))


def mode_of_counts(histogram: Histogram) -> float:
    """Return the mode of the values of a histogram.

    The peak of the counts smoothed by a Gaussian of (4/5)^(1/7) · s · N^(−1/7) (at least a bin),
    where s is the width of the shortest stretch with half of the pixels over 1.349, the standard
    deviation if they are normal. A single peak of noise in many levels is thereby no mode. The
    peak lies between the steps of the sum by the parabola through the highest three.
    Source: Chacón, Duong & Wand 2011, Statistica Sinica 21, 807–840: the width for the slope of a
    density, whose zero the mode is.
    """
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    values, counts = histogram.values, histogram.counts
    width = histogram.width * histogram.step
    total = histogram.total
    ends = histogram.at_or_below
    half = (total + 1) // 2
    first = np.flatnonzero(ends - counts + half <= total)
    last = np.searchsorted(ends, ends[first] - counts[first] + half)
    best = int((values[last] - values[first]).argmin())
    low, high = float(values[first[best]]), float(values[last[best]])
    spread = (high - low + width) / 1.349
    smooth = max(0.9686 * spread * total ** (-1 / 7), width)
    # Whole levels to a step, so that all steps hold as many.
    levels = max(1, int(smooth / (4 * width)))
    step = levels * width
    numbers = histogram.bins // histogram.step
    reach = (
        (low - 3 * smooth - histogram.first) / width,
        (high + 3 * smooth - histogram.first) / width,
    )
    inside = (numbers >= reach[0]) & (numbers <= reach[1])
    start = int(numbers[inside][0])
    positions = (numbers[inside] - start) // levels
    pad = math.ceil(3 * smooth / step)
    pooled = np.pad(np.bincount(positions, weights=counts[inside]), pad)
    heights = ndimage.gaussian_filter1d(pooled, smooth / step, mode="constant")
    peak = int(heights.argmax())
    between = 0.0
    if 0 < peak < heights.size - 1:
        before, top, after = (float(h) for h in heights[peak - 1 : peak + 2])
        bend = before - 2 * top + after
        between = (before - after) / (2 * bend) if bend < 0 else 0.0
    offset = 0.0 if histogram.levels else 0.5
    # The middle of the levels of a step, in levels.
    middle = start + (peak - pad + between) * levels + (levels - 1) / 2 + offset
    return float(np.clip(histogram.first + middle * width, values[0], values[-1]))

"""How many clearly parted populations a histogram shows: the number of gray classes to suggest.

The costs of Ward's merges do not tell it: one far population outweighs all gaps between the
others. Here a population is a peak between two slopes that noise does not explain.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.gray_classes import MOST_CLASSES

Floats = NDArray[np.float64]
# Slopes that are this many standard errors steep; hundreds of them are looked at.
_STEEP = 4.5
# Populations with a smaller share of the pixels are not looked for.
_TAIL = 0.0005
_SCALES = (1, 2, 4, 8)
_MOST_STEPS = 1 << 16
_STEPS_A_WIDTH = 3


def suggested_classes(histogram: Histogram) -> int:
    """Return the number of gray classes, from 2 to 8, that the histogram suggests."""
    return int(np.clip(populations(histogram), 2, MOST_CLASSES))


def populations(histogram: Histogram) -> int:
    """Return the number of peaks with a significant rise before and a significant fall behind.

    The counts are smoothed by Gaussians of 1, 2, 4 and 8 times 0.9 · σ · N^(−1/5), at least two
    levels; the width that shows most peaks is taken. A slope is significant where

        |Σ n(g) K′(g − x)| > 4.5 · √(Σ n(g) K′(g − x)²)

    0 for no pixel. Source: Chaudhuri & Marron 1999, Journal of the American Statistical
    Association 94, 807–823; the width: Silverman 1986, section 3.4.
    """
    if histogram.total == 0:
        return 0
    low, high = (histogram.quantile(share) for share in (_TAIL, 1 - _TAIL))
    inside = (histogram.values >= low) & (histogram.values <= high)
    levels = histogram.bins[inside] // histogram.step
    if levels.size < 2:
        return 1
    level = histogram.width * histogram.step
    width = max(0.9 * histogram.spread() * histogram.total**-0.2 / level, 2.0)
    counts = histogram.counts[inside].astype(np.float64)
    return max(_peaks(levels - levels[0], counts, width * scale) for scale in _SCALES)


def _peaks(levels: NDArray[np.int64], counts: Floats, width: float) -> int:
    """The number of significant peaks when counts are smoothed by a Gaussian of a width.

    levels : numbers of the levels, from 0. width : in levels.
    """
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    # Whole levels to a step, so that all steps hold as many.
    step = max(1, int(width / _STEPS_A_WIDTH), int(levels[-1]) // _MOST_STEPS)
    pad = int(np.ceil(5 * width / step))
    positions = levels // step + pad
    pooled = np.bincount(positions, weights=counts, minlength=int(positions[-1]) + pad + 1)
    away = np.arange(-pad, pad + 1) * step / width
    kernel = -away * np.exp(-(away**2) / 2)
    slope = ndimage.convolve1d(pooled, kernel, mode="constant")
    error = np.sqrt(np.maximum(ndimage.convolve1d(pooled, kernel**2, mode="constant"), 1.0))
    steep = np.flatnonzero(np.abs(slope) > _STEEP * error)
    rising = slope[steep] > 0
    # A peak lies wherever the steep slopes change from rising to falling.
    return int(np.count_nonzero(rising[:-1] & ~rising[1:]))

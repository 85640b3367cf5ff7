"""One automatic level for all samples of a batch, from their histograms together."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from rilievo.core.errors import StepError
from rilievo.core.image.histogram import Histogram, summed_bins
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis

# Levels of two samples so near, in distances between levels, are the same.
_ALIGNED = 1e-6


def pooled_classes(method: Method) -> tuple[int, ...]:
    """Return the indices of the classes whose level all samples have in common."""
    return tuple(
        index
        for index, outline in enumerate(method.outlines)
        if outline.source == "threshold"
        and outline.threshold.pooled
        and outline.threshold.entry.automatic
    )


def with_pooled_levels(method: Method, analyses: Iterable[Analysis]) -> Method:
    """Return the method with the level of each pooled class found from all samples together.

    A sample to which the steps cannot be applied is left out; that is said where it is measured.
    """
    positions = pooled_classes(method)
    if not positions:
        return method
    histograms_of: dict[int, list[Histogram]] = {index: [] for index in positions}
    for analysis in analyses:
        try:
            histogram_of = pooled_histograms(analysis)
        except StepError:
            continue
        for index, histogram in histogram_of.items():
            histograms_of[index].append(histogram)
    for index in positions:
        method = with_pooled_level(method, index, histograms_of[index])
    return method


def pooled_histograms(analysis: Analysis) -> dict[int, Histogram]:
    """Return what a sample adds to the level of each pooled class. Raises StepError."""
    return {
        index: analysis.of_class(index).histogram() for index in pooled_classes(analysis.method)
    }


def with_pooled_level(method: Method, index: int, histograms: Sequence[Histogram]) -> Method:
    """Return the method with the level of a class found from histograms together."""
    outline = method.outlines[index]
    alone = outline.threshold.model_copy(update={"pooled": False})
    level = alone.level(joined(histograms))
    use = outline.threshold.model_copy(
        update={"pooled_level": None if np.isnan(level) else float(level)}
    )
    return method.with_outline(outline.model_copy(update={"threshold": use}), index)


def joined(histograms: Sequence[Histogram]) -> Histogram:
    """Return the histogram of all pixels together, each sample with the weight of its pixels.

    Levels of one spacing keep it; else each bin counts where its middle lies, in bins of the
    finest of all widths.
    """
    some = [histogram for histogram in histograms if histogram.total]
    if not some:
        return Histogram.nothing()
    low = min(histogram.first for histogram in some)
    ends = min(histogram.lowest for histogram in some), max(histogram.highest for histogram in some)
    width = min(histogram.width for histogram in some)
    shifts = [(histogram.first - low) / width for histogram in some]
    levels = all(histogram.levels and histogram.width == width for histogram in some) and all(
        abs(shift - round(shift)) < _ALIGNED for shift in shifts
    )
    if levels:
        numbers = [
            histogram.bins + round(shift) for histogram, shift in zip(some, shifts, strict=True)
        ]
    else:
        numbers = [
            np.floor((histogram.values - low) / width).astype(np.int64) for histogram in some
        ]
    bins, counts = summed_bins(
        np.concatenate(numbers), np.concatenate([histogram.counts for histogram in some])
    )
    return Histogram(bins, counts, low, width, levels, *ends).within_most_bins()

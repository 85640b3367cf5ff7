"""Histograms of the channels that a colour range can be set on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.evaluate import Evaluator
from rilievo.core.image import Sample
from rilievo.core.method import Method
from rilievo.core.thresholds.colour import HSV, RGB, hue_saturation_value

_BINS = 64


@dataclass(frozen=True, eq=False)
class ChannelCounts:
    """Pixels in 64 bins: middles of the bins, counts, and the range they cover."""

    values: NDArray[np.float64]
    counts: NDArray[np.float64]
    ends: tuple[float, float]


def colour_counts(
    evaluator: Evaluator, sample: Sample, method: Method, space: str
) -> dict[str, ChannelCounts]:
    """Return the histograms of all channels of a sample, or of hue, saturation and value.

    Raises StepError when the sample has no red, green and blue for hues.
    """
    sample = evaluator.prepared(sample, method)
    if space != "hsv":
        planes = {
            name: evaluator.signal(sample, name, method).as_float() for name in sample.channel_names
        }
        return {name: _counts(values, None) for name, values in planes.items()}
    missing = [name for name in RGB if name not in sample.channels]
    if missing:
        raise StepError(
            f"Sample “{sample.name}” has no channel {missing[0]}, so it has no hue; choose ranges "
            "of channels."
        )
    found = hue_saturation_value(
        *(evaluator.signal(sample, name, method).as_float() for name in RGB)
    )
    fixed = {"hue": (0.0, 360.0), "saturation": (0.0, 1.0)}
    return {name: _counts(values, fixed.get(name)) for name, values in zip(HSV, found, strict=True)}


def _counts(values: NDArray[np.floating], ends: tuple[float, float] | None) -> ChannelCounts:
    finite = values[np.isfinite(values)]
    if ends is None:
        ends = (float(finite.min()), float(finite.max())) if finite.size else (0.0, 1.0)
        if ends[1] <= ends[0]:
            ends = (ends[0], ends[0] + 1.0)
    counts, edges = np.histogram(finite, _BINS, ends)
    return ChannelCounts((edges[:-1] + edges[1:]) / 2, counts.astype(np.float64), ends)

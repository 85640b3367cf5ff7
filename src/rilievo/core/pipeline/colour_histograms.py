"""Histograms of the channels that a colour range can be set on."""

from __future__ import annotations

from rilievo.core.errors import StepError
from rilievo.core.image.histogram import Histogram, histogram_of_values
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.thresholds.colour import HSV, RGB, hue_saturation_value


def colour_histograms(analysis: Analysis, space: str) -> dict[str, Histogram]:
    """Return the histograms of all channels of a sample, or of hue, saturation and value.

    Raises StepError when the sample has no red, green and blue for hues.
    """
    sample = analysis.sample
    if space != "hsv":
        return {name: analysis.histogram(name) for name in sample.channel_names}
    missing = [name for name in RGB if name not in sample.channels]
    if missing:
        raise StepError(
            f"Sample “{sample.name}” has no channel {missing[0]}, so it has no hue; choose ranges "
            "of channels."
        )
    planes = hue_saturation_value(*(analysis.signal(name).as_float() for name in RGB))
    return {
        name: histogram_of_values(values, None) for name, values in zip(HSV, planes, strict=True)
    }

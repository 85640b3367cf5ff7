"""The threshold with a given share of the pixels at or below it."""

from __future__ import annotations

from typing import ClassVar

from pydantic import Field

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds.threshold import ThresholdParameters, threshold


class PercentileThreshold(ThresholdParameters):
    """The level with so many per cent of the pixels at or below it."""

    in_words: ClassVar[str] = "the {percent}th percentile"

    percent: float = Field(
        95.0, ge=0, le=100, title="Percentile",
        json_schema_extra={"unit": "%", "step": 0.5},
    )  # fmt: skip


@threshold(
    "percentile",
    title="Percentile",
    parameters=PercentileThreshold,
    automatic=True,
    short_title="percentile",
    order=120,
)
def percentile_level(histogram: Histogram, parameters: PercentileThreshold) -> float:
    """Return the lowest bin value with at least that share of the pixels at or below it.

    NaN when there is no finite pixel.
    """
    return histogram.quantile(parameters.percent / 100)

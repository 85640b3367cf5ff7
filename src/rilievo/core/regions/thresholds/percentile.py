"""The threshold with a given share of the pixels at or below it."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds.threshold import ThresholdParameters, threshold


class PercentileThreshold(ThresholdParameters):
    """The level with so many per cent of the pixels at or below it."""

    in_words: ClassVar[str] = "the {percent}th percentile"

    percent: float = Field(
        95.0,
        ge=0,
        le=100,
        title="Percentile",
        json_schema_extra={"unit": "%", "step": 0.5},
        description="share of pixels that lie below the threshold",
    )

    def on_side(self, level: float, keep: Literal["bright", "dark"]) -> float:
        """Return the level just below the maximum for the 100th: the brightest are kept."""
        if self.percent < 100 or keep == "dark":
            return level
        return float(np.nextafter(np.float32(level), np.float32(-np.inf)))


@threshold(
    "percentile",
    title="Percentile",
    parameters=PercentileThreshold,
    automatic=True,
    short_title="percentile",
    order=120,
)
def percentile_level(histogram: Histogram, parameters: PercentileThreshold) -> float:
    """Return that percentile of the values, between two of them by linear interpolation.

    NaN when there is no finite pixel. Source: `Histogram.quantile`.
    """
    return histogram.quantile(parameters.percent / 100)

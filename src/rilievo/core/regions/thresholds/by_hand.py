"""A level set by hand, the same for every sample."""

from __future__ import annotations

from typing import ClassVar

from pydantic import Field

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds.threshold import ThresholdParameters, threshold


class HandThreshold(ThresholdParameters):
    """A level that you type or drag in the Ridges, the same for every sample."""

    in_words: ClassVar[str] = "a threshold of {level} set by hand"

    level: float = Field(
        0.0,
        title="Threshold",
        json_schema_extra={"unit": "signal"},
        description="values above it are kept, or those up to it where dark pixels are kept",
    )


@threshold(
    "hand", title="By hand", parameters=HandThreshold, automatic=False, live="level", order=40
)
def hand_level(histogram: Histogram, parameters: HandThreshold) -> float:  # noqa: ARG001
    """Return the level that was set."""
    return parameters.level

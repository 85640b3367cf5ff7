"""Pixels between two levels."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from pydantic import Field, model_validator

from rilievo.core.regions.thresholds.threshold import (
    Mask,
    Pixels,
    ThresholdParameters,
    pixel_threshold,
)


class BandThreshold(ThresholdParameters):
    """Pixels from a lower to an upper level, both included, the same for every sample."""

    in_words: ClassVar[str] = "the band from {lower} to {upper}"

    lower: float = Field(
        0.0,
        title="From",
        json_schema_extra={"unit": "signal"},
        description="values from here on are kept",
    )
    upper: float = Field(
        0.0,
        title="To",
        json_schema_extra={"unit": "signal"},
        description="values up to here are kept",
    )

    @model_validator(mode="after")
    def _ordered(self) -> BandThreshold:
        if self.upper < self.lower:
            raise ValueError("has an upper level below its lower level")
        return self


@pixel_threshold(
    "band", title="Band", parameters=BandThreshold, kind="Threshold", live="band", order=20
)
def in_band(pixels: Pixels, parameters: BandThreshold) -> Mask:
    """Return lower ≤ value ≤ upper; NaN is never kept."""
    values = pixels.values
    return np.asarray((values >= parameters.lower) & (values <= parameters.upper))

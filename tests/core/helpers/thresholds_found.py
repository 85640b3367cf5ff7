"""What several tests have in common: thresholds found."""

from __future__ import annotations

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.thresholds import THRESHOLDS


def level(way: str, histogram: Histogram, **parameters: float) -> float:
    entry = THRESHOLDS[way]
    assert entry.find is not None
    return entry.find(histogram, entry.parameters(**parameters))

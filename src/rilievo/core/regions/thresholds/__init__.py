"""Thresholds: one module a way to find the level or the pixels, behind one registry."""

from rilievo.core.regions.thresholds.threshold import (
    THRESHOLDS,
    Threshold,
    ThresholdParameters,
    automatic_levels,
    threshold,
)

__all__ = ["THRESHOLDS", "Threshold", "ThresholdParameters", "automatic_levels", "threshold"]

THRESHOLDS.discover()

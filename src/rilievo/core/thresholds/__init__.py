"""Thresholds: one module a way to find the level, behind one registry."""

from rilievo.core.thresholds.threshold import (
    THRESHOLDS,
    Threshold,
    ThresholdParameters,
    threshold,
)

__all__ = ["THRESHOLDS", "Threshold", "ThresholdParameters", "threshold"]

THRESHOLDS.discover()

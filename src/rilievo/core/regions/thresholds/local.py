"""Thresholds that follow the surroundings of each pixel."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.image import FloatPixels
from rilievo.core.regions.thresholds.threshold import (
    Mask,
    Pixels,
    ThresholdParameters,
    pixel_threshold,
)
from rilievo.core.signal import smoothing


class _LocalThreshold(ThresholdParameters):
    window: float = Field(
        51.0, ge=1, le=5000, title="Window", description="side of the square looked at",
        json_schema_extra={"step": 2},
    )  # fmt: skip
    window_in: Literal["px", "unit"] = Field(
        "px", title="Window in", description="pixels, or calibrated units of each sample"
    )

    def side(self, pixels: Pixels) -> int:
        """Return the odd side of the window in pixels. Raises StepError without a calibration."""
        if self.window_in == "px":
            return max(1, round(self.window)) | 1
        size = pixels.calibration.pixel_size
        if size is None:
            raise StepError(
                "The window of the local threshold is given in calibrated units, but the sample "
                "has no pixel size; give it in pixels."
            )
        return max(1, round(self.window / size)) | 1


class MeanMinusOffset(_LocalThreshold):
    """The mean of the surroundings minus an offset, for uneven light that stays."""

    in_words: ClassVar[str] = "a local threshold, the mean over {window} {window_in} minus {offset}"

    offset: float = Field(
        0.0, title="Offset", description="negative for a level above the surroundings",
        json_schema_extra={"unit": "signal"},
    )  # fmt: skip


class SauvolaThreshold(_LocalThreshold):
    """The mean of the surroundings, moved by how much they vary (Sauvola)."""

    in_words: ClassVar[str] = (
        "a local threshold over {window} {window_in} with k = {k} (Sauvola & Pietikäinen 2000)"
    )

    k: float = Field(0.2, ge=-1, le=1, title="k", json_schema_extra={"step": 0.05})
    largest_sd: float | None = Field(
        None, gt=0, title="Largest sd", description="empty for half the range of the signal",
        json_schema_extra={"unit": "signal", "empty": "automatic"},
    )  # fmt: skip


def _kept(values: FloatPixels, level: FloatPixels, keep: str) -> Mask:
    return np.asarray(values > level if keep == "bright" else values <= level, np.bool_)


@pixel_threshold(
    "mean_minus_offset",
    title="Mean − offset",
    parameters=MeanMinusOffset,
    kind="Local",
    order=90,
)
def above_local_mean(pixels: Pixels, parameters: MeanMinusOffset) -> Mask:
    """Return value > m − offset (bright) or ≤ (dark), m the mean of the window around the pixel.

    The border is mirrored; undefined pixels do not count and are never kept.
    """
    values = pixels.values
    level = smoothing.mean(values, parameters.side(pixels)) - parameters.offset
    return _kept(values, level, pixels.keep)


@pixel_threshold("sauvola", title="Sauvola", parameters=SauvolaThreshold, kind="Local", order=100)
def above_sauvola(pixels: Pixels, parameters: SauvolaThreshold) -> Mask:
    """Return value > T (bright) or ≤ T (dark) with T = m · (1 + k · (s / R − 1)).

    m and s are mean and standard deviation (n) of the window, R the largest standard deviation
    possible, by default half the range of the signal. The border is mirrored.
    Source: Sauvola & Pietikäinen 2000, Pattern Recognition 33, 225–236.
    """
    values = pixels.values.astype(np.float64)
    side = parameters.side(pixels)
    finite = values[np.isfinite(values)]
    if finite.size == 0:
        return np.zeros(values.shape, np.bool_)
    # Squares of values about their middle keep the digits of a small spread.
    anchor = float(np.median(finite[:: max(1, finite.size // 100_000)]))
    away = values - anchor
    middle = smoothing.mean(away, side)
    spread = np.sqrt(np.maximum(smoothing.mean(away**2, side) - middle**2, 0.0))
    largest = parameters.largest_sd or float(finite.max() - finite.min()) / 2 or 1.0
    level = (middle + anchor) * (1 + parameters.k * (spread / largest - 1))
    return _kept(values, level, pixels.keep)

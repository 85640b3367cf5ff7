"""Thresholds that follow the surroundings of each pixel."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

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
        size = pixels.calibration.square_side("The window of the local threshold", pixels.name)
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

    k: float = Field(
        0.2,
        ge=-1,
        le=1,
        title="k",
        json_schema_extra={"step": 0.05},
        description="how much the local spread lowers the threshold",
    )
    largest_sd: float | None = Field(
        None, gt=0, title="Largest sd", description="empty for half the range of the signal",
        json_schema_extra={"unit": "signal", "empty": "automatic"},
    )  # fmt: skip


@dataclass(frozen=True, eq=False)
class _Surroundings:
    """Values about an anchor among them, and their mean in the window around each pixel.

    Differences from a value keep the digits of small spreads; sums of whole numbers are exact, so
    that a pixel that equals its surroundings never lies above them by rounding.
    """

    away: NDArray[np.float64]
    mean: NDArray[np.float64]
    mean_square: NDArray[np.float64] | None
    anchor: float

    @classmethod
    def of(cls, values: FloatPixels, side: int, *, squares: bool = False) -> _Surroundings:
        """Return what surrounds each pixel; undefined pixels do not count and are NaN."""
        defined = np.isfinite(values)
        finite = values[defined]
        step = max(1, finite.size // 100_000)
        anchor = float(np.sort(finite[::step])[finite[::step].size // 2]) if finite.size else 0.0
        away = np.where(defined, values, anchor).astype(np.float64) - anchor
        count = smoothing.box_sums(defined.astype(np.float64), side)
        with np.errstate(divide="ignore", invalid="ignore"):
            mean = np.where(defined, smoothing.box_sums(away, side) / count, np.nan)
            square = smoothing.box_sums(away**2, side) / count if squares else None
        return cls(np.where(defined, away, np.nan), mean, square, anchor)


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
    around = _Surroundings.of(pixels.values, parameters.side(pixels))
    return _kept(around.away, around.mean - parameters.offset, pixels.keep)


@pixel_threshold("sauvola", title="Sauvola", parameters=SauvolaThreshold, kind="Local", order=100)
def above_sauvola(pixels: Pixels, parameters: SauvolaThreshold) -> Mask:
    """Return value > T (bright) or ≤ T (dark) with T = m · (1 + k · (s / R − 1)).

    m and s are mean and standard deviation (n) of the window, R the largest standard deviation
    possible, by default half the range of the signal. The border is mirrored.
    Source: Sauvola & Pietikäinen 2000, Pattern Recognition 33, 225–236.
    """
    values = pixels.values
    around = _Surroundings.of(values, parameters.side(pixels), squares=True)
    finite = around.away[np.isfinite(around.away)]
    if around.mean_square is None or finite.size == 0:
        return np.zeros(values.shape, np.bool_)
    spread = np.sqrt(np.maximum(around.mean_square - around.mean**2, 0.0))
    largest = parameters.largest_sd or float(finite.max() - finite.min()) / 2 or 1.0
    # m · (1 + k · (s / R − 1)) about the anchor.
    raised = parameters.k * (spread / largest - 1)
    level = around.mean + (around.mean + around.anchor) * raised
    return _kept(around.away, level, pixels.keep)

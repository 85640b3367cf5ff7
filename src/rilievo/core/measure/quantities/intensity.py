"""Intensity of regions. Definitions are in docs/quantities.md, made from what stands here."""

from __future__ import annotations

from functools import partial

import numpy as np

from rilievo.core.measure.quantity import Column, listed
from rilievo.core.measure.region_values import RING_GAP, RING_WIDTH, RegionValues

_RING = (
    f"the ring around the region, {RING_GAP:g} to {RING_GAP + RING_WIDTH:g} px away unless the "
    "method says otherwise, without pixels of any region"
)

_intensity = partial(listed, "intensity", order=10)


def _sem(values: RegionValues) -> Column:
    with np.errstate(divide="ignore", invalid="ignore"):
        return values.sd / np.sqrt(values.n)


def _cv(values: RegionValues) -> Column:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(values.mean == 0, np.nan, values.sd / values.mean)


def _sum_error(values: RegionValues) -> Column:
    error = values.signal.level_error
    return values.n * (np.nan if error is None else error)


def _calibration_error(values: RegionValues) -> Column:
    error = values.signal.curve_error
    if error is None:
        return np.full(values.index.count, np.nan)
    return error.at(values.mean)


def _saturated(values: RegionValues) -> Column:
    if not values.has_saturation:
        return np.full(values.index.count, np.nan)
    return values.count_of("saturated")


def _contrast(values: RegionValues) -> Column:
    around = values.ring.mean
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(around == 0, np.nan, (values.mean - around) / around)


def _snr(values: RegionValues) -> Column:
    spread = values.ring.sd
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(spread > 0, (values.mean - values.ring.mean) / spread, np.nan)


_intensity(
    "pixel_count", "Pixels", "n", "", "pixels measured, after exclusions", "n", lambda v: v.n,
    whole=True,
)  # fmt: skip
_intensity(
    "mean",
    "Mean",
    "v̄",
    "signal",
    "mean of the signal",
    "Σ v / n",
    lambda v: v.mean,
    numeric_role="level",
)
_intensity(
    "median", "Median", "ṽ", "signal",
    "median of the signal; of an even count the mean of the two middle values",
    "P50(v)", lambda v: v.median,
    numeric_role="level",
)  # fmt: skip
_intensity(
    "sd", "SD", "s", "signal", "sample standard deviation (n − 1); undefined for one pixel",
    "√(Σ (v − v̄)² / (n − 1))", lambda v: v.sd,
    numeric_role="difference",
)  # fmt: skip
_intensity(
    "sem",
    "SEM",
    "s/√n",
    "signal",
    "sd / √n, as if the pixels were independent",
    "s / √n",
    _sem,
    numeric_role="difference",
)
_intensity("cv", "CV", "s/v̄", "", "sd / mean; undefined for a mean of zero", "s / v̄", _cv)
_intensity(
    "min",
    "Min",
    "min v",
    "signal",
    "smallest signal",
    "min v",
    lambda v: v.extreme(False)[0],
    numeric_role="level",
)
_intensity(
    "max",
    "Max",
    "max v",
    "signal",
    "largest signal",
    "max v",
    lambda v: v.extreme(True)[0],
    numeric_role="level",
)
_intensity(
    "sum", "Sum", "Σv", "signal", "integrated intensity: sum of the signal", "Σ v",
    lambda v: v.sum,
)  # fmt: skip
_intensity(
    "sum_error", "Sum error", "σ(Σv)", "signal",
    "standard error of the sum from that of the background level, where there is one",
    "n · e, with e the standard error of the level", _sum_error,
    needs="a background step that gives one level with its error",
)  # fmt: skip
_intensity(
    "calibration_error", "Calibration error", "σ(R)", "signal",
    "standard error of the curve that a card in the picture gave, at the mean of the region; it "
    "holds for all regions alike, and is not the scatter of the region's pixels",
    "√(gᵀ·C·g), with g the curve's slopes in its parameters at the mean and C their covariance, "
    "from the residuals of the patches", _calibration_error,
    needs="a step that calibrates by a card",
)  # fmt: skip
_intensity(
    "native_mean", "Native mean", "w̄", "native",
    "mean of the native values, before any correction", "Σ w / n", lambda v: v.native_mean,
    numeric_role="level",
)  # fmt: skip
_intensity(
    "native_sum", "Native sum", "Σw", "native",
    "sum of the native values, before any correction", "Σ w", lambda v: v.native_mean * v.n,
)  # fmt: skip
_intensity(
    "background", "Background", "b̄", "native",
    "mean of what the corrections removed over the region's pixels", "Σ (w − v) / n",
    lambda v: v.removed,
    numeric_role="difference",
)  # fmt: skip
_intensity(
    "contrast", "Contrast", "C", "", f"mean against the mean of {_RING}",
    "(v̄ − r̄) / r̄, with r̄ the mean of the ring", _contrast,
    needs="pixels beside the region",
)  # fmt: skip
_intensity(
    "snr", "Signal to noise", "SNR", "", f"mean above the mean of {_RING}, in its sd",
    "(v̄ − r̄) / s(r), with r̄ and s(r) mean and sd of the ring", _snr,
    needs="pixels beside the region",
)  # fmt: skip
_intensity(
    "saturated_count", "Saturated", "n(w ≥ S)", "",
    "pixels whose native value is at or above the saturation level", "n(w ≥ S)",
    _saturated, whole=True,
    needs="a saturation level; undefined without one",
)  # fmt: skip
_intensity(
    "empty_count", "Empty", "n(w ≤ E)", "",
    "pixels whose native value is at or below the empty level, when there is one", "n(w ≤ E)",
    lambda v: v.count_of("empty"), whole=True, needs="an empty level",
)  # fmt: skip
_intensity(
    "undefined_count", "Undefined", "n(NaN)", "",
    "pixels that are NaN or infinite in the file or after the corrections", "n(v or w undefined)",
    lambda v: v.count_of("undefined"), whole=True,
)  # fmt: skip
_intensity(
    "negative_count", "Negative", "n(v < 0)", "", "measured pixels whose signal is below zero",
    "n(v < 0)", lambda v: v.count_of("negative"), whole=True,
)  # fmt: skip

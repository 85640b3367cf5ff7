"""Intensity of regions. Definitions are in docs/quantities.md, made from what stands here."""

from __future__ import annotations

import numpy as np

from rilievo.core.measures.quantity import Column, quantity
from rilievo.core.measures.values import RegionValues


@quantity(
    "pixel_count",
    title="Pixels",
    unit="",
    family="intensity",
    definition="pixels measured, after exclusions",
    whole=True,
)
def pixel_count(values: RegionValues) -> Column:
    """Return n."""
    return values.n


@quantity("mean", title="Mean", unit="signal", family="intensity", definition="mean of the signal")
def mean(values: RegionValues) -> Column:
    """Return Σ v / n."""
    return values.mean


@quantity(
    "median",
    title="Median",
    unit="signal",
    family="intensity",
    definition="median of the signal; of an even count the mean of the two middle values",
)
def median(values: RegionValues) -> Column:
    """Return the 50th percentile."""
    return values.median


@quantity(
    "sd",
    title="SD",
    unit="signal",
    family="intensity",
    definition="sample standard deviation (n − 1); undefined for one pixel",
)
def sd(values: RegionValues) -> Column:
    """Return √(Σ (v − mean)² / (n − 1))."""
    return values.sd


@quantity(
    "sem",
    title="SEM",
    unit="signal",
    family="intensity",
    definition="sd / √n, as if the pixels were independent",
)
def sem(values: RegionValues) -> Column:
    """Return sd / √n."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return values.sd / np.sqrt(values.n)


@quantity("cv", title="CV", unit="", family="intensity", definition="sd / mean")
def cv(values: RegionValues) -> Column:
    """Return sd / mean; NaN for a mean of zero."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(values.mean == 0, np.nan, values.sd / values.mean)


@quantity("min", title="Min", unit="signal", family="intensity", definition="smallest signal")
def minimum(values: RegionValues) -> Column:
    """Return the smallest value."""
    return values.quantile(0.0)


@quantity("max", title="Max", unit="signal", family="intensity", definition="largest signal")
def maximum(values: RegionValues) -> Column:
    """Return the largest value."""
    return values.quantile(1.0)


@quantity(
    "sum",
    title="Sum",
    unit="signal",
    family="intensity",
    definition="integrated intensity: sum of the signal",
)
def integrated(values: RegionValues) -> Column:
    """Return Σ v."""
    return values.sum_of(values.values)


@quantity(
    "sum_error",
    title="Sum error",
    unit="signal",
    family="intensity",
    definition="standard error of the sum from that of the background level, where there is one",
)
def sum_error(values: RegionValues) -> Column:
    """Return n · e, with e the standard error of the level taken off all pixels; NaN for none."""
    error = values.signal.level_error
    return values.n * (np.nan if error is None else error)


@quantity(
    "native_mean",
    title="Native mean",
    unit="native",
    family="intensity",
    definition="mean of the native values, before any correction",
)
def native_mean(values: RegionValues) -> Column:
    """Return the mean of the file's own values at the same pixels."""
    return values.mean_of(values.native)


@quantity(
    "native_sum",
    title="Native sum",
    unit="native",
    family="intensity",
    definition="sum of the native values, before any correction",
)
def native_sum(values: RegionValues) -> Column:
    """Return the sum of the file's own values at the same pixels."""
    return values.sum_of(values.native)


@quantity(
    "background",
    title="Background",
    unit="native",
    family="intensity",
    definition="mean of what the corrections removed over the region's pixels",
)
def background(values: RegionValues) -> Column:
    """Return the mean of native − signal."""
    return values.mean_of(values.native - values.values)


@quantity(
    "saturated_count",
    title="Saturated",
    unit="",
    family="intensity",
    definition="pixels whose native value is at or above the saturation level",
    whole=True,
)
def saturated_count(values: RegionValues) -> Column:
    """Return how many pixels of the region are saturated, excluded or not."""
    return values.count_of("saturated")


@quantity(
    "empty_count",
    title="Empty",
    unit="",
    family="intensity",
    definition="pixels whose native value is at or below the empty level, when there is one",
    whole=True,
)
def empty_count(values: RegionValues) -> Column:
    """Return how many pixels of the region are empty, excluded or not."""
    return values.count_of("empty")


@quantity(
    "undefined_count",
    title="Undefined",
    unit="",
    family="intensity",
    definition="pixels that are NaN or infinite in the file or after the corrections",
    whole=True,
)
def undefined_count(values: RegionValues) -> Column:
    """Return how many pixels of the region have no value."""
    return values.count_of("undefined")


@quantity(
    "negative_count",
    title="Negative",
    unit="",
    family="intensity",
    definition="measured pixels whose signal is below zero",
    whole=True,
)
def negative_count(values: RegionValues) -> Column:
    """Return how many measured pixels lie below zero."""
    return values.count_of("negative")

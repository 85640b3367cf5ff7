"""Statistics of a group of values, and which of them stand apart."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from rilievo.core.compare.distributions import Values, t_quantile, variance
from rilievo.core.compare.observations import SamplePoint
from rilievo.core.compare.question import REGION

# Iglewicz & Hoaglin 1993, How to Detect and Handle Outliers: |0.6745 (x − median)/MAD| > 3.5.
OUTLYING, _TO_SIGMA = 3.5, 0.6744897501960817
_FEWEST = 4


@dataclass(frozen=True)
class GroupStatistics:
    """Statistics over the values of a group; NaN where there are too few.

    samples, regions : how many it has. interval : 95 % confidence interval of the mean, from
    Student's t with n − 1 degrees. ratio : mean over the mean of the group compared against.
    raw_mean : the mean as measured, where values were related to something.
    """

    group: str
    samples: int
    regions: int
    mean: float
    sd: float
    sem: float
    interval: tuple[float, float]
    median: float
    quartiles: tuple[float, float]
    ratio: float
    raw_mean: float = math.nan


@dataclass(frozen=True)
class Outlier:
    """A value far from the others of its group; region 0 is a whole sample.

    z : robust: 0.6745 · (value − median) / median absolute deviation.
    """

    sample: str
    region: int
    group: str
    value: float
    z: float


def confidence_interval(values: Values, level: float = 0.95) -> tuple[float, float]:
    """Return the interval of the mean, from Student's t; NaN below two values."""
    if values.size < 2:
        return math.nan, math.nan
    error = math.sqrt(variance(values) / values.size)
    half = t_quantile(0.5 + level / 2, values.size - 1) * error
    mean = float(values.mean())
    return mean - half, mean + half


def units_of(points: Sequence[SamplePoint], unit: str) -> Values:
    """Return the values that are compared: one a point, or one a region."""
    if unit == REGION:
        values = np.concatenate([point.values for point in points]) if points else np.zeros(0)
    else:
        values = np.array([point.value for point in points], dtype=np.float64)
    return np.asarray(values[np.isfinite(values)], dtype=np.float64)


def group_statistics(
    group: str, points: Sequence[SamplePoint], unit: str, reference: float
) -> GroupStatistics:
    """Return the statistics of one group; reference : the mean of the group compared against."""
    values = units_of(points, unit)
    nan = math.nan
    if values.size == 0:
        return GroupStatistics(group, 0, 0, nan, nan, nan, (nan, nan), nan, (nan, nan), nan)
    sd = math.sqrt(variance(values)) if values.size > 1 else nan
    mean = float(values.mean())
    low, middle, high = np.quantile(values, (0.25, 0.5, 0.75))
    return GroupStatistics(
        group=group,
        samples=sum(math.isfinite(point.value) for point in points),
        regions=sum(point.values.size for point in points),
        mean=mean,
        sd=sd,
        sem=sd / math.sqrt(values.size),
        interval=confidence_interval(values),
        median=float(middle),
        quartiles=(float(low), float(high)),
        ratio=mean / reference if reference and math.isfinite(reference) else nan,
        raw_mean=float(np.mean([point.raw for point in points])),
    )


def robust_z(values: Values) -> Values:
    """Return how far each value is from the median in robust standard deviations.

    0 where values do not spread or are too few to tell.
    """
    finite = values[np.isfinite(values)]
    if finite.size < _FEWEST:
        return np.zeros(values.shape)
    middle = float(np.median(finite))
    spread = float(np.median(np.abs(finite - middle)))
    if spread <= 0:
        return np.zeros(values.shape)
    return np.nan_to_num(_TO_SIGMA * (values - middle) / spread)


def outliers_of(group: str, points: Sequence[SamplePoint]) -> list[Outlier]:
    """Return the samples and the regions of a group that stand apart, the farthest first."""
    outliers = []
    z = robust_z(np.array([point.value for point in points], dtype=np.float64))
    for point, score in zip(points, z.tolist(), strict=True):
        if abs(score) > OUTLYING:
            outliers.append(Outlier(point.sample, 0, group, point.value, score))
    if points:
        every = np.concatenate([point.values for point in points])
        ids = np.concatenate([point.regions for point in points])
        names = [sample for point in points for sample in point.samples]
        z = robust_z(every)
        for k in np.flatnonzero(np.abs(z) > OUTLYING).tolist():
            outliers.append(Outlier(names[k], int(ids[k]), group, float(every[k]), float(z[k])))
    return sorted(outliers, key=lambda outlier: (outlier.region > 0, -abs(outlier.z)))

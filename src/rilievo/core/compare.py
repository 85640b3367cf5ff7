"""Groups of samples side by side.

The unit of comparison is the sample: regions of one sample are not independent, so each sample
enters with the mean over its regions.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import ComparisonError
from rilievo.core.measures import Quantity
from rilievo.core.regions import number_in_class
from rilievo.core.table import RegionTable

UNGROUPED = "no group"


@dataclass(frozen=True, eq=False)
class SamplePoint:
    """One sample of a comparison.

    value : mean over its regions. regions : their numbers; values : one value each.
    """

    sample: str
    value: float
    regions: NDArray[np.int64]
    values: NDArray[np.float64]


@dataclass(frozen=True)
class GroupStatistics:
    """Statistics over the samples of a group; NaN where there are too few.

    interval : 95 % confidence interval of the mean, from Student's t with n − 1 degrees.
    ratio : mean over the mean of the reference group.
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


@dataclass(frozen=True, eq=False)
class Comparison:
    """A quantity of a channel, by group.

    unit : of calibrated lengths; intensity : of the signal. column : what is compared.
    """

    quantity: str
    channel: str
    region_class: str
    unit: str
    column: Quantity
    intensity: str
    groups: tuple[str, ...]
    points: dict[str, tuple[SamplePoint, ...]]
    statistics: tuple[GroupStatistics, ...]
    without_value: tuple[str, ...]

    @property
    def label(self) -> str:
        """What is compared, in words, with its unit."""
        quantity = self.column
        unit = quantity.unit_text(self.unit, self.intensity)
        ending = f" ({unit})" if unit else ""
        title = quantity.title if quantity.title.isupper() else quantity.title.lower()
        return f"{self.channel}, {title} per {self.region_class}{ending}"

    def sentence(self) -> str:
        """Return the result in words: the group that differs most from the first."""
        known = [s for s in self.statistics if math.isfinite(s.mean)]
        if len(known) < 2 or not math.isfinite(known[-1].ratio):
            return ""
        first = known[0]
        other = max(known[1:], key=lambda s: abs(math.log(s.ratio)) if s.ratio > 0 else 0.0)
        return (
            f"{other.group}: {_with_sd(other)}, against {first.group}: {_with_sd(first)} "
            f"({self.label}; mean ± sd of {other.samples} and {first.samples} samples); "
            f"ratio {other.ratio:.2f}."
        )


def _with_sd(statistics: GroupStatistics) -> str:
    if math.isnan(statistics.sd):
        return f"{statistics.mean:.4g}"
    digits = max(0, 2 - math.floor(math.log10(statistics.sd))) if statistics.sd > 0 else 1
    digits = min(digits, 6)
    return f"{statistics.mean:.{digits}f} ± {statistics.sd:.{digits}f}"


def confidence_interval(values: NDArray[np.float64], level: float = 0.95) -> tuple[float, float]:
    """Return the interval of the mean, from Student's t; NaN below two values."""
    from scipy.special import stdtrit  # noqa: PLC0415 (slow to import)

    if values.size < 2:
        return math.nan, math.nan
    half = float(stdtrit(values.size - 1, 0.5 + level / 2)) * float(
        values.std(ddof=1) / math.sqrt(values.size)
    )
    mean = float(values.mean())
    return mean - half, mean + half


def group_statistics(
    group: str, values: NDArray[np.float64], regions: int, reference: float
) -> GroupStatistics:
    """Return the statistics of one group; `values` are those of its samples."""
    nan = math.nan
    if values.size == 0:
        return GroupStatistics(group, 0, 0, nan, nan, nan, (nan, nan), nan, (nan, nan), nan)
    sd = float(values.std(ddof=1)) if values.size > 1 else nan
    mean = float(values.mean())
    low, middle, high = np.quantile(values, (0.25, 0.5, 0.75))
    return GroupStatistics(
        group=group,
        samples=int(values.size),
        regions=regions,
        mean=mean,
        sd=sd,
        sem=sd / math.sqrt(values.size),
        interval=confidence_interval(values),
        median=float(middle),
        quartiles=(float(low), float(high)),
        ratio=mean / reference if reference else nan,
    )


def group_order(groups: Sequence[str]) -> tuple[str, ...]:
    """Return the distinct groups in the order they first appear."""
    return tuple(dict.fromkeys(group or UNGROUPED for group in groups))


def compare(
    tables: Sequence[RegionTable], quantity: str, channel: str, place: int = 0
) -> Comparison:
    """Compare a quantity of a channel between the groups of the tables.

    The first group is the reference. A sample without any defined value is left out and named. A
    region with a group of its own counts like a sample. place : of the region class. Raises
    ComparisonError when nothing was measured.
    """
    having = [t for t in tables if channel in t.columns and quantity in t.columns[channel]]
    if not having:
        raise ComparisonError(
            f"No sample has a measured “{quantity}” of channel “{channel}”; measure all samples."
        )
    found = [(table, _points_of(table, quantity, channel, place)) for table in having]
    groups = group_order([group for _, points in found for group, _ in points])
    points: dict[str, list[SamplePoint]] = {group: [] for group in groups}
    without = []
    for table, own in found:
        for group, point in own:
            if point is not None:
                points[group or UNGROUPED].append(point)
        if all(point is None for _, point in own):
            without.append(table.sample)
    reference = math.nan
    statistics = []
    for group in groups:
        means = np.array([point.value for point in points[group]], dtype=np.float64)
        if group == groups[0] and means.size:
            reference = float(means.mean())
        count = sum(point.values.size for point in points[group])
        statistics.append(group_statistics(group, means, count, reference))
    return Comparison(
        quantity=quantity,
        channel=channel,
        region_class=having[0].classes[place] if place < len(having[0].classes) else "",
        unit=having[0].unit,
        column=having[0].quantity(quantity),
        intensity=having[0].units.get(channel, "counts"),
        groups=groups,
        points={group: tuple(found) for group, found in points.items()},
        statistics=tuple(statistics),
        without_value=tuple(without),
    )


def _points_of(
    table: RegionTable, quantity: str, channel: str, place: int
) -> list[tuple[str, SamplePoint | None]]:
    """Group and point of a sample, and of each region that has a group of its own."""
    own = table.of_class(place)
    ids, values = table.ids[own], table.column(channel, quantity)[own]
    apart = np.array([bool(table.facts(region).group) for region in ids.tolist()], np.bool_)
    found: list[tuple[str, SamplePoint | None]] = []
    for k in np.flatnonzero(apart & np.isfinite(values)).tolist():
        facts = table.facts(int(ids[k]))
        name = f"{table.sample} · {facts.name or number_in_class(int(ids[k]))}"
        point = SamplePoint(name, float(values[k]), ids[k : k + 1], values[k : k + 1])
        found.append((facts.group, point))
    if apart.all() and apart.size:
        return found
    defined = np.isfinite(values) & ~apart
    if not defined.any():
        return [*found, (table.group, None)]
    kept = values[defined]
    return [
        *found,
        (table.group, SamplePoint(table.sample, float(kept.mean()), ids[defined], kept)),
    ]

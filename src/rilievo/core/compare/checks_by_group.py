"""What differs between the samples of a batch besides the treatment: samples × checks."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.effects import eta_squared
from rilievo.core.compare.groups import OUTLYING
from rilievo.core.compare.hypotheses import kruskal_wallis
from rilievo.core.compare.observations import as_number
from rilievo.core.pipeline.checks import BatchProperties
from rilievo.core.table.table import RegionTable

_TO_SIGMA = 0.6744897501960817
_MEAN_TO_SIGMA = math.sqrt(math.pi / 2)
# Values that differ by less than this share of their middle do not differ for the eye.
_LEAST_SPREAD = 0.005
_FARTHEST = 10.0
# Groups that explain more of a check than this are told apart by it.
_CONFOUNDED = 0.5


@dataclass(frozen=True)
class BatchColumn:
    """One check.

    values : of each sample, NaN where it is not known. texts : as they are shown. z : robust, how
    far each is from the others; ±10 at most. sentence : what to make of it; "" for nothing.
    """

    key: str
    title: str
    values: tuple[float, ...]
    texts: tuple[str, ...]
    z: tuple[float, ...]
    sentence: str = ""

    def is_odd(self, k: int) -> bool:
        """Whether a sample stands apart from the others."""
        return abs(self.z[k]) > OUTLYING


@dataclass(frozen=True)
class BatchTable:
    """Samples × checks."""

    samples: tuple[str, ...]
    groups: tuple[str, ...]
    columns: tuple[BatchColumn, ...]

    def odd_ones(self) -> list[tuple[str, str, str]]:
        """Return sample, check and value of all that stand apart, the farthest first."""
        findings = [
            (-abs(column.z[k]), sample, column.title, column.texts[k])
            for column in self.columns
            for k, sample in enumerate(self.samples)
            if column.is_odd(k)
        ]
        return [(sample, title, text) for _, sample, title, text in sorted(findings, key=_by_first)]

    def sentences(self) -> list[str]:
        """Return what to make of the checks."""
        return [column.sentence for column in self.columns if column.sentence]


def _by_first(finding: tuple[float, str, str, str]) -> float:
    return finding[0]


def batch_table(
    properties: Mapping[str, BatchProperties],
    tables: Sequence[RegionTable],
    groups: Mapping[str, str],
) -> BatchTable:
    """Return the checks of all samples that have properties, in the order of `traits`.

    tables : what was measured, as far as there is something. groups : sample → group.
    """
    names = list(properties)
    measured = {table.sample: table for table in tables}
    group_of_each = [groups.get(name, "") for name in names]
    columns = [
        _column(
            key,
            title,
            [read(properties[n]) for n in names],
            group_of_each,
            show,
            setting=key in _SETTINGS,
        )
        for key, title, read, show in _OF_TRAITS
    ]
    columns += [
        _column(f"threshold {k}", f"Threshold “{name}”",
                [measured[n].threshold(k) if n in measured else math.nan for n in names],
                group_of_each, _plain)
        for k, name in enumerate(next((t.classes for t in tables), ()))
    ]  # fmt: skip
    columns += [
        _column(f"count {k}", f"Regions “{name}”",
                [float(measured[n].of_class(k).sum()) if n in measured else math.nan
                 for n in names], group_of_each, _plain)
        for k, name in enumerate(next((t.classes for t in tables), ()))
    ]  # fmt: skip
    defined = [column for column in columns if any(math.isfinite(v) for v in column.values)]
    return BatchTable(tuple(names), tuple(group_of_each), tuple(defined))


def deviations(values: Sequence[float], *, setting: bool = False) -> NDArray[np.float64]:
    """Return how far each value is from the others, in robust standard deviations, ±10 at most.

    From the median absolute deviation; where that is 0 because most are equal, from the mean
    absolute deviation (Iglewicz & Hoaglin 1993). setting : what somebody chose, such as an
    exposure: one that differs where most are equal is farthest.
    """
    numbers = np.array(values, np.float64)
    good = np.isfinite(numbers)
    result = np.zeros(numbers.shape)
    if good.sum() < 3:
        return result
    middle = float(np.median(numbers[good]))
    away = numbers[good] - middle
    spread = float(np.median(np.abs(away))) / _TO_SIGMA
    if spread == 0 and not setting:
        spread = float(np.abs(away).mean()) * _MEAN_TO_SIGMA
    if not (setting and spread == 0):
        spread = max(spread, _LEAST_SPREAD * abs(middle))
    if spread > 0:
        result[good] = np.clip(away / spread, -_FARTHEST, _FARTHEST)
    else:
        result[good] = np.sign(away) * _FARTHEST
    return result


def _column(
    key: str,
    title: str,
    values: Sequence[float],
    groups: Sequence[str],
    show: Callable[[float], str],
    *,
    setting: bool = False,
) -> BatchColumn:
    texts = tuple(show(value) if math.isfinite(value) else "–" for value in values)
    z = tuple(float(deviation) for deviation in deviations(values, setting=setting))
    return BatchColumn(key, title, tuple(values), texts, z, _by_group(title, values, groups, show))


def _by_group(
    title: str, values: Sequence[float], groups: Sequence[str], show: Callable[[float], str]
) -> str:
    """Whether a check goes with the groups, so that it and not the treatment may be the cause."""
    names = [name for name in dict.fromkeys(groups) if name]
    parts = [
        np.array([v for v, g in zip(values, groups, strict=True) if g == name and math.isfinite(v)])
        for name in names
    ]
    if len(names) < 2 or any(part.size < 2 for part in parts):
        return ""
    every = np.concatenate(parts)
    if np.ptp(every) <= _LEAST_SPREAD * abs(float(np.median(every))):
        return ""
    if all(np.ptp(part) == 0 for part in parts):
        apart = True
    else:
        share, p = eta_squared(parts).value, kruskal_wallis(parts).p
        apart = share > _CONFOUNDED and p < 0.05
    if not apart:
        return ""
    medians = ", ".join(
        f"{n} {show(float(np.median(p)))}" for n, p in zip(names, parts, strict=True)
    )
    return (
        f"{title} differs between the groups (medians: {medians}). If that is not the treatment's "
        "own effect, it may be the cause of what is compared."
    )


def _plain(value: float) -> str:
    return f"{value:.4g}"


def _percent(value: float) -> str:
    return "0" if abs(value) < 1e-7 else f"{100 * value:.2g} %"


_SETTINGS = ("exposure", "depth", "width", "height", "pixel size")
_OF_TRAITS: tuple[
    tuple[str, str, Callable[[BatchProperties], float], Callable[[float], str]], ...
] = (
    ("exposure", "Exposure", lambda t: as_number(t.exposure), _plain),
    ("depth", "Depth", lambda t: as_number("".join(filter(str.isdigit, t.depth))), _plain),
    ("width", "Width (px)", lambda t: float(t.size[0]), _plain),
    ("height", "Height (px)", lambda t: float(t.size[1]), _plain),
    ("pixel size", "Pixel size", lambda t: as_number(t.pixel_size), _plain),
    ("saturated", "Saturated share", lambda t: t.saturated, _percent),
    ("background", "Background", lambda t: t.background, _plain),
    ("tilt", "Background tilt", lambda t: t.tilt, _percent),
    ("detail", "Fine detail", lambda t: t.detail, _plain),
)

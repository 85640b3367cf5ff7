"""The values that are compared: one of each sample in each category, with those of its regions.

The unit of comparison is the sample: regions of one sample are not independent, so a sample
enters with the mean over its regions. A region with a group of its own counts like a sample when
groups are compared.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.question import (
    BY_CHANNEL,
    BY_CLASS,
    BY_GROUP,
    OF_REGION,
    OF_SAMPLE,
    REGION,
    SAMPLE,
    Question,
    name_of,
)
from rilievo.core.errors import ComparisonError
from rilievo.core.regions import number_in_class
from rilievo.core.table.error_columns import SUFFIX as ERROR_SUFFIX
from rilievo.core.table.star_series import as_date
from rilievo.core.table.table import RegionTable
from rilievo.core.table.track_columns import EVENT, TRACK

UNGROUPED = "no group"
Attributes = Mapping[str, Mapping[str, str]]

_EPOCH = datetime(1970, 1, 1)
_NUMBER = re.compile(r"\s*([-+−]?\d+(?:[.,]\d+)?(?:[eE][-+]?\d+)?)")


@dataclass(frozen=True, eq=False)
class SamplePoint:
    """One value of a comparison: a sample in a category, with the regions it is the mean of.

    sample : name of the sample. label : what it is called beside it, such as a region's name.
    group : of the sample in the study. x : the category as a number, NaN where it is none.
    pair : what it belongs together with has the same. raw : value and values as measured.
    stack : what the sample is a plane of, or its own name. series : the curve that it is a point
    of; "" where that is its group. remark : what is said of it, such as that it touched another.
    nest : the units that it lies in, outermost first, as the design has them. terms : its levels
    of the other terms of the design. unit : what it is the mean of, where that is several samples;
    owners : the sample of each region then. errors : standard errors of `values` from the noise of
    the camera, where the table has them.
    """

    sample: str
    category: str
    value: float
    regions: NDArray[np.int64]
    values: NDArray[np.float64]
    group: str = ""
    label: str = ""
    x: float = math.nan
    pair: str = ""
    raw: float = math.nan
    stack: str = ""
    series: str = ""
    remark: str = ""
    nest: tuple[str, ...] = ()
    terms: tuple[str, ...] = ()
    unit: str = ""
    owners: tuple[str, ...] = ()
    errors: NDArray[np.float64] | None = None

    @property
    def samples(self) -> tuple[str, ...]:
        """The sample of each region."""
        return self.owners or (self.sample,) * self.regions.size

    @property
    def title(self) -> str:
        """What it is called."""
        if self.unit:
            return self.unit
        return f"{self.sample} · {self.label}" if self.label else self.sample


def as_number(text: str) -> float:
    """Return the number a text begins with, such as “16 h”; NaN for none."""
    match = _NUMBER.match(text)
    return float(match[1].replace(",", ".").replace("−", "-")) if match else math.nan


def days(text: str) -> float:
    """Return a date as days since 1970; NaN for other text."""
    found = as_date(text) if len(text) >= 8 else None
    return math.nan if found is None else (found - _EPOCH).total_seconds() / 86_400


def axis_of(texts: Sequence[str]) -> tuple[dict[str, float], str]:
    """Return the position of each text on an axis, and what the axis counts: "", "number", "days".

    Dates are days since the first of them. Texts that are neither have no place.
    """
    distinct = [text for text in dict.fromkeys(texts) if text]
    dates = {text: days(text) for text in distinct}
    if dates and all(math.isfinite(day) for day in dates.values()):
        first = min(dates.values())
        return {text: day - first for text, day in dates.items()}, "days"
    numbers = {text: as_number(text) for text in distinct}
    if numbers and all(math.isfinite(number) for number in numbers.values()):
        return numbers, "number"
    return {}, ""


def group_order(groups: Sequence[str]) -> tuple[str, ...]:
    """Return the distinct groups in the order they first appear."""
    return tuple(dict.fromkeys(group or UNGROUPED for group in groups))


def attribute_names(tables: Sequence[RegionTable], attributes: Attributes) -> dict[str, str]:
    """Return what else can be compared by, key → words: attributes of samples and of regions.

    Those that are the same everywhere tell nothing apart and are left out.
    """
    values_of: dict[str, set[str]] = {}
    for table in tables:
        for name, value in attributes.get(table.sample, {}).items():
            values_of.setdefault(f"{OF_SAMPLE}{name}", set()).add(value)
        for facts in table.known.values():
            for name, value in facts.attributes.items():
                values_of.setdefault(f"{OF_REGION}{name}", set()).add(value)
            if facts.name:
                values_of.setdefault(f"{OF_REGION}name", set()).add(facts.name)
    return {
        key: f"{key.split(':', 1)[1]} of the {'sample' if key.startswith(OF_SAMPLE) else 'region'}"
        for key, values in values_of.items()
        if len(values) > 1
    }


def observations(
    tables: Sequence[RegionTable],
    question: Question,
    quantity: str,
    channel: str,
    attributes: Attributes,
) -> tuple[list[SamplePoint], tuple[str, ...]]:
    """Return the values that are compared, and the samples without any defined value.

    Raises ComparisonError when what is compared by is not there.
    """
    points: list[SamplePoint] = []
    without = []
    for table in tables:
        some = list(_of_table(table, question, quantity, channel, attributes))
        points += some
        if not some:
            without.append(table.sample)
    return _in_order(points, question), tuple(without)


def _in_order(points: list[SamplePoint], question: Question) -> list[SamplePoint]:
    """With positions on the axis; categories that are numbers or dates ascend."""
    if not question.by.startswith((OF_SAMPLE, OF_REGION)):
        return points
    positions, _ = axis_of([point.category for point in points])
    if not positions:
        return points
    placed = [replace(point, x=positions[point.category]) for point in points]
    return sorted(placed, key=lambda point: point.x)


def index_of_class(table: RegionTable, name: str) -> int:
    """Return the index of a class in a table; the first for "", −1 where it is not there."""
    if not name:
        return 0
    return table.classes.index(name) if name in table.classes else -1


def _of_table(
    table: RegionTable, question: Question, quantity: str, channel: str, attributes: Attributes
) -> Iterator[SamplePoint]:
    by = question.by
    positions = range(len(table.classes)) if by == BY_CLASS else (
        index_of_class(table, question.region_class),
    )  # fmt: skip
    channels = table.channels if by == BY_CHANNEL else (channel,)
    for position in positions:
        for name in channels:
            if quantity not in table.columns.get(name, {}):
                continue
            in_class = table.of_class(position)
            ids, values = table.ids[in_class], table.column(name, quantity)[in_class]
            finite = np.isfinite(values)
            errors = table.columns[name].get(quantity + ERROR_SUFFIX)
            errors = None if errors is None else errors[in_class]
            of_sample = attributes.get(table.sample, {})
            if by.startswith(OF_SAMPLE) and question.curves == "region":
                yield from _followed(table, question, ids[finite], values[finite], of_sample)
                continue
            for category, label, some in _parted(table, question, ids, of_sample, position, name):
                chosen = some & finite
                if chosen.any():
                    point = _point(
                        table, question, category, label, ids[chosen], values[chosen], of_sample
                    )
                    yield point if errors is None else replace(point, errors=errors[chosen])


def _parted(
    table: RegionTable,
    question: Question,
    ids: NDArray[np.int64],
    attributes: Mapping[str, str],
    position: int,
    channel: str,
) -> Iterator[tuple[str, str, NDArray[np.bool_]]]:
    """The categories of a table's regions: name, what its point is called, which regions."""
    every = np.ones(ids.size, np.bool_)
    by = question.by
    if by == BY_CLASS:
        yield table.classes[position], "", every
    elif by == BY_CHANNEL:
        yield channel, "", every
    elif by.startswith(OF_SAMPLE):
        value = attributes.get(by.removeprefix(OF_SAMPLE), "")
        if value:
            yield value, "", every
    elif by.startswith(OF_REGION):
        name = by.removeprefix(OF_REGION)
        facts = [table.facts(region) for region in ids.tolist()]
        texts = [
            region.attributes.get(name, region.name if name == "name" else "") for region in facts
        ]
        for text in dict.fromkeys(texts):
            if text:
                yield (
                    text,
                    text,
                    np.array([text_of_region == text for text_of_region in texts], np.bool_),
                )
    elif by == BY_GROUP:
        apart = np.array([bool(table.facts(region).group) for region in ids.tolist()], np.bool_)
        for k in np.flatnonzero(apart).tolist():
            region = table.facts(int(ids[k]))
            alone = np.zeros(ids.size, np.bool_)
            alone[k] = True
            yield region.group, region.name or str(number_in_class(int(ids[k]))), alone
        if not apart.all():
            yield table.group or UNGROUPED, "", ~apart
    else:
        raise ComparisonError(f"There is no “{by}” to compare by; choose another under By.")


def _followed(
    table: RegionTable,
    question: Question,
    ids: NDArray[np.int64],
    values: NDArray[np.float64],
    attributes: Mapping[str, str],
) -> Iterator[SamplePoint]:
    """One value for each region that was followed through the stack of its sample."""
    category = attributes.get(question.by.removeprefix(OF_SAMPLE), "")
    if not category:
        return
    for k, region in enumerate(ids.tolist()):
        facts = table.facts(region)
        track = facts.attributes.get(TRACK)
        if track is None:
            continue
        some = slice(k, k + 1)
        point = _point(
            table, question, category, f"track {track}", ids[some], values[some], attributes
        )
        yield replace(
            point,
            series=f"{point.stack} · track {track}",
            group=facts.group or point.group,
            remark=facts.attributes.get(EVENT, ""),
        )


def merged(points: Sequence[SamplePoint]) -> list[SamplePoint]:
    """Return one value for each sample and category: the mean of those that it has there."""
    together: dict[tuple[str, str], list[SamplePoint]] = {}
    for point in points:
        together.setdefault((point.sample, point.category), []).append(point)
    return [members[0] if len(members) == 1 else _mean_of(members) for members in together.values()]


def _mean_of(points: Sequence[SamplePoint]) -> SamplePoint:
    return replace(
        points[0],
        value=float(np.mean([point.value for point in points])),
        raw=float(np.mean([point.raw for point in points])),
        regions=np.concatenate([point.regions for point in points]),
        values=np.concatenate([point.values for point in points]),
        label="",
        series="",
        remark="",
    )


def _point(
    table: RegionTable,
    question: Question,
    category: str,
    label: str,
    ids: NDArray[np.int64],
    values: NDArray[np.float64],
    attributes: Mapping[str, str],
) -> SamplePoint:
    mean, stack = float(values.mean()), attributes.get("stack", table.sample)
    pairs = question.pairs
    if pairs.startswith(OF_SAMPLE):
        pair = attributes.get(pairs.removeprefix(OF_SAMPLE), "")
    else:
        pair = {"sample": table.sample, "replicate": attributes.get("replicate", "")}.get(pairs, "")
    design = question.design
    of_unit = () if question.unit in (SAMPLE, REGION) else (question.unit,)
    levels = design.levels if question.unit in design.levels else (*design.levels, *of_unit)
    terms = (*((design.factor,) if design.factor else ()), *design.blocks)
    return SamplePoint(
        nest=tuple(_value_of(key, table, attributes) for key in levels),
        terms=tuple(_value_of(key, table, attributes) for key in terms),
        sample=table.sample,
        category=category,
        value=mean,
        regions=ids,
        values=values,
        group=table.group,
        label=label,
        pair=pair,
        raw=mean,
        stack=stack,
        series=stack if question.curves == "stack" else "",
    )


def _value_of(key: str, table: RegionTable, attributes: Mapping[str, str]) -> str:
    """The group of a sample, or one of its attributes; "" where it has none."""
    if key == BY_GROUP:
        return table.group or UNGROUPED
    return attributes.get(name_of(key), "")

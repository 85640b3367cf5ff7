"""Values related to a reference before they are compared; the measured ones stay beside them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from rilievo.core.compare.observations import SamplePoint, index_of_class
from rilievo.core.compare.question import OF_REGION, Normalising, Question
from rilievo.core.errors import ComparisonError
from rilievo.core.table.table import RegionTable


def normalised(
    points: Sequence[SamplePoint],
    tables: Sequence[RegionTable],
    question: Question,
    quantity: str,
    channel: str,
) -> tuple[list[SamplePoint], str]:
    """Return the values as they are compared, and in words what was done; "" for nothing.

    Raises ComparisonError where the reference is not there.
    """
    normalising = question.normalising
    if normalising.by == "none" or not points:
        return list(points), ""
    if normalising.by == "control":
        return _to_control(points, normalising)
    if normalising.by in ("first", "baseline"):
        return _to_beginning(points, question)
    levels = _reference_levels(tables, normalising, quantity, channel)
    return _to_reference(points, normalising, levels)


def _related(point: SamplePoint, reference: float, how: str) -> SamplePoint:
    if how == "difference":
        return replace(
            point, value=point.value - reference, values=point.values - reference, errors=None
        )
    if reference == 0 or not math.isfinite(reference):
        nowhere = np.full(point.values.shape, np.nan)
        return replace(point, value=math.nan, values=nowhere, errors=None)
    return replace(
        point, value=point.value / reference, values=point.values / reference, errors=None
    )


def _in_words(how: str, of: str) -> str:
    return f"less {of}" if how == "difference" else f"relative to {of}"


def _to_control(
    points: Sequence[SamplePoint], normalising: Normalising
) -> tuple[list[SamplePoint], str]:
    name = normalising.reference or points[0].category
    values = [point.value for point in points if point.category == name]
    if not values:
        raise ComparisonError(
            f"The control “{name}” has no measured sample; choose another under Normalise."
        )
    middle = float(np.mean(values))
    words = _in_words(normalising.how, f"the mean of {name}")
    return [_related(point, middle, normalising.how) for point in points], words


def series_of(point: SamplePoint, question: Question) -> str:
    """Return the series a point belongs to: its pair, its sample for regions, else its group."""
    if point.series:
        return point.series
    if question.pairs:
        return point.pair
    return point.sample if question.by.startswith(OF_REGION) else point.group


def _to_beginning(
    points: Sequence[SamplePoint], question: Question
) -> tuple[list[SamplePoint], str]:
    """Each series related to its first point, or to the mean of a baseline."""
    if not any(math.isfinite(point.x) for point in points):
        raise ComparisonError(
            "Only a series against numbers or dates has a beginning; choose such an attribute "
            "under By."
        )
    normalising = question.normalising
    series: dict[str, list[SamplePoint]] = {}
    for point in points:
        if math.isfinite(point.x):
            series.setdefault(series_of(point, question), []).append(point)
    levels = {}
    for key, series_points in series.items():
        first = min(point.x for point in series_points)
        ends = (first, first)
        if normalising.by == "baseline":
            ends = normalising.first, normalising.last
        inside = [point.value for point in series_points if ends[0] <= point.x <= ends[1]]
        levels[key] = float(np.mean(inside)) if inside else math.nan
    if all(math.isnan(level) for level in levels.values()):
        raise ComparisonError(
            f"No series has a value from {normalising.first:g} to {normalising.last:g} for its "
            "baseline; choose other ends under Normalise."
        )
    related = [
        _related(point, levels.get(series_of(point, question), math.nan), normalising.how)
        for point in points
    ]
    of = "the first of each series"
    if normalising.by == "baseline":
        of = f"the mean of each series from {normalising.first:g} to {normalising.last:g}"
    return related, _in_words(normalising.how, of)


def _reference_levels(
    tables: Sequence[RegionTable], normalising: Normalising, quantity: str, channel: str
) -> dict[str, float]:
    """The quantity of the reference in each sample: of a class, or of regions of a name."""
    levels = {}
    for table in tables:
        values = table.columns.get(channel, {}).get(quantity)
        if values is None:
            continue
        if normalising.reference in table.classes:
            in_reference = table.of_class(index_of_class(table, normalising.reference))
        else:
            in_reference = np.array(
                [table.facts(int(region)).name == normalising.reference for region in table.ids],
                np.bool_,
            )
        usable = in_reference & np.isfinite(values)
        if normalising.reference and usable.any():
            levels[table.sample] = float(values[usable].mean())
    if not levels:
        raise ComparisonError(
            f"No sample has a region or class “{normalising.reference}” to relate to; choose "
            "another under Normalise."
        )
    return levels


def _to_reference(
    points: Sequence[SamplePoint], normalising: Normalising, levels: dict[str, float]
) -> tuple[list[SamplePoint], str]:
    if normalising.by == "reference":
        related = [_related(p, levels.get(p.sample, math.nan), normalising.how) for p in points]
        return related, _in_words(normalising.how, f"{normalising.reference} of the same sample")
    common = float(np.mean(list(levels.values())))
    matched = []
    for point in points:
        level = levels.get(point.sample, math.nan)
        moved = _related(point, level, normalising.how)
        back = common if normalising.how == "difference" else 0.0
        factor = 1.0 if normalising.how == "difference" else common
        matched.append(
            replace(
                moved,
                value=moved.value * factor + back,
                values=moved.values * factor + back,
                errors=None,
            )
        )
    change = "shifted" if normalising.how == "difference" else "scaled"
    return matched, f"{change} so that {normalising.reference} is equal in all samples"

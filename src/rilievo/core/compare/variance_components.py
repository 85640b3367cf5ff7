"""Where the variation sits: between animals, dishes, fields, regions; and the next experiment."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from rilievo.core.compare.coding import Coding
from rilievo.core.compare.design_fit import Component, coding_of, kept_levels, model_rows
from rilievo.core.compare.effects import POWER, power_of_t
from rilievo.core.compare.nested_model import Rows, fit_nested
from rilievo.core.compare.observations import SamplePoint
from rilievo.core.compare.question import Question
from rilievo.core.errors import ComparisonError

# Units of one level in one of the level above that a plan tries.
_TRIED = (1, 2, 3, 4, 5, 6, 8, 10, 12, 16, 20, 30, 50, 100)
_MOST_UNITS = 10_000


@dataclass(frozen=True)
class Plan:
    """Numbers for the next experiment.

    numbers : units of each level in one of the level above; the first in each group. power : of
    finding the difference. cost : of both groups together, in the unit of the costs.
    """

    numbers: tuple[int, ...]
    power: float
    cost: float


def variation(
    points: Sequence[SamplePoint], question: Question
) -> tuple[tuple[Component, ...], tuple[str, ...]]:
    """Return the variance of each level about what it lies in, outermost first, regions last.

    The terms of the design are taken out. Raises ComparisonError where levels cannot be told apart.
    """
    design = question.design.model_copy(update={"modelled": True})
    asked = question.model_copy(update={"design": design})
    units, names, rows = model_rows(points, asked)
    try:
        coding, _ = coding_of(points, asked)
        named = [
            dict(zip(coding.factors, (point.category, *point.terms), strict=True))
            for point in units
        ]
        x = coding.matrix(named)
    except ComparisonError:
        # One group alone has its variation too.
        x = Coding({}).matrix([{}] * len(units))
    names, rows, remarks = kept_levels(replace(rows, x=x), names)
    fit = fit_nested(rows)
    titles = [*names, "region"]
    counts = [int(units.max()) + 1 for units in rows.levels] + [round(rows.total)]
    groups = len({point.category for point in points})
    each = _each(rows, groups)
    components = tuple(
        Component(title, variance, count, each_count)
        for title, variance, count, each_count in zip(
            titles, fit.components, counts, each, strict=True
        )
    )
    return components, tuple(remarks)


def _each(rows: Rows, groups: int) -> list[float]:
    """The harmonic mean of how many units of a level one of the level above has."""
    counts = []
    outer = None
    for units in rows.levels:
        first = np.unique(units, return_index=True)[1]
        if outer is None:
            counts.append(first.size / groups)
        else:
            counts.append(_harmonic(np.bincount(outer[first])))
        outer = units
    inner = np.bincount(outer, rows.weights) if outer is not None else np.array([rows.total])
    return [*counts, _harmonic(inner) if outer is not None else rows.total / groups]


def _harmonic(counts: np.ndarray) -> float:
    some = counts[counts > 0]
    return float(some.size / (1 / some).sum())


def error_of_mean(components: Sequence[Component], numbers: Sequence[float]) -> float:
    """Return the variance of a group's mean: Σ variance / (numbers of this level and outwards)."""
    total, of = 0.0, 1.0
    for component, number in zip(components, numbers, strict=True):
        of *= number
        total += max(component.variance, 0.0) / of
    return total


def power_of(components: Sequence[Component], numbers: Sequence[int], difference: float) -> float:
    """Return the power of a two-sided test of two groups at 5 %, at the outermost level."""
    error = math.sqrt(2 * error_of_mean(components, numbers))
    if error <= 0 or numbers[0] < 2:
        return math.nan
    return power_of_t(abs(difference) / error, 2 * numbers[0] - 2, 1.0)


def plan(components: Sequence[Component], costs: Sequence[float], difference: float) -> Plan | None:
    """Return the cheapest numbers that find a difference in 80 % of experiments.

    costs : of one more unit of each level, as many as components; what costs nothing stays as it
    is. None where no number suffices, or the difference is 0. For given inner numbers the
    outermost follows; all are tried. Source: Cochran 1977, Sampling Techniques, § 10.6, which has
    the numbers that are best where units can be divided.
    """
    if difference == 0 or not math.isfinite(difference):
        return None
    best: Plan | None = None
    tried = [
        _TRIED if cost > 0 else (max(round(component.each), 1),)
        for component, cost in zip(components[1:], costs[1:], strict=True)
    ]
    for inner in itertools.product(*tried):
        price, of = costs[0], 1.0
        for number, cost in zip(inner, costs[1:], strict=True):
            of *= number
            price += of * cost
        most = _MOST_UNITS if best is None or price <= 0 else int(best.cost / (2 * price))
        fewest = _fewest(components, inner, difference, most)
        if fewest is None:
            continue
        cost = 2 * fewest * price
        if best is None or cost < best.cost:
            numbers = (fewest, *inner)
            best = Plan(numbers, power_of(components, numbers, difference), cost)
    return best


def _fewest(
    components: Sequence[Component], inner: tuple[int, ...], difference: float, most: int
) -> int | None:
    """The fewest units a group whose power suffices, at most so many."""
    low, high = 2, max(most, 2)

    def enough(count: int) -> bool:
        power = power_of(components, (count, *inner), difference)
        # Without any variation two units show it.
        return math.isnan(power) or power >= POWER

    if not enough(high):
        return None
    while low < high:
        middle = (low + high) // 2
        low, high = (low, middle) if enough(middle) else (middle + 1, high)
    return low

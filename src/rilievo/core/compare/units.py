"""Values of units that hold several samples: the mean of means, level by level."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.observations import SamplePoint
from rilievo.core.compare.question import REGION, SAMPLE, Question, name_of
from rilievo.core.errors import ComparisonError

_MOST_NAMED = 3


def nest_keys(question: Question) -> tuple[str, ...]:
    """Return the levels that hold samples, outermost first, with the unit of comparison."""
    levels, unit = question.design.levels, question.unit
    return levels if unit in (SAMPLE, REGION, *levels) else (*levels, unit)


def path_of(point: SamplePoint, depth: int, question: Question) -> tuple[str, ...]:
    """Return what tells a unit of a level from all others: it lies in those further out."""
    outer = (point.category,) if question.design.numbered_anew else ()
    return (*outer, *point.nest[:depth])


def check_placed(points: Sequence[SamplePoint], question: Question) -> None:
    """Refuse samples of which the design needs more than is known: a ComparisonError."""
    design = question.design
    terms = (*((design.factor,) if design.factor else ()), *design.blocks)
    keys = (*nest_keys(question), *terms)
    for index, key in enumerate(keys):
        lacking = [point.sample for point in points if not (*point.nest, *point.terms)[index]]
        if not lacking:
            continue
        names = list(dict.fromkeys(lacking))
        more = f" and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
        raise ComparisonError(
            f"The design needs “{name_of(key)}”, which is not known of "
            f"{', '.join(names[:_MOST_NAMED])}{more}; give it in a table or by a name pattern, or "
            "leave it out of the design."
        )


def by_unit(points: Sequence[SamplePoint], question: Question) -> list[SamplePoint]:
    """Return one value for each unit, category and level of the other terms.

    Samples of the innermost level are averaged first, then its units within those of the next:
    each unit of a level has the same weight. Where one value is a sample or a region, the points
    stay.
    """
    if question.unit in (SAMPLE, REGION):
        return list(points)
    keys = nest_keys(question)
    depth = keys.index(question.unit) + 1
    means = list(points)
    for level in range(len(keys), depth - 1, -1):
        together: dict[tuple[object, ...], list[SamplePoint]] = {}
        for point in means:
            key = (path_of(point, level, question), point.category, point.terms)
            together.setdefault(key, []).append(point)
        means = [_mean_of(members, level) for members in together.values()]
    unit = name_of(question.unit)
    return [replace(point, unit=f"{unit} {point.nest[depth - 1]}") for point in means]


def _mean_of(points: Sequence[SamplePoint], depth: int) -> SamplePoint:
    first = points[0]
    pairs = {point.pair for point in points}
    return replace(
        first,
        value=float(np.mean([point.value for point in points])),
        raw=float(np.mean([point.raw for point in points])),
        regions=np.concatenate([point.regions for point in points]),
        values=np.concatenate([point.values for point in points]),
        label="",
        pair=first.pair if len(pairs) == 1 else "",
        nest=first.nest[:depth],
        owners=tuple(sample for point in points for sample in point.samples),
        errors=_errors_of(points),
    )


def _errors_of(points: Sequence[SamplePoint]) -> NDArray[np.float64] | None:
    errors = [point.errors for point in points if point.errors is not None]
    return np.concatenate(errors) if len(errors) == len(points) else None

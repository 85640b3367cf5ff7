"""A design with two factors, blocks and nested units, as one model of the values."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from rilievo.core.compare.coding import Coding, Matrix
from rilievo.core.compare.effects import Effect, samples_for_two
from rilievo.core.compare.hypotheses import Test, holm
from rilievo.core.compare.nested_model import Contrast, NestedFit, Rows, Units, fit_nested
from rilievo.core.compare.observations import SamplePoint
from rilievo.core.compare.pairwise_tests import PairwiseResult
from rilievo.core.compare.question import REGION, SAMPLE, Question, name_of
from rilievo.core.compare.units import by_unit, nest_keys, path_of
from rilievo.core.errors import ComparisonError


@dataclass(frozen=True)
class TermTest:
    """Whether a term of the design has an effect: F with its degrees of freedom."""

    name: str
    f: float
    df1: float
    df2: float
    p: float


@dataclass(frozen=True)
class ModelMean:
    """The mean of a group, at one level of the second factor or ("") averaged over all.

    Each level of the other terms has the same weight, whatever the numbers of values.
    """

    group: str
    level: str
    mean: float
    interval: tuple[float, float]


@dataclass(frozen=True)
class Component:
    """How much the units of a level vary about what they lie in.

    variance : as estimated; below 0 where units are more alike than chance has it. each : units of
    this level in one unit of the level above, the harmonic mean; of the outermost level in a group.
    """

    name: str
    variance: float
    count: int
    each: float


@dataclass(frozen=True)
class DesignResult:
    """What a model of the whole design says.

    at_levels : the groups against each other at each level of the second factor. notes :
    what could not be as asked, as sentences.
    """

    factor: str
    factor_levels: tuple[str, ...]
    terms: tuple[TermTest, ...]
    means: tuple[ModelMean, ...]
    versus: tuple[PairwiseResult, ...]
    at_levels: Mapping[str, tuple[PairwiseResult, ...]]
    notes: tuple[str, ...] = ()


def model_rows(
    points: Sequence[SamplePoint], question: Question
) -> tuple[list[SamplePoint], list[str], Rows]:
    """Return the values of a model without its terms: points, names of the levels, rows.

    Levels that cannot be told from the one within, since each unit has one, are left out. With
    modelled levels a row is a sample in a category, which stands for its regions.
    """
    modelled = question.design.modelled
    if not modelled:
        units = by_unit(points, question)
        if question.unit == REGION:
            return (
                units,
                [SAMPLE],
                _rows(units, [_numbers([(p.sample,) for p in units])], regions=True),
            )
        names = [name_of(question.unit)]
        depth = nest_keys(question).index(question.unit) + 1 if question.unit != SAMPLE else 0
        paths = [path_of(p, depth, question) if depth else (p.sample,) for p in units]
        return units, names, _rows(units, [_numbers(paths)], regions=False)
    units = list(points)
    keys = nest_keys(question)
    levels = [
        _numbers([path_of(point, depth + 1, question) for point in units])
        for depth in range(len(keys))
    ]
    every = [*levels, _numbers([(*path_of(p, len(keys), question), p.sample) for p in units])]
    return units, [*(name_of(key) for key in keys), SAMPLE], _rows(units, every, regions=True)


def _numbers(paths: Sequence[tuple[str, ...]]) -> Units:
    number_of: dict[tuple[str, ...], int] = {}
    return np.array([number_of.setdefault(path, len(number_of)) for path in paths], np.int64)


def _rows(points: Sequence[SamplePoint], levels: Sequence[Units], *, regions: bool) -> Rows:
    if not regions:
        y = np.array([point.value for point in points])
        return Rows(np.zeros((y.size, 0)), y, tuple(levels))
    counts = np.array([float(point.values.size) for point in points])
    within = np.array([float(((p.values - p.values.mean()) ** 2).sum()) for p in points])
    y = np.array([float(point.values.mean()) for point in points])
    return Rows(np.zeros((y.size, 0)), y, tuple(levels), counts, within)


def kept_levels(rows: Rows, names: Sequence[str]) -> tuple[list[str], Rows, list[str]]:
    """Leave out the levels whose units have one unit each, and say so."""
    sizes = [len(np.unique(units)) for units in rows.levels]
    below = [*sizes[1:], round(rows.total)]
    notes = []
    inner = [*names[1:], "value"]
    estimable = []
    for k, (count, under) in enumerate(zip(sizes, below, strict=True)):
        if count < under:
            estimable.append(k)
        elif k + 1 < len(sizes):
            notes.append(
                f"Each {names[k]} has one {inner[k]}: how {names[k]}s differ cannot be told "
                f"from how {inner[k]}s of one differ."
            )
    return (
        [names[k] for k in estimable],
        replace(rows, levels=tuple(rows.levels[k] for k in estimable)),
        notes,
    )


def coding_of(points: Sequence[SamplePoint], question: Question) -> tuple[Coding, list[str]]:
    """Return the terms of a design, and what is said of an interaction that is left out.

    Raises ComparisonError where a term has one level only.
    """
    design = question.design
    by = _title(question.by)
    names = [by]
    if design.factor:
        names.append(_title(design.factor))
    names += [_title(key) for key in design.blocks]
    if len(set(names)) < len(names):
        twice = next(name for name, count in Counter(names).items() if count > 1)
        raise ComparisonError(f"“{twice}” is in the design twice; choose it once.")
    levels = {by: tuple(dict.fromkeys(point.category for point in points))}
    for index, name in enumerate(names[1:]):
        levels[name] = tuple(sorted({point.terms[index] for point in points}))
    for name, values in levels.items():
        if len(values) < 2:
            raise ComparisonError(
                f"All samples are of one {name}, “{values[0]}”; leave it out of the design."
            )
    if not design.factor:
        return Coding(levels), []
    cells = {(point.category, point.terms[0]) for point in points}
    other = names[1]
    missing = [(a, b) for a in levels[by] for b in levels[other] if (a, b) not in cells]
    if missing:
        note = f"No sample is {missing[0][0]} and {missing[0][1]}: the interaction is left out."
        return Coding(levels), [note]
    return Coding(levels, ((by, other),)), []


def _title(key: str) -> str:
    return name_of(key)


def fit_design(points: Sequence[SamplePoint], question: Question, reference: str) -> DesignResult:
    """Return what a model of the whole design says.

    reference : the group that others are compared with. Degrees of freedom by Satterthwaite.
    Raises ComparisonError where terms or levels cannot be told apart.
    """
    coding, notes = coding_of(points, question)
    units, names, rows = model_rows(points, question)
    by = _title(question.by)
    factor = _title(question.design.factor) if question.design.factor else ""
    named = [
        dict(zip(coding.factors, (point.category, *point.terms), strict=True)) for point in units
    ]
    names, rows, remarks = kept_levels(replace(rows, x=coding.matrix(named)), names)
    _check_apart(rows, names, coding)
    fit = fit_nested(rows)
    sizes = _sizes(units, names, rows)
    groups, levels = coding.factors[by], coding.factors.get(factor, ())
    every = tuple(dict.fromkeys(_wanted(groups, question, reference)))
    has_interaction = bool(coding.interactions)
    means = [_mean(fit, coding, {by: group}, group, "") for group in groups]
    simple: dict[str, tuple[PairwiseResult, ...]] = {}
    if has_interaction:
        means += [
            _mean(fit, coding, {by: group, factor: level}, group, level)
            for level in levels
            for group in groups
        ]
        simple = {
            level: tuple(_pair(fit, coding, by, pair, {factor: level}, sizes) for pair in every)
            for level in levels
        }
    versus = tuple(_pair(fit, coding, by, pair, {}, sizes) for pair in every)
    return DesignResult(
        factor=factor,
        factor_levels=levels,
        terms=tuple(TermTest(name, *fit.f_test(coding.test_of(name))) for name in coding.terms),
        means=tuple(means),
        versus=_corrected(versus, question),
        at_levels=_corrected_levels(simple, question),
        notes=(*notes, *remarks),
    )


def _wanted(groups: Sequence[str], question: Question, reference: str) -> Iterator[tuple[str, str]]:
    if question.every_pair:
        yield from ((a, b) for i, a in enumerate(groups) for b in groups[i + 1 :])
    else:
        yield from ((reference, group) for group in groups if group != reference)


def _check_apart(rows: Rows, names: Sequence[str], coding: Coding) -> None:
    """Refuse terms that go together, and levels that go with a term: a ComparisonError."""
    if np.linalg.matrix_rank(rows.x) < rows.x.shape[1]:
        for name, columns in coding.terms.items():
            rest = np.delete(rows.x, np.r_[columns], axis=1)
            if np.linalg.matrix_rank(rest) == np.linalg.matrix_rank(rows.x):
                raise ComparisonError(
                    f"“{name}” goes with the other terms of the design, so that their effects "
                    "cannot be told apart; leave it out."
                )
    for name, units in zip(names, rows.levels, strict=True):
        count = int(units.max()) + 1
        if count > rows.x.shape[1]:
            continue
        both = np.column_stack([rows.x, np.eye(count)[units]])
        if np.linalg.matrix_rank(both) == rows.x.shape[1]:
            raise ComparisonError(
                f"Each group has one {name}, so that an effect cannot be told from how "
                f"{name}s differ; more of them are needed."
            )


def _sizes(points: Sequence[SamplePoint], names: Sequence[str], rows: Rows) -> dict[str, int]:
    """Units of the outermost level in each group."""
    if not names:
        return dict(Counter(point.category for point in points))
    seen = {(point.category, int(u)) for point, u in zip(points, rows.levels[0], strict=True)}
    return dict(Counter(category for category, _ in seen))


def _mean(
    fit: NestedFit, coding: Coding, levels: Mapping[str, str], group: str, level: str
) -> ModelMean:
    mean = fit.contrast(coding.row(levels))
    return ModelMean(group, level, mean.value, mean.interval)


def _pair(
    fit: NestedFit,
    coding: Coding,
    by: str,
    pair: tuple[str, str],
    at: Mapping[str, str],
    sizes: Mapping[str, int],
) -> PairwiseResult:
    weights: Matrix = coding.row({**at, by: pair[1]}) - coding.row({**at, by: pair[0]})
    contrast: Contrast = fit.contrast(weights)
    spread = math.sqrt(max(sum(fit.components), fit.components[-1]))
    first, second = sizes[pair[0]], sizes[pair[1]]
    # As many units a group as are as sure as these together.
    root = math.sqrt(1 / (1 / first + 1 / second))
    needed = samples_for_two(contrast.t / root) if not at else None
    return PairwiseResult(
        first=pair[0],
        second=pair[1],
        n=(first, second),
        test=Test("t test of the model", "t", contrast.t, (contrast.df,), contrast.p),
        effect=Effect("difference in standard deviations of single values", "d",
                      contrast.value / spread),
        difference=contrast.value,
        interval=contrast.interval,
        corrected=contrast.p,
        needed=needed,
    )  # fmt: skip


def _corrected(
    results: tuple[PairwiseResult, ...], question: Question
) -> tuple[PairwiseResult, ...]:
    if question.correction != "holm":
        return results
    ps = holm([result.test.p for result in results])
    return tuple(replace(result, corrected=p) for result, p in zip(results, ps, strict=True))


def _corrected_levels(
    by_level: Mapping[str, tuple[PairwiseResult, ...]], question: Question
) -> dict[str, tuple[PairwiseResult, ...]]:
    """Corrected for all tests at all levels together."""
    flat = _corrected(
        tuple(one for level_results in by_level.values() for one in level_results), question
    )
    result, start = {}, 0
    for level, level_results in by_level.items():
        result[level] = flat[start : start + len(level_results)]
        start += len(level_results)
    return result

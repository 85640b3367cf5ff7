"""Comparisons as tables for files: a row a group, and a row a test."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Any

from rilievo.core.compare.comparison import Comparison
from rilievo.core.compare.curve_fits import interval_of
from rilievo.core.result_frame import ResultFrame

_WHAT = ("quantity", "channel", "class", "by", "unit_of_comparison", "normalised")
_GROUP = (
    "group", "samples", "regions", "mean", "sd", "sem", "mean_low_95", "mean_high_95", "median",
    "quartile_1", "quartile_3", "ratio", "mean_as_measured",
)  # fmt: skip
_TEST = (
    "first", "second", "n_first", "n_second", "paired", "difference", "difference_low_95",
    "difference_high_95", "test", "statistic", "df", "p", "p_corrected", "effect", "effect_size",
    "effect_low_95", "effect_high_95", "effect_interval_is", "samples_for_80_power", "remark",
    "difference_low_bootstrap", "difference_high_bootstrap", "at_level",
)  # fmt: skip


_CURVE = (
    "series", "group", "stack", "points", "formula", "parameter", "value", "standard_error",
    "low_95", "high_95", "half_time", "half_time_error", "recovered", "recovered_error",
    "residuals_sd", "r2",
)  # fmt: skip
_TERM = ("term", "f", "df_1", "df_2", "p")
_MODEL_MEAN = ("group", "level", "mean", "mean_low_95", "mean_high_95")
_COMPONENT = ("level", "variance", "standard_deviation", "share", "units", "units_in_one_above")
_MEAN = ("group", "at", "mean", "mean_low_95", "mean_high_95", "units", "unit", "interpolated")


def curves_frame(comparisons: Sequence[Comparison]) -> ResultFrame:
    """Return a row for each parameter of each fitted curve; what is not known is empty."""
    return ResultFrame.of_rows((*_WHAT, *_CURVE), _curve_rows(comparisons))


def mean_curves_frame(comparisons: Sequence[Comparison]) -> ResultFrame:
    """Return a row for each place on the axis of each group's mean curve."""
    return ResultFrame.of_rows((*_WHAT, *_MEAN), _mean_rows(comparisons))


def terms_frame(comparisons: Sequence[Comparison]) -> ResultFrame:
    """Return a row for each term of each design."""
    return ResultFrame.of_rows((*_WHAT, *_TERM), _term_rows(comparisons))


def model_means_frame(comparisons: Sequence[Comparison]) -> ResultFrame:
    """Return a row for each mean of each design; level "" is averaged over the second factor."""
    return ResultFrame.of_rows((*_WHAT, *_MODEL_MEAN), _model_mean_rows(comparisons))


def variation_frame(comparisons: Sequence[Comparison]) -> ResultFrame:
    """Return a row for each level of nested units."""
    return ResultFrame.of_rows((*_WHAT, *_COMPONENT), _component_rows(comparisons))


def groups_frame(comparisons: Sequence[Comparison]) -> ResultFrame:
    """Return the statistics of all groups; what is not known is empty."""
    return ResultFrame.of_rows((*_WHAT, *_GROUP), _group_rows(comparisons))


def tests_frame(comparisons: Sequence[Comparison]) -> ResultFrame:
    """Return all tests between groups; what is not known is empty."""
    return ResultFrame.of_rows((*_WHAT, *_TEST), _test_rows(comparisons))


tests_frame.__test__ = False  # type: ignore[attr-defined]


def _what(comparison: Comparison) -> tuple[Any, ...]:
    question = comparison.question
    channel = "" if question.by == "channel" else comparison.channel
    by = comparison.by_words
    return (
        comparison.quantity, channel, comparison.region_class, by, question.unit,
        comparison.related,
    )  # fmt: skip


def _group_rows(comparisons: Sequence[Comparison]) -> Iterator[tuple[Any, ...]]:
    for comparison in comparisons:
        for s in comparison.statistics:
            yield (
                *_what(comparison), s.group, s.samples, s.regions, s.mean, s.sd, s.sem,
                *s.interval, s.median, *s.quartiles, s.ratio, s.raw_mean,
            )  # fmt: skip


def _curve_rows(comparisons: Sequence[Comparison]) -> Iterator[tuple[Any, ...]]:
    for comparison in comparisons:
        curve_of = {curve.name: curve for curve in comparison.curves}
        for name, fit in comparison.fits.items():
            curve = curve_of.get(name)
            of = (name, curve.group, curve.stack) if curve else (name, name, "")
            for k, parameter in enumerate(fit.names):
                yield (
                    *_what(comparison), *of, fit.x.size, fit.formula, parameter,
                    fit.parameters[k], fit.errors[k], *interval_of(fit, k),
                    *(fit.half_time or (None, None)), *(fit.recovered or (None, None)),
                    fit.spread, fit.r2,
                )  # fmt: skip


def _mean_rows(comparisons: Sequence[Comparison]) -> Iterator[tuple[Any, ...]]:
    for comparison in comparisons:
        for point in comparison.means:
            columns = (point.x, point.mean, point.low, point.high, point.count)
            for row in zip(*(column.tolist() for column in columns), strict=True):
                yield (*_what(comparison), point.group, *row, point.unit, point.between)


def _term_rows(comparisons: Sequence[Comparison]) -> Iterator[tuple[Any, ...]]:
    for comparison in comparisons:
        for term in comparison.design.terms if comparison.design is not None else ():
            yield (*_what(comparison), term.name, term.f, term.df1, term.df2, term.p)


def _model_mean_rows(comparisons: Sequence[Comparison]) -> Iterator[tuple[Any, ...]]:
    for comparison in comparisons:
        for mean in comparison.design.means if comparison.design is not None else ():
            yield (*_what(comparison), mean.group, mean.level, mean.mean, *mean.interval)


def _component_rows(comparisons: Sequence[Comparison]) -> Iterator[tuple[Any, ...]]:
    for comparison in comparisons:
        total = sum(max(component.variance, 0.0) for component in comparison.variation)
        for component in comparison.variation:
            variance = max(component.variance, 0.0)
            yield (
                *_what(comparison), component.name, component.variance, math.sqrt(variance),
                variance / total, component.count, component.each,
            )  # fmt: skip


def _test_rows(comparisons: Sequence[Comparison]) -> Iterator[tuple[Any, ...]]:
    for comparison in comparisons:
        whole = comparison.overall
        if whole is not None:
            test, effect = whole.test, whole.effect
            count = sum(s.samples for s in comparison.statistics)
            yield (
                *_what(comparison), "all groups", "", count, None, False, None, None, None,
                test.name, test.statistic, _degrees(test.df), test.p, None, effect.name,
                effect.value, *effect.interval, effect.interval_is, whole.needed, "", None, None,
                "",
            )  # fmt: skip
        design = comparison.design
        at_levels = design.at_levels if design is not None else {}
        every = [("", result) for result in comparison.versus]
        every += [
            (level, result)
            for level, level_results in at_levels.items()
            for result in level_results
        ]
        for level, result in every:
            test, effect = result.test, result.effect
            yield (
                *_what(comparison), result.first, result.second, *result.n, result.paired,
                result.difference, *result.interval, test.name, test.statistic, _degrees(test.df),
                test.p, result.corrected, effect.name, effect.value, *effect.interval,
                effect.interval_is, result.needed, result.why_not, *result.drawn_again, level,
            )  # fmt: skip


def _degrees(df: tuple[float, ...]) -> str:
    return "; ".join(f"{degrees:.6g}" for degrees in df if math.isfinite(degrees))

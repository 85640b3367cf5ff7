"""A comparison in sentences that can stand in a paper, with nothing overstated."""

from __future__ import annotations

import math
import re

import numpy as np

from rilievo.core.compare.bootstrap import FEW
from rilievo.core.compare.comparison import Comparison
from rilievo.core.compare.curve_fits import Correlation, Fit, correlate, interval_of
from rilievo.core.compare.design_fit import DesignResult
from rilievo.core.compare.design_wording import difference, of_terms, of_variation
from rilievo.core.compare.effects import ALPHA, Effect
from rilievo.core.compare.groups import GroupStatistics
from rilievo.core.compare.hypotheses import Test
from rilievo.core.compare.pairwise_tests import PairwiseResult
from rilievo.core.compare.question import REGION, SAMPLE, name_of, several
from rilievo.core.compare.series_curves import MeanParameter
from rilievo.core.wording.numbers import p_text

# So many fitted curves, events of followed regions, and tests along an axis are told one by one.
_MOST_FITS_SAID, _MOST_REMARKS, _MOST_TESTS_SAID = 12, 6, 4
WHY_UNITS = (
    "One value is all samples of one {unit}: the mean of their means. Samples of one {unit} are "
    "not independent of each other."
)
WHY_SAMPLES = (
    "One value is a sample: the mean over its regions. Regions of one sample share its "
    "preparation and its exposure and are not independent; counting each would make chance look "
    "like an effect."
)
WHY_NOT_REGIONS = (
    "One value is a region. Regions of one sample are not independent: p is too small and "
    "intervals are too narrow, unless each region is a specimen of its own."
)


def test_text(test: Test) -> str:
    """Return the test with its statistic, such as “Welch's t(3.7) = 29.3”."""
    degrees = ", ".join(f"{df:.4g}" if df != int(df) else f"{int(df)}" for df in test.df)
    inside = f"({degrees})" if degrees else ""
    name = test.name.removesuffix(f" {test.symbol} test").removesuffix(" test")
    separator = " " if name != test.name else ", "
    return f"{name}{separator}{test.symbol}{inside} = {_plain(test.statistic)}"


def _ratio(value: float) -> str:
    return f"{value:.2f}" if 0.1 <= abs(value) < 1000 else f"{value:.3g}"


def _plain(value: float) -> str:
    """Three digits, and no power of ten where it can be helped."""
    return f"{value:.0f}" if 1000 <= abs(value) < 1e6 else f"{value:.3g}"


test_text.__test__ = False  # type: ignore[attr-defined]


def why_unit(unit: str) -> str:
    """Return what one value is, and why."""
    if unit == SAMPLE:
        return WHY_SAMPLES
    return WHY_NOT_REGIONS if unit == REGION else WHY_UNITS.format(unit=name_of(unit))


def effect_text(effect: Effect) -> str:
    """Return the effect size with its interval."""
    low, high = effect.interval
    has_interval = math.isfinite(low) and math.isfinite(high)
    ends = f", {effect.interval_is} {low:.2f} to {high:.2f}" if has_interval else ""
    if not math.isfinite(effect.value):
        return f"{effect.name} is not defined"
    return f"{effect.name} = {effect.value:.2f}{ends}"


def with_sd(statistics: GroupStatistics) -> str:
    """Return mean ± SD with the digits that the SD allows."""
    if math.isnan(statistics.mean):
        return "no value"
    if math.isnan(statistics.sd):
        return f"{statistics.mean:.4g}"
    sd = statistics.sd
    digits = max(0, 2 - math.floor(math.log10(sd))) if sd > 0 else 1
    digits = min(digits, 6)
    return f"{statistics.mean:.{digits}f} ± {sd:.{digits}f}"


def with_error(value: float, error: float) -> str:
    """Return value ± error with two digits of the error."""
    if not math.isfinite(error) or error <= 0:
        return f"{value:.4g}"
    digits = 1 - math.floor(math.log10(error))
    if digits < 0 or digits > 9:
        return f"{value:.4g} ± {error:.2g}"
    return f"{value:.{digits}f} ± {error:.{digits}f}"


def heading(comparison: Comparison) -> str:
    """Return the plainest true line about a comparison."""
    special = _heading_of_curve(comparison)
    if special:
        return special
    measured = [s for s in comparison.statistics if math.isfinite(s.mean)]
    if len(measured) < 2:
        return "One group: nothing to compare with yet"
    versus = _strongest(comparison)
    if versus is None:
        return "Too few samples for a test"
    other = comparison.of_group(versus.second)
    if math.isfinite(versus.corrected) and versus.corrected >= ALPHA:
        return f"No difference was shown between {versus.first} and {versus.second}"
    ratio = other.ratio if comparison.design is None else _model_ratio(comparison.design, versus)
    if math.isfinite(ratio) and ratio > 0 and versus.first == comparison.reference:
        return f"{other.group}: {_ratio(ratio)} × {versus.first}"
    return f"{other.group}: {versus.difference:+.4g} against {versus.first}"


def _model_ratio(design: DesignResult, versus: PairwiseResult) -> float:
    """The ratio of two means of a model, averaged over its other terms."""
    means = {mean.group: mean.mean for mean in design.means if not mean.level}
    first = means[versus.first]
    return means[versus.second] / first if first > 0 else math.nan


def _heading_of_curve(comparison: Comparison) -> str:
    """The parameter of the first curve, the correlation, the range; "" for other comparisons."""
    if comparison.shows_fits and comparison.parameters:
        parameter = comparison.parameters[0]
        unit = _unit_of(comparison, parameter.name)
        who = f"{parameter.group}: " if parameter.group else ""
        return f"{who}{parameter.name} = {_mean_text(parameter, unit)}"
    if comparison.shows_fits:
        name, fit = next(iter(comparison.fits.items()))
        value = with_error(fit.parameters[-1], fit.errors[-1])
        unit = _unit_of(comparison, fit.names[-1])
        return f"{name + ': ' if name else ''}{fit.names[-1]} = {value}{unit}"
    if comparison.correlation is not None:
        r = comparison.correlation.r
        return f"r = {r:.2f}" if math.isfinite(r) else "Too few values for a correlation"
    means = [s.mean for s in comparison.statistics if math.isfinite(s.mean)]
    if comparison.axis and len(means) > 1:
        return f"{min(means):.4g} to {max(means):.4g} over {comparison.by_words}"
    return ""


def _strongest(comparison: Comparison) -> PairwiseResult | None:
    """The largest difference that was shown; else that of the smallest p, else the largest."""
    tested = [result for result in comparison.versus if math.isfinite(result.corrected)]
    shown = [result for result in tested if result.corrected < ALPHA]
    if tested and not shown:
        return min(tested, key=lambda result: result.corrected)
    candidates = shown or [
        result for result in comparison.versus if math.isfinite(result.difference)
    ]
    return max(candidates, key=lambda result: abs(result.difference)) if candidates else None


def sentences(comparison: Comparison) -> list[str]:
    """Return the result in sentences; none where there is nothing to say."""
    said: list[str] = []
    if comparison.shows_fits:
        shown = list(comparison.fits.items())[:_MOST_FITS_SAID]
        said += [_of_parameter(comparison, parameter) for parameter in comparison.parameters]
        said += [_of_fit(comparison, name, fit) for name, fit in shown]
        if len(comparison.fits) > len(shown):
            more = len(comparison.fits) - len(shown)
            said.append(f"{more} more fitted curves are in the table of curves.")
        if said:
            return [*said, *_of_remarks(comparison)]
    if comparison.correlation is not None:
        return _of_correlation(comparison, comparison.correlation)
    if comparison.overall is not None and math.isfinite(comparison.overall.test.p):
        whole = comparison.overall
        said.append(
            f"{_capital(comparison.label)}, of {len(comparison.statistics)} groups: "
            f"{test_text(whole.test)}, {p_text(whole.test.p)}; {effect_text(whole.effect)}."
        )
    if comparison.design is not None:
        said += of_terms(comparison, comparison.design)
        said += [_of_model(comparison, result) for result in comparison.design.versus]
    elif comparison.axis:
        said += _of_trend(comparison)
        said += _of_remarks(comparison)
        # Single values against numbers or dates are a series, not groups that lack samples.
        tested = [result for result in comparison.versus if not result.why_not]
        said += [_of_versus(comparison, result) for result in tested[:_MOST_TESTS_SAID]]
        if len(tested) > _MOST_TESTS_SAID:
            said.append(f"{len(tested) - _MOST_TESTS_SAID} more tests are in the table of tests.")
    else:
        said += [_of_versus(comparison, result) for result in comparison.versus]
    said += of_variation(comparison)
    if said and comparison.question.unit == REGION:
        said.append(
            "Each region was taken as independent, which regions of one sample are not; these p "
            "values are too small."
        )
    return said


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _of_versus(comparison: Comparison, result: PairwiseResult) -> str:
    first, second = comparison.of_group(result.first), comparison.of_group(result.second)
    unit = several(comparison.question.unit)
    what = comparison.label
    statistic = "" if min(result.n) < 2 else "mean ± SD of "
    numbers = (
        f"{second.group}: {with_sd(second)}, against {first.group}: {with_sd(first)} ({what}; "
        f"{statistic}{result.n[1]} and {result.n[0]} {unit})"
    )
    if result.paired:
        numbers = (
            f"{second.group} − {first.group}: {difference(result)} ({what}; {result.n[0]} pairs)"
        )
    elif math.isfinite(second.ratio) and first.group == comparison.reference:
        numbers += f", ratio {_ratio(second.ratio)}"
    low, high = result.drawn_again
    if math.isfinite(low):
        few = ", too narrow with so few" if min(result.n) < FEW else ""
        numbers += f", bootstrap 95 % interval of the difference {low:.4g} to {high:.4g}{few}"
    if result.why_not:
        return f"{numbers}. {result.why_not}"
    return _tested(comparison, result, numbers, unit)


def _of_model(comparison: Comparison, result: PairwiseResult) -> str:
    """One group against another, as the model of the design has it."""
    design = comparison.question.design
    keys = (*design.levels, SAMPLE) if design.modelled else (comparison.question.unit,)
    unit = several(keys[0])
    numbers = (
        f"{result.second} − {result.first}: {difference(result)} ({comparison.label}; "
        f"{result.n[1]} and {result.n[0]} {unit})"
    )
    return _tested(comparison, result, numbers, unit)


def _tested(comparison: Comparison, result: PairwiseResult, numbers: str, unit: str) -> str:
    corrected = comparison.question.correction == "holm" and len(comparison.versus) > 1
    after = " after Holm's correction" if corrected else ""
    tested = (
        f"{test_text(result.test)}, {p_text(result.corrected)}{after}; {effect_text(result.effect)}"
    )
    if result.corrected < ALPHA:
        return f"{numbers}; {tested}."
    more = ""
    if result.needed is not None and result.needed > max(result.n):
        a_group = "pairs" if result.paired else f"{unit} a group"
        more = (
            f" To show an effect of this size in 80 % of studies takes {result.needed} {a_group}."
        )
    return f"{numbers}; {tested}: no difference was shown.{more}"


def parameters_in_words(fit: Fit) -> str:
    """Return the curve with its parameters and their standard errors."""
    each = zip(fit.names, fit.parameters, fit.errors, strict=True)
    return f"{fit.formula} with " + ", ".join(f"{n} = {with_error(v, e)}" for n, v, e in each)


def _of_fit(comparison: Comparison, name: str, fit: Fit) -> str:
    who = f"{name}: " if name else ""
    more = ""
    if fit.half_time is not None:
        word = "half-life" if fit.kind == "decay" else "half-time"
        more = f"; {word} {with_error(*fit.half_time)}{_unit_of(comparison, fit.names[-1])}"
    if fit.recovered is not None:
        share, error = (100 * fraction for fraction in fit.recovered)
        more += f"; {with_error(share, error)} % of what was lost came back"
    low, high = interval_of(fit, len(fit.names) - 1)
    if math.isfinite(low):
        # About a curve that bends, the interval follows from its slope in the parameters.
        what = "95 % interval" if fit.kind == "line" else "approximate 95 % interval"
        unit = _unit_of(comparison, fit.names[-1])
        more += f"; {what} of {fit.names[-1]} {low:.4g} to {high:.4g}{unit}"
    scatter = (
        f"the residuals scatter by {fit.spread:.3g}"
        if math.isfinite(fit.spread)
        else "as many parameters as values leave no residuals"
    )
    explained = f"R² = {fit.r2:.3f}" if math.isfinite(fit.r2) else "the values do not vary"
    return (
        f"{who}{_capital(comparison.label)} against {comparison.by_words}: "
        f"{parameters_in_words(fit)} (± standard error; {fit.x.size} values){more}; "
        f"{scatter}, {explained}."
    )


def _unit_of(comparison: Comparison, parameter: str) -> str:
    """The unit of a parameter that is a place on the axis, with a space before it; "" for others.

    Axes have theirs in brackets at the end of their name, such as “time (s)”; dates are days.
    """
    if not parameter.startswith(("τ", "h", "EC50")):
        return ""
    if comparison.axis == "days":
        return " days"
    unit_match = re.search(r"\(([^()]+)\)$", comparison.by_words)
    return f" {unit_match[1]}" if unit_match else ""


def _mean_text(parameter: MeanParameter, unit: str) -> str:
    low, high = parameter.interval
    return f"{parameter.mean:.4g}{unit} (95 % interval {low:.4g} to {high:.4g}{unit})"


def _of_parameter(comparison: Comparison, parameter: MeanParameter) -> str:
    """The mean of a fitted parameter over the curves of a group."""
    who = f"{parameter.group}: " if parameter.group else ""
    of = "stacks" if parameter.unit == "stack" else f"{parameter.unit}s"
    caution = (
        ""
        if parameter.unit != "followed region"
        else ", which are of one stack and tell nothing of how stacks differ"
    )
    return (
        f"{who}{parameter.name} of {comparison.label} against {comparison.by_words} is "
        f"{_mean_text(parameter, _unit_of(comparison, parameter.name))}, the mean of "
        f"{parameter.count} {of}{caution}."
    )


def _of_remarks(comparison: Comparison) -> list[str]:
    """Which followed regions touched others, or came apart, and where on the axis."""
    events = [
        f"{curve.name} {point.remark} at {point.x:.6g}"
        for curve in comparison.curves
        for point in curve.points
        if point.remark
    ]
    if not events:
        return []
    more = f" and {len(events) - _MOST_REMARKS} more" if len(events) > _MOST_REMARKS else ""
    return [
        f"Values near these are of regions that are not one object: "
        f"{'; '.join(events[:_MOST_REMARKS])}{more}."
    ]


def _of_trend(comparison: Comparison) -> list[str]:
    """Whether values rise or fall along the axis."""
    points = comparison.all_points
    trend = correlate(
        np.array([point.x for point in points]), np.array([point.value for point in points])
    )
    if math.isnan(trend.rho):
        return []
    way = "rises with" if trend.rho > 0 else "falls with"
    what = way if trend.rho_p < ALPHA else "shows no trend against"
    return [
        f"{_capital(comparison.label)} {what} {comparison.by_words} ({trend.n} "
        f"{several(comparison.question.unit)}; Spearman's ρ = {trend.rho:.2f}, "
        f"{p_text(trend.rho_p)})."
    ]


def _of_correlation(comparison: Comparison, correlation: Correlation) -> list[str]:
    if math.isnan(correlation.r):
        return ["A correlation needs 3 values at least, and values that differ."]
    low, high = correlation.interval
    ends = f", 95 % interval {low:.2f} to {high:.2f}" if math.isfinite(low) else ""
    shown = "" if correlation.p < ALPHA else ": no correlation was shown"
    return [
        f"{_capital(comparison.label)} and {comparison.other_label}: Pearson's r = "
        f"{correlation.r:.2f}{ends}, {p_text(correlation.p)}; Spearman's ρ = "
        f"{correlation.rho:.2f}, {p_text(correlation.rho_p)} ({correlation.n} "
        f"{several(comparison.question.unit)}){shown}. A correlation says nothing about cause."
    ]

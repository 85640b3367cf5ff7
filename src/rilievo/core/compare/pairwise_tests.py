"""Groups against each other: test, corrected p, effect size, difference, samples needed."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from rilievo.core.compare.bootstrap import bootstrap_interval
from rilievo.core.compare.distributions import Values, t_quantile, variance, without_rounding
from rilievo.core.compare.effects import (
    Effect,
    eta_squared,
    eta_squared_of_ranks,
    hedges_g,
    paired_g,
    paired_rank_biserial,
    rank_biserial,
    samples_for_several,
    samples_for_two,
)
from rilievo.core.compare.groups import confidence_interval, units_of
from rilievo.core.compare.hypotheses import (
    Test,
    brown_forsythe,
    holm,
    kruskal_wallis,
    mann_whitney,
    paired_t,
    shapiro_wilk,
    welch_anova,
    welch_t,
    wilcoxon,
)
from rilievo.core.compare.observations import SamplePoint
from rilievo.core.compare.question import Question, several

# So many groups, with fewer values than that, for which Welch's analysis of variance is liberal.
_SEVERAL, _FEW = 4, 6

Points = Mapping[str, Sequence[SamplePoint]]


@dataclass(frozen=True)
class PairwiseResult:
    """One group against another.

    n : values of each; for pairs both are the number of pairs. difference : second − first, of
    means or (for ranks) of medians, with its 95 % interval. corrected : p after correction for
    the number of tests. needed : samples a group (or pairs) that would show this effect in 80 %
    of studies. why_not : why there is no test. drawn_again : bootstrap interval of the difference.
    """

    first: str
    second: str
    n: tuple[int, int]
    test: Test
    effect: Effect
    difference: float
    interval: tuple[float, float]
    corrected: float
    needed: int | None
    paired: bool = False
    why_not: str = ""
    drawn_again: tuple[float, float] = (math.nan, math.nan)


@dataclass(frozen=True)
class Overall:
    """All groups together."""

    test: Test
    effect: Effect
    needed: int | None


def pair_up(first: Sequence[SamplePoint], second: Sequence[SamplePoint]) -> tuple[Values, Values]:
    """Return the values of the pairs that both groups have, the mean where one has several."""

    def by_pair(points: Sequence[SamplePoint]) -> dict[str, float]:
        values_of: dict[str, list[float]] = {}
        for point in points:
            if point.pair and math.isfinite(point.value):
                values_of.setdefault(point.pair, []).append(point.value)
        return {pair: float(np.mean(values)) for pair, values in values_of.items()}

    of_first, other = by_pair(first), by_pair(second)
    both = [pair for pair in of_first if pair in other]
    return np.array([of_first[p] for p in both]), np.array([other[p] for p in both])


def against(points: Points, question: Question, reference: str) -> tuple[PairwiseResult, ...]:
    """Return each group against the reference, or every pair of groups, corrected together."""
    groups = list(points)
    if question.every_pair:
        pairs = [(a, b) for i, a in enumerate(groups) for b in groups[i + 1 :]]
    else:
        pairs = [(reference, group) for group in groups if group != reference]
    results = [_versus(points, question, a, b) for a, b in pairs]
    ps = [result.test.p for result in results]
    corrected = holm(ps) if question.correction == "holm" else ps
    return tuple(replace(result, corrected=p) for result, p in zip(results, corrected, strict=True))


def _versus(points: Points, question: Question, a: str, b: str) -> PairwiseResult:
    ranked = question.test == "ranks"
    if question.pairs:
        first, second = without_rounding(pair_up(points[a], points[b]))
        away = without_rounding([second - first, first])[0]
        test = wilcoxon(away) if ranked else paired_t(away)
        effect = paired_rank_biserial(away) if ranked else paired_g(away)
        difference = float((np.median if ranked else np.mean)(away)) if away.size else math.nan
        interval = (math.nan, math.nan) if ranked else confidence_interval(away)
        size = paired_g(away).value
        drawn: tuple[Values, ...] = (away,)
    else:
        first, second = without_rounding([units_of(points[g], question.unit) for g in (a, b)])
        test = mann_whitney(second, first) if ranked else welch_t(second, first)
        effect = rank_biserial(second, first) if ranked else hedges_g(second, first)
        middle = np.median if ranked else np.mean
        some = first.size and second.size
        difference = float(middle(second) - middle(first)) if some else math.nan
        interval = (math.nan, math.nan) if ranked else _welch_interval(second, first)
        size = hedges_g(second, first).value
        drawn = (first, second)
    again = (math.nan, math.nan)
    if question.bootstrap and min(sample.size for sample in drawn) >= 1:
        again = bootstrap_interval(drawn, np.median if ranked else np.mean)
    return PairwiseResult(
        first=a,
        second=b,
        n=(int(first.size), int(second.size)),
        test=test,
        effect=effect,
        difference=difference,
        interval=interval,
        corrected=test.p,
        needed=samples_for_two(size, paired=bool(question.pairs), of_ranks=ranked),
        paired=bool(question.pairs),
        why_not=_why_not(question, first, second, test),
        drawn_again=again,
    )


def _welch_interval(first: Values, second: Values) -> tuple[float, float]:
    """The 95 % interval of a difference of means, without equal variances."""
    test = welch_t(first, second)
    if not math.isfinite(test.statistic) or test.statistic == 0:
        if math.isnan(test.statistic):
            return math.nan, math.nan
        error = math.sqrt(variance(first) / first.size + variance(second) / second.size)
    else:
        error = float(first.mean() - second.mean()) / test.statistic
    difference = float(first.mean() - second.mean())
    half = t_quantile(0.975, test.df[0]) * error
    return difference - half, difference + half


def _why_not(question: Question, first: Values, second: Values, test: Test) -> str:
    """The reason for which there is no p; "" where there is one."""
    if math.isfinite(test.p):
        return ""
    what = "pairs" if question.pairs else f"{several(question.unit)} in each group"
    if min(first.size, second.size) < 2:
        return f"A test needs at least 2 {what}."
    return "The values do not differ at all within the groups, so that no test is possible."


def overall(points: Points, question: Question) -> Overall | None:
    """Return the test of all groups together; None for fewer than three."""
    if len(points) < 3 or question.pairs:
        return None
    groups = without_rounding(
        [units_of(group_points, question.unit) for group_points in points.values()]
    )
    if question.test == "ranks":
        test = kruskal_wallis(groups)
        effect = eta_squared_of_ranks(groups, test.statistic)
    else:
        test = welch_anova(groups)
        effect = eta_squared(groups)
    return Overall(test, effect, samples_for_several(effect.value, len(groups)))


def assumptions(points: Points, question: Question) -> tuple[str, ...]:
    """Return what the test takes for granted and how that looks in these values, as sentences."""
    if question.pairs:
        reference, *others = points
        samples = {
            f"{other} − {reference}": np.subtract(*pair_up(points[other], points[reference]))
            for other in others
        }
    else:
        settled = without_rounding(
            [units_of(group_points, question.unit) for group_points in points.values()]
        )
        samples = dict(zip(points, settled, strict=True))
    counts = "; ".join(f"{name}: n = {values.size}" for name, values in samples.items())
    sentences = [f"{counts}."]
    if question.test == "ranks":
        least = _least_p(samples, paired=bool(question.pairs))
        sentences.append(
            "Ranks need no normal distribution; only if the groups are spread alike does the "
            "result speak of their medians."
        )
        if least > 0.05:
            sentences.append(
                f"With so few values the smallest p that is possible is {least:.2g}: this test "
                "cannot show a difference."
            )
        return tuple(sentences)
    sentences.append(_normality(samples))
    if not question.pairs and len(samples) > 1:
        spread = brown_forsythe(list(samples.values())).p
        if math.isfinite(spread):
            unlike = "differ" if spread < 0.05 else "do not differ demonstrably"
            sentences.append(
                f"The variances {unlike} (Brown–Forsythe p = {spread:.2g}); Welch's test does not "
                "need equal ones."
            )
        least = min(values.size for values in samples.values())
        if len(samples) >= _SEVERAL and least < _FEW:
            sentences.append(
                f"With {least} values in a group Welch's analysis of all groups finds an effect "
                "where there is none in somewhat more than 5 % of studies (6 groups of 3: 7.5 %, "
                "of 5: 6.3 %); the tests of two groups do not."
            )
    return tuple(sentences)


def _normality(samples: Mapping[str, Values]) -> str:
    ps = {name: shapiro_wilk(values) for name, values in samples.items()}
    finite = {name: p for name, p in ps.items() if math.isfinite(p)}
    if not finite:
        return "Too few values to see whether they are normally distributed; it is assumed."
    odd = [name for name, p in finite.items() if p < 0.05]
    least = min(values.size for values in samples.values())
    few = f" With {least} values this check sees only gross deviations." if least < 10 else ""
    if odd:
        return (
            f"Not normally distributed: {', '.join(odd)} (Shapiro–Wilk "
            f"p = {', '.join(f'{finite[name]:.2g}' for name in odd)}); compare by ranks too.{few}"
        )
    ends = f"{min(finite.values()):.2g}"
    return f"Nothing speaks against normal distributions (Shapiro–Wilk p ≥ {ends}).{few}"


def _least_p(samples: Mapping[str, Values], *, paired: bool) -> float:
    """The smallest p that a rank test can give with so many values."""
    sizes = [values.size for values in samples.values()]
    if paired:
        return float(2.0 ** (1 - max(sizes, default=0)))
    most = sorted(sizes)[-2:]
    return 2 / math.comb(sum(most), most[0]) if len(most) == 2 else 1.0

"""A design in sentences: its terms, where the variation lies, the next experiment."""

from __future__ import annotations

import math

from rilievo.core.compare.comparison import Comparison
from rilievo.core.compare.design_fit import DesignResult, TermTest
from rilievo.core.compare.effects import ALPHA
from rilievo.core.compare.pairwise_tests import PairwiseResult
from rilievo.core.compare.question import name_of, several
from rilievo.core.compare.variance_components import Plan, plan
from rilievo.core.wording.numbers import p_text


def plural(name: str, count: float) -> str:
    """Return “1 dish” or “3 animals”."""
    if count == 1:
        return f"1 {name}"
    return f"{count:.4g} {several(name)}"


def term_text(term: TermTest) -> str:
    """Return “treatment F(1, 4) = 12.3, p = 0.02”."""
    return f"{term.name} F({term.df1:.4g}, {term.df2:.4g}) = {term.f:.3g}, {p_text(term.p)}"


def of_terms(comparison: Comparison, design: DesignResult) -> list[str]:
    """Return what the terms of a design do, and the groups at each level where they interact."""
    taken = ", ".join(name_of(key) for key in comparison.question.design.blocks)
    away = f" with {taken} taken out" if taken else ""
    sentences = [f"Model of {comparison.label}{away}: {'; '.join(map(term_text, design.terms))}."]
    interacting = [term for term in design.terms if " × " in term.name]
    if interacting and interacting[0].p < ALPHA:
        each = [
            f"{level}: {result.second} − {result.first} {difference(result)}, "
            f"{p_text(result.corrected)}"
            for level, results in design.at_levels.items()
            for result in results
        ]
        sentences.append(f"The effect depends on {design.factor}: {'; '.join(each)}.")
    elif interacting:
        sentences.append(
            f"That the effect depends on {design.factor} was not shown; the differences below are "
            f"averaged over {design.factor}."
        )
    return [*sentences, *design.notes]


def difference(result: PairwiseResult) -> str:
    """Return a difference with its 95 % interval."""
    low, high = result.interval
    ends = f" (95 % interval {low:.4g} to {high:.4g})" if math.isfinite(low) else ""
    return f"{result.difference:+.4g}{ends}" if math.isfinite(result.difference) else "no value"


def of_variation(comparison: Comparison) -> list[str]:
    """Return where the variation of single values lies, and what that means."""
    parts = comparison.variation
    if not parts:
        return [comparison.no_variation] if comparison.no_variation else []
    total = sum(max(component.variance, 0) for component in parts)
    shares = [
        f"{100 * max(component.variance, 0) / total:.0f} % between "
        + several(component.name)
        + (f" of one {parts[index - 1].name}" if index else "")
        for index, component in enumerate(parts)
    ]
    sentences = [f"Of the variation of single values lie {', '.join(shares)}."]
    below = [component.name for component in parts if component.variance < 0]
    if below:
        sentences.append(
            f"The variation between {', '.join(map(several, below))} was estimated "
            "below 0: they are more alike than chance alone makes them, and it is shown as none."
        )
    if comparison.no_variation:
        sentences.append(comparison.no_variation)
    cheapest = plan_of(comparison)
    if cheapest is not None:
        sentences.append(plan_text(comparison, cheapest))
    return sentences


def plan_of(comparison: Comparison) -> Plan | None:
    """Return the cheapest next experiment that shows the largest difference seen, at its costs."""
    seen = [result.difference for result in comparison.versus if math.isfinite(result.difference)]
    if not comparison.variation or not seen:
        return None
    return plan(comparison.variation, costs_of(comparison), max(seen, key=abs))


def costs_of(comparison: Comparison) -> tuple[float, ...]:
    """Return the costs of one more unit of each level; 1 for those that were not given.

    A region costs nothing where a sample has many anyway.
    """
    names = [component.name for component in comparison.variation]
    given = dict(zip(cost_names(comparison), comparison.question.design.costs, strict=False))
    return tuple(given.get(name, 0.0 if name == "region" else 1.0) for name in names)


def cost_names(comparison: Comparison) -> tuple[str, ...]:
    """Return what has a cost, outermost first."""
    design = comparison.question.design
    return (*(name_of(key) for key in design.levels), "sample", "region")


def plan_text(comparison: Comparison, cheapest: Plan) -> str:
    """Return the numbers of the next experiment."""
    parts = comparison.variation
    numbers = [f"{plural(parts[0].name, cheapest.numbers[0])} a group"]
    numbers += [
        f"{plural(component.name, number)} in each"
        for component, number in zip(parts[1:], cheapest.numbers[1:], strict=True)
    ]
    return (
        f"The cheapest experiment that shows the largest of these differences in 80 % of cases: "
        f"{', '.join(numbers)} (cost {cheapest.cost:.4g} with both groups; power "
        f"{100 * cheapest.power:.0f} %)."
    )


def unit_caution(comparison: Comparison) -> str:
    """Return what speaks against the unit of comparison; "" where nothing does."""
    question = comparison.question
    levels = question.design.levels
    if not levels or question.design.modelled:
        return ""
    if question.unit == levels[0]:
        return ""
    outer = name_of(levels[0])
    unit_words = several(question.unit)
    return (
        f"One value is of {unit_words}, which lie in a {outer}. Where the groups differ by what "
        f"was done to whole {outer}s, {unit_words} of one {outer} are not independent: take "
        f"{outer} as the unit, or model the levels."
    )

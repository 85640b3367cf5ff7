"""What would change the answer: the comparison made again under the choices one could ask about.

Each choice changes one thing of the method, or of the test; all samples are measured again.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from rilievo.core.batch import Measurer, RunRequest, finished_tables
from rilievo.core.compare import Attributes, Comparison, Question, compare
from rilievo.core.compare.effects import ALPHA
from rilievo.core.compare.pairwise_tests import PairwiseResult
from rilievo.core.errors import ComparisonError, MethodError
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Method, checked_copy, step_use
from rilievo.core.pipeline.provenance import method_checksum
from rilievo.core.progress import no_report
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.result_frame import ResultFrame
from rilievo.core.signal.steps import STEPS
from rilievo.core.study.preregistration import Preregistration, deviations
from rilievo.core.table.table import RegionTable

_BACKGROUND = "background."
# What needs something that only a person can give has no place here.
_BY_HAND = ("background.patch",)


@dataclass(frozen=True, eq=False)
class Alternative:
    """One choice. kind : what it is about. title : what it is, in words."""

    kind: str
    title: str
    method: Method
    question: Question


@dataclass(frozen=True, eq=False)
class AlternativeResult:
    """The difference of two groups under a choice.

    versus : None where there is none, for the reason `why_not`. flips : whether another conclusion
    follows than from the method as it is. label : of the quantity, with its unit. compared :
    quantity, channel and class.
    """

    kind: str
    title: str
    first: str
    second: str
    versus: PairwiseResult | None
    flips: bool = False
    why_not: str = ""
    label: str = ""
    compared: tuple[str, str, str] = ("", "", "")

    @property
    def difference(self) -> float:
        """Second − first; NaN where there is none."""
        return self.versus.difference if self.versus is not None else math.nan


def alternatives(method: Method, question: Question) -> list[Alternative]:
    """Return the method as it is, and all that differs from it in one choice."""
    choices = [Alternative("as it is", "As it is", method, question)]
    for index, outline in enumerate(method.outlines):
        for kind, title, changed in _of_outline(outline):
            outlines = (*method.outlines[:index], changed, *method.outlines[index + 1 :])
            name = f"{outline.region_class}: {title}" if len(method.outlines) > 1 else title
            choices.append(Alternative(kind, name, method.changed(outlines=outlines), question))
    choices += [
        Alternative("background", title, changed, question)
        for title, changed in _of_background(method)
    ]
    without_rejections = {
        name: checked_copy(exception, edits=tuple(e for e in exception.edits if e.kind != "reject"))
        for name, exception in method.exceptions.items()
    }
    if without_rejections != dict(method.exceptions):
        some = {
            name: exception
            for name, exception in without_rejections.items()
            if not exception.is_nothing
        }
        choices.append(
            Alternative(
                "rejected", "With rejected regions", method.changed(exceptions=some), question
            )
        )
    other = "ranks" if question.test == "means" else "means"
    if not question.design.has_terms:
        choices.append(
            Alternative("test", f"Tested by {other}", method, checked_copy(question, test=other))
        )
    return choices


def of_preregistration(
    preregistration: Preregistration, method: Method, question: Question
) -> list[Alternative]:
    """Return the method as agreed, and as it is with one deviation taken back at a time."""
    if not preregistration.is_made:
        return []
    choices = []
    # A method file was agreed on without a comparison.
    asked = question if preregistration.question == Question() else preregistration.question
    if preregistration.checksum != method_checksum(method) or asked != question:
        choices.append(Alternative("agreed", "As agreed", preregistration.method, asked))
    for deviation in deviations(preregistration, method):
        if deviation.taken_back is not None:
            title = f"As agreed: {deviation.title.lower()}"
            choices.append(Alternative("deviation", title, deviation.taken_back, question))
    return choices


def _of_outline(outline: ClassDefinition) -> Iterator[tuple[str, str, ClassDefinition]]:
    """Kind, title and what a class would be under each choice of its own."""
    use = outline.threshold
    if outline.source == "threshold" and use.entry.find is not None:
        for factor, sign in ((0.9, "−"), (1.1, "+")):
            if use.entry.automatic:
                level = None if use.pooled_level is None else use.pooled_level * factor
                changed = checked_copy(
                    use, factor=use.factor * factor, offset=use.offset * factor, pooled_level=level
                )
            else:
                hand = checked_copy(use.parameters, level=_level_of(use.parameters) * factor)
                changed = checked_copy(use, parameters=hand.model_dump())
            yield "threshold", f"Threshold {sign}10 %", checked_copy(outline, threshold=changed)
        for key in THRESHOLDS:
            entry = THRESHOLDS[key]
            if entry.automatic and key != use.way:
                changed = checked_copy(use, way=key, parameters={}, factor=1.0, offset=0.0,
                                       pooled=False, pooled_level=None)  # fmt: skip
                yield (
                    "threshold",
                    f"Threshold: {entry.title}",
                    checked_copy(outline, threshold=changed),
                )
    for index, clean in enumerate(outline.clean):
        if not clean.on:
            continue
        for title, parameters in _of_clean(clean.cleaner, clean.parameters):
            new = checked_copy(clean, parameters={**clean.parameters.model_dump(), **parameters})
            uses = (*outline.clean[:index], new, *outline.clean[index + 1 :])
            kind = "split" if clean.cleaner.startswith("split") else "limits"
            yield kind, title, checked_copy(outline, clean=uses)


def _level_of(parameters: Any) -> float:
    return float(parameters.level)


def _of_clean(cleaner: str, parameters: Any) -> Iterator[tuple[str, dict[str, float]]]:
    if cleaner.startswith("split"):
        for factor, word in ((0.5, "half"), (2.0, "twice")):
            yield f"Split {word} as strong", {"strength": min(parameters.strength * factor, 100.0)}
    if cleaner == "keep":
        for name, word in (("lower", "smallest"), ("upper", "largest")):
            limit = getattr(parameters, name)
            if not limit:
                continue
            for factor, sign in ((0.8, "−"), (1.2, "+")):
                percent = "20 %"
                title = QUANTITIES[parameters.quantity].title.lower()
                yield (
                    f"Limit of {word} {title} {sign}{percent}",
                    {name: limit * factor},
                )


def _of_background(method: Method) -> Iterator[tuple[str, Method]]:
    """The method with each other way to find the background in place of its first."""
    position = next(
        (k for k, use in enumerate(method.steps) if use.on and use.step.startswith(_BACKGROUND)),
        None,
    )
    if position is None:
        return
    background = method.steps[position]
    exceptions = {
        name: checked_copy(
            exception,
            parameters={k: v for k, v in exception.parameters.items() if k != background.id},
        )
        for name, exception in method.exceptions.items()
    }
    some = {name: exception for name, exception in exceptions.items() if not exception.is_nothing}
    for key in STEPS:
        if not key.startswith(_BACKGROUND) or key == background.step or key in _BY_HAND:
            continue
        try:
            new = checked_copy(step_use(background.id, key), channels=background.channels)
            steps = (*method.steps[:position], new, *method.steps[position + 1 :])
            yield STEPS[key].title, method.changed(steps=steps, exceptions=some)
        except MethodError:
            # A step from elsewhere may have no defaults; nobody could have chosen it blindly.
            continue


def run_alternatives(
    samples: Sequence[SampleRef],
    method: Method,
    question: Question,
    report: Callable[[float], None] = no_report,
    measurer: Measurer | None = None,
    preregistration: Preregistration | None = None,
    *,
    all_choices: bool = True,
) -> list[AlternativeResult]:
    """Return what follows from each choice, for each pair of groups that is compared.

    preregistration : the deviations from it are among the choices; without `all_choices` they
    alone. measurer : measures the samples; one of its own for None. report : takes the
    fraction that is done, and may raise Cancelled.
    Raises ComparisonError where the method as it is gives nothing to compare.
    """
    choices = alternatives(method, question)
    if not all_choices:
        choices = choices[:1]
    if preregistration is not None:
        choices[1:1] = of_preregistration(preregistration, method, question)
    lean = {
        id(alternative.method): _lean(alternative.method, alternative.question)
        for alternative in choices
    }
    choices = [replace(alternative, method=lean[id(alternative.method)]) for alternative in choices]
    # Choices of the test alone have the method as it is.
    methods = list({id(choice.method): choice.method for choice in choices}.values())
    request = RunRequest(samples=samples, methods=methods, stability=False)
    with contextlib.ExitStack() as stack:
        measuring = measurer or stack.enter_context(Measurer())
        results = measuring.measure(request, lambda done: report(done.done / done.total))
        found_by = {
            id(method): finished_tables(outcomes, method)
            for method, outcomes in zip(methods, results, strict=True)
        }
    tables = [found_by[id(choice.method)] for choice in choices]
    attributes = {table.sample: table.attributes for table in tables[0]}
    base = compare(tables[0], question, attributes)
    made: list[AlternativeResult] = []
    for choice, choice_tables in zip(choices, tables, strict=True):
        made += _results(choice, choice_tables, base, attributes)
    return made


def _lean(method: Method, question: Question) -> Method:
    """The method with only the quantities that the comparison needs."""
    needed = {question.quantities[0]}
    quantities = tuple(key for key in method.measure.quantities if key in needed)
    if not quantities:
        # A column that is derived needs the others.
        return method
    return method.changed(measure=checked_copy(method.measure, quantities=quantities, derived=()))


def _results(
    choice: Alternative,
    tables: Sequence[RegionTable],
    base: Comparison,
    attributes: Attributes,
) -> Iterator[AlternativeResult]:
    why, versus = "", {}
    try:
        made = compare(tables, choice.question, attributes)
        versus = {(result.first, result.second): result for result in made.versus}
    except ComparisonError as exc:
        why = str(exc)
    for before in base.versus:
        after = versus.get((before.first, before.second))
        flips = after is not None and _conclusion(after) != _conclusion(before)
        yield AlternativeResult(
            choice.kind, choice.title, before.first, before.second, after, flips,
            why or ("" if after is not None else "One of the groups has no regions any more."),
            base.label, (base.quantity, base.channel, base.region_class),
        )  # fmt: skip


def _conclusion(result: PairwiseResult) -> int:
    """−1, 0 or 1: which way a difference was shown, if at all."""
    if not result.corrected < ALPHA:
        return 0
    return 1 if result.difference > 0 else -1


def sentences(results: Sequence[AlternativeResult]) -> list[str]:
    """Return what follows, a line each pair: the span of the differences, and what flips it."""
    lines = []
    for first, second in dict.fromkeys((result.first, result.second) for result in results):
        pair_results = [r for r in results if (r.first, r.second) == (first, second)]
        comparable = [result for result in pair_results if math.isfinite(result.difference)]
        if not comparable:
            continue
        low, high = (end(comparable, key=lambda result: result.difference) for end in (min, max))
        base = pair_results[0].difference
        now = f"{base:+.4g}" if math.isfinite(base) else "not known"
        lines.append(
            f"{second} − {first} of {pair_results[0].label} is {now} as it is, and "
            f"{low.difference:+.4g} ({low.title}) to {high.difference:+.4g} ({high.title}) under "
            f"{len(pair_results) - 1} other choices."
        )
        flips = [result.title for result in pair_results if result.flips]
        if flips:
            lines.append(f"Another conclusion follows from: {'; '.join(flips)}.")
        else:
            lines.append("The same conclusion follows from all of them.")
        lost = [f"{result.title} ({result.why_not})" for result in pair_results if result.why_not]
        if lost:
            lines.append(f"Not to be compared: {'; '.join(lost)}")
    return lines


def alternatives_frame(results: Sequence[AlternativeResult]) -> ResultFrame:
    """Return a row for each choice and pair of groups."""
    columns = ("quantity", "channel", "class", "kind", "choice", "first", "second", "difference",
               "difference_low_95", "difference_high_95", "p_corrected", "another_conclusion",
               "remark")  # fmt: skip
    rows = [
        (
            *result.compared, result.kind, result.title, result.first, result.second,
            result.difference,
            *(result.versus.interval if result.versus is not None else (math.nan, math.nan)),
            result.versus.corrected if result.versus is not None else math.nan,
            result.flips, result.why_not,
        )
        for result in results
    ]  # fmt: skip
    return ResultFrame.of_rows(columns, rows)

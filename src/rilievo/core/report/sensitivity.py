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
    found = [Alternative("as it is", "As it is", method, question)]
    for index, outline in enumerate(method.outlines):
        for kind, title, changed in _of_outline(outline):
            outlines = (*method.outlines[:index], changed, *method.outlines[index + 1 :])
            name = f"{outline.region_class}: {title}" if len(method.outlines) > 1 else title
            found.append(Alternative(kind, name, method.changed(outlines=outlines), question))
    found += [
        Alternative("background", title, changed, question)
        for title, changed in _of_background(method)
    ]
    kept = {
        name: checked_copy(own, edits=tuple(e for e in own.edits if e.kind != "reject"))
        for name, own in method.exceptions.items()
    }
    if kept != dict(method.exceptions):
        some = {name: own for name, own in kept.items() if not own.is_nothing}
        found.append(
            Alternative(
                "rejected", "With rejected regions", method.changed(exceptions=some), question
            )
        )
    other = "ranks" if question.test == "means" else "means"
    if not question.design.has_terms:
        found.append(
            Alternative("test", f"Tested by {other}", method, checked_copy(question, test=other))
        )
    return found


def of_preregistration(
    preregistration: Preregistration, method: Method, question: Question
) -> list[Alternative]:
    """Return the method as agreed, and as it is with one deviation taken back at a time."""
    if not preregistration.is_made:
        return []
    found = []
    # A method file was agreed on without a comparison.
    asked = question if preregistration.question == Question() else preregistration.question
    if preregistration.checksum != method_checksum(method) or asked != question:
        found.append(Alternative("agreed", "As agreed", preregistration.method, asked))
    for one in deviations(preregistration, method):
        if one.taken_back is not None:
            title = f"As agreed: {one.title.lower()}"
            found.append(Alternative("deviation", title, one.taken_back, question))
    return found


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
    own = method.steps[position]
    exceptions = {
        name: checked_copy(one, parameters={k: v for k, v in one.parameters.items() if k != own.id})
        for name, one in method.exceptions.items()
    }
    some = {name: one for name, one in exceptions.items() if not one.is_nothing}
    for key in STEPS:
        if not key.startswith(_BACKGROUND) or key == own.step or key in _BY_HAND:
            continue
        try:
            new = checked_copy(step_use(own.id, key), channels=own.channels)
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
    lean = {id(one.method): _lean(one.method, one.question) for one in choices}
    choices = [replace(one, method=lean[id(one.method)]) for one in choices]
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
    found: list[AlternativeResult] = []
    for choice, own in zip(choices, tables, strict=True):
        found += _results(choice, own, base, attributes)
    return found


def _lean(method: Method, question: Question) -> Method:
    """The method with only the quantities that the comparison needs."""
    wanted = {question.quantities[0]}
    kept = tuple(key for key in method.measure.quantities if key in wanted)
    if not kept:
        # A column that is derived needs the others.
        return method
    return method.changed(measure=checked_copy(method.measure, quantities=kept, derived=()))


def _results(
    choice: Alternative,
    tables: Sequence[RegionTable],
    base: Comparison,
    attributes: Attributes,
) -> Iterator[AlternativeResult]:
    why, versus = "", {}
    try:
        made = compare(tables, choice.question, attributes)
        versus = {(one.first, one.second): one for one in made.versus}
    except ComparisonError as exc:
        why = str(exc)
    for one in base.versus:
        own = versus.get((one.first, one.second))
        flips = own is not None and _conclusion(own) != _conclusion(one)
        yield AlternativeResult(
            choice.kind, choice.title, one.first, one.second, own, flips,
            why or ("" if own is not None else "One of the groups has no regions any more."),
            base.label, (base.quantity, base.channel, base.region_class),
        )  # fmt: skip


def _conclusion(one: PairwiseResult) -> int:
    """−1, 0 or 1: which way a difference was shown, if at all."""
    if not one.corrected < ALPHA:
        return 0
    return 1 if one.difference > 0 else -1


def sentences(results: Sequence[AlternativeResult]) -> list[str]:
    """Return what follows, a line each pair: the span of the differences, and what flips it."""
    said = []
    for first, second in dict.fromkeys((one.first, one.second) for one in results):
        own = [r for r in results if (r.first, r.second) == (first, second)]
        known = [one for one in own if math.isfinite(one.difference)]
        if not known:
            continue
        low, high = (end(known, key=lambda one: one.difference) for end in (min, max))
        base = own[0].difference
        now = f"{base:+.4g}" if math.isfinite(base) else "not known"
        said.append(
            f"{second} − {first} of {own[0].label} is {now} as it is, and {low.difference:+.4g} "
            f"({low.title}) to {high.difference:+.4g} ({high.title}) under {len(own) - 1} other "
            "choices."
        )
        flips = [one.title for one in own if one.flips]
        if flips:
            said.append(f"Another conclusion follows from: {'; '.join(flips)}.")
        else:
            said.append("The same conclusion follows from all of them.")
        lost = [f"{one.title} ({one.why_not})" for one in own if one.why_not]
        if lost:
            said.append(f"Not to be compared: {'; '.join(lost)}")
    return said


def alternatives_frame(results: Sequence[AlternativeResult]) -> ResultFrame:
    """Return a row for each choice and pair of groups."""
    columns = ("quantity", "channel", "class", "kind", "choice", "first", "second", "difference",
               "difference_low_95", "difference_high_95", "p_corrected", "another_conclusion",
               "remark")  # fmt: skip
    rows = [
        (
            *one.compared, one.kind, one.title, one.first, one.second, one.difference,
            *(one.versus.interval if one.versus is not None else (math.nan, math.nan)),
            one.versus.corrected if one.versus is not None else math.nan,
            one.flips, one.why_not,
        )
        for one in results
    ]  # fmt: skip
    return ResultFrame.of_rows(columns, rows)

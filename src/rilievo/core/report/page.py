"""The report: one self-contained HTML page made from a template.

The same contents give the same bytes; the date is one of the contents.
"""

from __future__ import annotations

import base64
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from rilievo._version import __version__
from rilievo.core.batch import Outcome, finished_tables, measured
from rilievo.core.compare import Attributes, Comparison, Question, compare_all
from rilievo.core.compare.checks_by_group import BatchTable, batch_table
from rilievo.core.compare.choices import Choices, choices_of, fitting_question, open_channel
from rilievo.core.compare.design_wording import unit_caution
from rilievo.core.compare.plots.figure_look import FigureLook
from rilievo.core.compare.plots.panel import NO_PLOT_INPUTS, PlotInputs
from rilievo.core.compare.question import several
from rilievo.core.compare.wording import (
    WHY_NOT_REGIONS,
    WHY_SAMPLES,
    effect_text,
    sentences,
    test_text,
)
from rilievo.core.errors import ComparisonError
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.describe import outline_lines, step_settings
from rilievo.core.method.method import Method, checked_copy
from rilievo.core.method.signal_flags import MARKS
from rilievo.core.pipeline.checks import Check, check_batch
from rilievo.core.pipeline.checks_measured import check_measured_batch
from rilievo.core.pipeline.fingerprints import package_versions
from rilievo.core.pipeline.provenance import method_checksum
from rilievo.core.pipeline.sample_pictures import chosen_evenly
from rilievo.core.report.figures import encoded
from rilievo.core.report.methods_text import methods_text
from rilievo.core.report.rejections import rejections_of
from rilievo.core.report.result_archive import code_of
from rilievo.core.report.sensitivity import AlternativeResult
from rilievo.core.report.sensitivity import sentences as alternatives_in_words
from rilievo.core.signal.steps import STEPS
from rilievo.core.study.history import HistoryEntry, edits_made, were_blind
from rilievo.core.study.preregistration import Preregistration, deviations
from rilievo.core.study.report_options import ReportOptions
from rilievo.core.table.number_reference import reference_of
from rilievo.core.table.summaries import sample_frame
from rilievo.core.table.table import RegionTable
from rilievo.core.wording.numbers import p_number, shown

if TYPE_CHECKING:
    from jinja2 import Template

_WORDS = {
    "reject": "rejected", "accept": "accepted", "merge": "merged", "cut": "cut",
    "redraw": "redrawn", "reclassify": "given another class",
}  # fmt: skip


# More samples than these have no line each.
MOST_LISTED = 1000
Listed = TypeVar("Listed")


@dataclass(frozen=True, eq=False)
class Contents:
    """All that a report may show.

    pictures : sample → title and PNG of each stage. inputs : for plots of histograms and
    pictures. date : when it was made, as text; "" leaves it out. appendix : a heading, and lines
    that stand as they are. asked : fields of a question that all comparisons have in place of
    their own. question : what the study asks. choices : what would change the answer, where that
    was tried.
    preregistration : the method as it was fixed beforehand. errors : of numbers, in words.
    """

    outcomes: Sequence[Outcome]
    method: Method
    options: ReportOptions = field(default_factory=ReportOptions)
    history: Sequence[HistoryEntry] = ()
    pictures: Mapping[str, Sequence[tuple[str, bytes]]] = field(default_factory=dict)
    inputs: PlotInputs = NO_PLOT_INPUTS
    date: str = ""
    study: str = ""
    appendix: tuple[str, Sequence[str]] = ("", ())
    asked: Mapping[str, Any] = field(default_factory=dict)
    question: Question = field(default_factory=Question)
    choices: Sequence[AlternativeResult] = ()
    preregistration: Preregistration = field(default_factory=Preregistration)
    errors: Sequence[str] = ()


def attributes_of(outcomes: Sequence[Outcome]) -> Attributes:
    """Return what is known of each sample beside its group."""
    return {outcome.item.name: outcome.attributes for outcome in outcomes}


def standard_questions(tables: Sequence[RegionTable]) -> list[Question]:
    """Return the comparisons that are made when nobody chose any: means, or fluxes of stars."""
    channels = dict.fromkeys(channel for table in tables for channel in table.channels)
    classes = dict.fromkeys(name for table in tables for name in table.classes)
    return [
        Question(quantities=(key,), channel=channel, region_class=name)
        for name in classes
        for channel in channels
        for key in ("mean", "flux")
        if any(
            key in t.columns.get(channel, {})
            and np.isfinite(t.column(channel, key)[t.of_class(t.classes.index(name))]).any()
            for t in tables
            if name in t.classes
        )
    ]


def questions_of(contents: Contents, tables: Sequence[RegionTable]) -> list[Question]:
    """Return what is compared: first what the study asks, then what its report has besides.

    What the question leaves open follows the rule of `fitting_question`.
    """
    if not tables:
        return []
    method = contents.method
    choices = choices_of(tables, attributes_of(contents.outcomes))
    asked = [
        question.model_copy(
            update={
                "channel": question.channel or open_channel(question, choices.channels, method),
                "region_class": question.region_class or choices.classes[0],
            }
        )
        for question in contents.options.questions
    ]
    if not asked or contents.question != Question():
        first = fitting_question(contents.question, choices, method)
        first = first.model_copy(update={"region_class": first.region_class or choices.classes[0]})
        others = asked or standard_questions(tables)
        asked = [
            first,
            *(other for other in others if not _asks_the_same(other, first, choices, method)),
        ]
    return [with_asked(question, contents.asked) for question in asked]


def _asks_the_same(question: Question, first: Question, choices: Choices, method: Method) -> bool:
    """Whether a question is the first one, but for what it says of things that are not there."""
    fitting = fitting_question(question, choices, method)
    return fitting == first and question.quantities == first.quantities


def comparisons_of(
    contents: Contents, tables: Sequence[RegionTable]
) -> tuple[list[tuple[Comparison, ...]], list[str]]:
    """Return the comparisons, a row a question, and why others could not be made."""
    attributes = attributes_of(contents.outcomes)
    made, refused = [], []
    for question in questions_of(contents, tables):
        try:
            made.append(compare_all(tables, question, attributes))
        except ComparisonError as exc:
            refused.append(str(exc))
    return made, refused


def with_asked(question: Question, asked: Mapping[str, Any]) -> Question:
    """Return the question with what was asked for instead."""
    if not asked:
        return question
    design = checked_copy(question.design, **asked.get("design", {}))
    return checked_copy(question, **{**asked, "design": design})


def _figure(comparisons: Sequence[Comparison], contents: Contents) -> str:
    """The plot of comparisons as SVG that stands in a page."""
    look = FigureLook(ground="#FBF8F2")
    svg = encoded(comparisons, "svg", look, inputs=contents.inputs, clear=True).decode()
    return svg[svg.index("<svg") :]


def _changes(outcomes: Sequence[Outcome], method: Method) -> list[dict[str, Any]]:
    """What ±10 % of the threshold change, over all samples, a row a class."""
    rows = []
    for name in method.class_names:
        measured_changes = [
            outcome.changes[name] for outcome in outcomes if outcome.changes.get(name)
        ]
        if not measured_changes:
            continue
        count = [sum(three[k].count for three in measured_changes) for k in range(3)]
        area = [sum(three[k].area for three in measured_changes) for k in range(3)]
        light = [
            sum(three[k].mean * three[k].area for three in measured_changes if three[k].area)
            for k in range(3)
        ]
        mean = [
            total / pixels if pixels else float("nan")
            for total, pixels in zip(light, area, strict=True)
        ]
        rows.append(
            {
                "name": name,
                "count": count,
                **{
                    key: [
                        100 * (values[k] / values[1] - 1) if values[1] else float("nan")
                        for k in (0, 2)
                    ]
                    for key, values in (("area", area), ("mean", mean))
                },
            }
        )
    return rows


def extremes(tables: Sequence[RegionTable], each: int = 3) -> list[tuple[str, str, float]]:
    """Return the regions with the largest and smallest values of the first intensity measured.

    What it is, the reference under which the window finds the number, and the value.
    """
    columns = []
    channels = dict.fromkeys(name for table in tables for name in table.channels)
    for channel in channels:
        having = [t for t in tables if channel in t.columns]
        keys = ("mean", "flux", *having[0].quantities)
        key = next((k for k in keys if all(k in t.columns[channel] for t in having)), None)
        if key is None:
            continue
        values = [
            (float(value), table, int(region))
            for table in having
            for region, value in zip(table.ids, table.column(channel, key), strict=True)
            if math.isfinite(value)
        ]
        values.sort(key=lambda row: row[0])
        heading = having[0].heading(key, channel)
        ends = [*((f"smallest, {heading}", v) for v in values[:each])]
        ends += [(f"largest, {heading}", v) for v in values[: -each - 1 : -1]]
        columns += [
            (what, reference_of(table, region, channel, key), value)
            for what, (value, table, region) in ends
        ]
    return columns


def _edits(method: Method) -> list[tuple[str, str]]:
    """Changes by hand, a line a sample."""
    rows = []
    for name, exception in method.exceptions.items():
        counts: dict[str, int] = {}
        for edit in exception.edits:
            counts[_WORDS.get(edit.kind, edit.kind)] = (
                counts.get(_WORDS.get(edit.kind, edit.kind), 0) + 1
            )
        parts = [f"{count} {word}" for word, count in counts.items()]
        parts += [f"other settings of the step “{step}”" for step in exception.parameters]
        if parts:
            rows.append((name, ", ".join(parts)))
    return rows


def batch_of(outcomes: Sequence[Outcome], tables: Sequence[RegionTable]) -> BatchTable:
    """Return samples × checks of a batch."""
    properties = {o.item.name: o.properties for o in outcomes if o.properties is not None}
    return batch_table(properties, tables, {o.item.name: o.item.group for o in outcomes})


def _data_address(png: bytes) -> str:
    return f"data:image/png;base64,{base64.b64encode(png).decode()}"


def tint(z: float) -> str:
    """Return the colour of a check: blue below the others, sienna above, the more the farther."""
    red, green, blue = (46, 110, 142) if z < 0 else (156, 91, 46)
    return f"background: rgba({red}, {green}, {blue}, {min(abs(z) / 8, 1) * 0.6:.2f})"


@dataclass(frozen=True, eq=False)
class Findings:
    """What tables and report have in common, worked out once.

    comparisons : a row a question; refused : why others could not be made. checks : of samples and
    of the batch.
    """

    outcomes: Sequence[Outcome]
    tables: Sequence[RegionTable]
    comparisons: Sequence[tuple[Comparison, ...]]
    refused: Sequence[str]
    checks: Sequence[Check]

    @classmethod
    def of(cls, contents: Contents, *, with_columns: bool = True) -> Findings:
        """Return what is found in the outcomes, each read from where it is kept once.

        with_columns : False where derived columns were made before.
        """
        every = list(contents.outcomes)
        contents = replace(contents, outcomes=every)
        tables = finished_tables(every, contents.method) if with_columns else measured(every)
        properties = {o.item.name: o.properties for o in every if o.properties is not None}
        checks = [check for outcome in every for check in outcome.checks]
        checks += [*check_measured_batch(tables), *check_batch(properties)]
        return cls(every, tables, *comparisons_of(contents, tables), checks)


def _listed(things: Sequence[Listed]) -> Sequence[Listed]:
    """Those that have a line of their own: all, or of very many some, evenly chosen."""
    if len(things) <= MOST_LISTED:
        return things
    return [things[k] for k in chosen_evenly(len(things), MOST_LISTED)]


_HOW_BAD = ("serious", "caution", "note")


def _worst(checks: Sequence[Check]) -> Sequence[Check]:
    """The checks that are listed: all, or of very many the most serious."""
    if len(checks) <= MOST_LISTED:
        return checks
    return sorted(checks, key=lambda check: _HOW_BAD.index(check.severity))[:MOST_LISTED]


def _template() -> Template:
    """The page with what it calls."""
    import jinja2  # noqa: PLC0415 (slow to import)

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("rilievo.core.report"),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters |= {
        "number": shown, "p": p_number, "tint": tint, "tested": test_text, "effect": effect_text,
        "address": _data_address, "sentences": sentences,
        "several": several, "unit_caution": unit_caution,
        "files": lambda outcome: outcome.checksums,
    }  # fmt: skip
    return environment.get_template("report.html.j2")


def report_page(contents: Contents, findings: Findings | None = None) -> str:
    """Return the report as HTML without outside references.

    findings : of these contents, where they are known.
    """
    method, options = contents.method, contents.options
    findings = findings or Findings.of(contents)
    every, tables = findings.outcomes, findings.tables
    return _template().render(
        options=options,
        title=options.title or contents.study or method.name,
        date=contents.date,
        appendix=contents.appendix,
        method=method,
        method_checksum=method_checksum(method),
        code=code_of(method, every),
        packages=package_versions(),
        choices=contents.choices,
        errors=contents.errors,
        choices_said=alternatives_in_words(contents.choices),
        preregistration=contents.preregistration,
        deviations=(
            deviations(contents.preregistration, method) if contents.preregistration.is_made else []
        ),
        comparisons=[(several, _figure(several, contents)) for several in findings.comparisons],
        refused=findings.refused,
        why_samples=WHY_SAMPLES,
        why_not_regions=WHY_NOT_REGIONS,
        samples=sample_frame(_listed(tables)).records(),
        listed=_listed(every),
        most_listed=MOST_LISTED,
        attributes={name: values for name, values in attributes_of(every).items() if values},
        outcomes=every,
        failures=[outcome for outcome in every if outcome.failure is not None],
        pictures=contents.pictures,
        measured=len(tables),
        checks=_worst(findings.checks),
        all_checks=len(findings.checks),
        batch=batch_of(_listed(every), _listed(tables)),
        edits=_edits(method),
        rejections=rejections_of(every, method).sentence,
        edits_made=edits_made(contents.history),
        blind=were_blind(contents.history),
        quantities=[QUANTITIES[key] for key in method.measure.quantities],
        steps=[
            (use, STEPS[use.step].is_linear(use.parameters), step_settings(use))
            for use in method.steps
        ],
        marks=MARKS,
        history=contents.history,
        methods=methods_text(method),
        outlines=[(outline, outline_lines(outline)) for outline in method.outlines],
        changes=_changes(every, method),
        extremes=extremes(tables),
        version=__version__,
    )

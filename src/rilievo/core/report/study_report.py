"""The report of a study: all its samples measured, pictured, compared, with its history."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from rilievo.core.batch import Measurer, Results, RunRequest, measured
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.plots.panel import PlotInputs
from rilievo.core.errors import ComparisonError
from rilievo.core.files.sample_ref import SampleRef, labelled
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import ValueSource
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.sample_pictures import (
    SmallPictures,
    chosen_evenly,
    side_for,
    small_pictures,
)
from rilievo.core.progress import no_report as no_progress
from rilievo.core.report.outputs import write_page
from rilievo.core.report.page import Contents, questions_of, report_page
from rilievo.core.report.page_pictures import as_png, ends_for, painted_shots
from rilievo.core.report.sensitivity import run_alternatives
from rilievo.core.study.history import HistoryEntry
from rilievo.core.study.report_options import ReportOptions
from rilievo.core.study.study import StudyState

Report = Callable[[str, float], None]
# Pictures of so many samples stand in a report; of more, they are chosen evenly.
MOST_PICTURED = 400
# Display ranges are found from so many samples, taken evenly.
_FOR_ENDS = 24
NOTHING_ASKED: Mapping[str, Any] = {}


def no_report(what: str, fraction: float) -> None:
    """Take what is done and how far and ignore it."""


def study_contents(
    state: StudyState,
    history: Sequence[HistoryEntry] = (),
    measurer: Measurer | None = None,
    *,
    report: Report = no_report,
    date: str | None = None,
    asked: Mapping[str, Any] = NOTHING_ASKED,
) -> Contents:
    """Measure a study and gather what its report shows.

    measurer : measures the samples, of which it may know some; one of its own for None. date :
    None is now. asked : fields of a question that all comparisons have in place of their own.
    """
    with ExitStack() as stack:
        measuring = measurer or stack.enter_context(Measurer())
        request = RunRequest(
            samples=labelled(state.samples),
            methods=(state.method,),
            pictures=MOST_PICTURED if _wants_pictures(state.report) else 0,
        )
        outcomes = measuring.measure(
            request, lambda progress: report("Measuring", progress.done / progress.total)
        )[0]
        contents = Contents(
            outcomes=outcomes,
            method=state.method,
            options=state.report,
            history=history,
            date=datetime.now().astimezone().isoformat(timespec="seconds")
            if date is None
            else date,
            study=state.name,
            asked=asked,
            question=state.question,
            preregistration=state.preregistration,
        )
        contents = with_pictures(contents, measuring, state, report)
        if not state.report.with_choices and not state.preregistration.is_made:
            return contents
        return with_choices(
            contents,
            measuring,
            lambda fraction: report("Other choices", fraction),
            all_choices=state.report.with_choices,
        )


def with_choices(
    contents: Contents,
    measurer: Measurer,
    report: Callable[[float], None] = no_progress,
    *,
    all_choices: bool = True,
) -> Contents:
    """Return the contents with what would change the answer of the first comparison.

    all_choices : whether all are tried, or deviations from an agreed method alone. Where there is
    nothing to compare, that is all. Raises Cancelled where `report` does.
    """
    outcomes = list(contents.outcomes)
    asked = questions_of(contents, measured(outcomes))
    if not asked:
        return contents
    try:
        results = run_alternatives(
            [outcome.item for outcome in outcomes],
            contents.method,
            asked[0],
            report,
            measurer,
            contents.preregistration,
            all_choices=all_choices,
        )
    except ComparisonError:
        # Said where the comparison itself is made.
        return contents
    return replace(contents, choices=results)


def _shown_beside(options: ReportOptions) -> set[str]:
    """What the plots of the report show beside numbers."""
    return {input_name for q in options.questions for input_name in PLOTS[q.shown_as].inputs}


def _wants_pictures(options: ReportOptions) -> bool:
    return options.has("pictures") or "pictures" in _shown_beside(options)


def with_pictures(
    contents: Contents,
    measurer: Measurer,
    state: StudyState | None = None,
    report: Report = no_report,
    most: int = MOST_PICTURED,
) -> Contents:
    """Return the contents with pictures of samples that were measured, and what plots show of them.

    They are painted of what is kept with the outcomes; a sample that was measured without is read
    and evaluated once more. state : how the study shows its channels. most : so many samples,
    evenly chosen.
    """
    outcomes, options, state = contents.outcomes, contents.options, state or StudyState()
    shown = _shown_beside(options)
    if not shown and not options.has("pictures"):
        return contents
    chosen = [outcomes[k] for k in chosen_evenly(len(outcomes), most)]
    good = {outcome.item.name: outcome for outcome in chosen if outcome.failure is None}
    small: dict[str, SmallPictures] = {}
    histograms: dict[str, Histogram] = {}
    channel = next((q.channel for q in options.questions if q.channel), "")
    if _wants_pictures(options):
        small = {
            name: SmallPictures.from_bytes(outcome.pictures)
            for name, outcome in good.items()
            if outcome.pictures
        }

    def look_again(ref: SampleRef, analyses: list[Analysis]) -> None:
        analysis, names = analyses[0], analyses[0].sample.channel_names
        if "histograms" in shown:
            name = channel if channel in names else names[0]
            histograms[ref.name] = analysis.histogram(name)
        if _wants_pictures(options) and ref.name not in small:
            small[ref.name] = small_pictures(analysis, side_for(len(chosen)))

    method = outcomes.method if isinstance(outcomes, Results) else contents.method
    again = [
        outcome.item
        for name, outcome in good.items()
        if "histograms" in shown or (_wants_pictures(options) and name not in small)
    ]
    # What cannot be shown is said among what was not measured.
    measurer.each(again, [method], look_again, lambda fraction: report("Pictures", fraction))
    some = [small[name] for name in good if name in small]
    all_ends = ends_for(some[:: max(len(some) // _FOR_ENDS, 1)])
    # A sample with other channels than these has ranges of its own.
    ends = _set_by_hand(state, ends_for(some) | all_ends)
    pictures: dict[str, list[tuple[str, bytes]]] = {}
    small_ones = {}
    for done, name in enumerate(good):
        measurer.control.check()
        report("Pictures", done / len(good))
        if name not in small:
            continue
        shots = painted_shots(small[name], ends, state.style_of(None, small[name].shots[0].channel))
        if options.has("pictures"):
            pictures[name] = [(shot.title, as_png(pixels)) for shot, pixels in shots]
        small_ones[name] = shots[-1][1]
    groups = {outcome.item.name: outcome.item.group for outcome in outcomes}
    inputs = PlotInputs(histograms, small_ones if "pictures" in shown else {}, groups)
    return replace(contents, pictures=pictures, inputs=inputs)


def _set_by_hand(
    state: StudyState, ends: Mapping[tuple[str, ValueSource], tuple[float, float]]
) -> dict[tuple[str, ValueSource], tuple[float, float]]:
    """Ranges that were set by hand stand in place of those that were found."""
    return {
        (channel, source): state.range_of(None, channel, source) or automatic
        for (channel, source), automatic in ends.items()
    }


def write_study_report(contents: Contents, path: Path) -> None:
    """Write a report as HTML or PDF, by the name's ending. Raises FileUnreadable."""
    write_page(report_page(contents), path)

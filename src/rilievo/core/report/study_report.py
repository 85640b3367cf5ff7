"""The report of a study: all its samples measured, pictured, compared, with its history."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from rilievo.core.batch import (
    BatchItem,
    Control,
    Progress,
    Results,
    ResultStore,
    measured,
    run_batch,
)
from rilievo.core.batch.item import items_of, read_item
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.plots.panel import PlotInputs
from rilievo.core.errors import Cancelled, ComparisonError, RilievoError
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Lane, Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.small_pictures import (
    SmallPictures,
    chosen_evenly,
    side_for,
    small_pictures,
)
from rilievo.core.progress import no_report as no_progress
from rilievo.core.report.alternatives import run_alternatives
from rilievo.core.report.outputs import write_outputs, write_page
from rilievo.core.report.page import Contents, report_page, standard_questions, with_asked
from rilievo.core.report.pictures import as_png, ends_for, painted_shots
from rilievo.core.study.history import HistoryEntry
from rilievo.core.study.study import StudyState

Report = Callable[[str, float], None]
# Pictures of so many samples stand in a report; of more, they are chosen evenly.
MOST_PICTURED = 400
# Display ranges are found from so many samples, taken evenly.
_FOR_ENDS = 24
NOTHING_ASKED: Mapping[str, Any] = {}
_BUDGET = 256_000_000


def no_report(what: str, fraction: float) -> None:
    """Take what is done and how far and ignore it."""


def study_contents(
    state: StudyState,
    history: Sequence[HistoryEntry] = (),
    *,
    jobs: int = 1,
    store: ResultStore | None = None,
    control: Control | None = None,
    report: Report = no_report,
    date: str | None = None,
    evaluator: Evaluator | None = None,
    asked: Mapping[str, Any] = NOTHING_ASKED,
) -> Contents:
    """Measure a study and gather what its report shows.

    store : results that are known already, and where new ones are kept. date : None is now.
    evaluator : used with what it holds already, where no processes work. asked : fields of a
    question that all comparisons have in place of their own.
    """
    items = items_of(state.samples)

    def heard(progress: Progress) -> None:
        report("Measuring", progress.done / progress.total)

    outcomes = run_batch(
        items,
        state.method,
        jobs=jobs,
        store=store,
        control=control,
        report=heard,
        evaluator=evaluator,
        pictures=MOST_PICTURED if _wants_pictures(state) else 0,
    )
    pictures, inputs = collect_pictures(outcomes, state, control or Control(), report)
    contents = Contents(
        outcomes=outcomes,
        method=state.method,
        options=state.report,
        history=history,
        pictures=pictures,
        inputs=inputs,
        date=datetime.now().astimezone().isoformat(timespec="seconds") if date is None else date,
        study=state.name,
        asked=asked,
        agreement=state.agreement,
    )
    if not state.report.with_choices and not state.agreement.is_made:
        return contents
    return with_choices(
        contents,
        lambda fraction: report("Other choices", fraction),
        evaluator,
        all_choices=state.report.with_choices,
    )


def with_choices(
    contents: Contents,
    report: Callable[[float], None] = no_progress,
    evaluator: Evaluator | None = None,
    *,
    all_choices: bool = True,
) -> Contents:
    """Return the contents with what would change the answer of the first comparison.

    all_choices : whether all are tried, or deviations from an agreed method alone. Where there is
    nothing to compare, that is all. Raises Cancelled where `report` does.
    """
    outcomes = list(contents.outcomes)
    asked = contents.options.questions or standard_questions(measured(outcomes))
    if not asked:
        return contents
    question = with_asked(asked[0], contents.asked)
    items = [outcome.item for outcome in outcomes]
    try:
        found = run_alternatives(
            items,
            contents.method,
            question,
            report,
            evaluator,
            contents.agreement,
            all_choices=all_choices,
        )
    except ComparisonError:
        # Said where the comparison itself is made.
        return contents
    return replace(contents, choices=found)


def _shown_beside(state: StudyState) -> set[str]:
    """What the plots of the report show beside numbers."""
    return {one for q in state.report.questions for one in PLOTS[q.shown_as].inputs}


def _wants_pictures(state: StudyState) -> bool:
    return state.report.has("pictures") or "pictures" in _shown_beside(state)


def collect_pictures(
    outcomes: Results,
    state: StudyState,
    control: Control,
    report: Report = no_report,
    most: int = MOST_PICTURED,
) -> tuple[dict[str, list[tuple[str, bytes]]], PlotInputs]:
    """Return the pictures of samples that were measured, and what plots show of them.

    They are painted of what is kept with the outcomes; a sample that was measured without is read
    and evaluated once more. most : so many samples, evenly chosen.
    """
    shown = _shown_beside(state)
    if not shown and not state.report.has("pictures"):
        return {}, PlotInputs()
    again = _Again(outcomes.method)
    chosen = chosen_evenly(len(outcomes), most)
    known: dict[str, SmallPictures] = {}
    histograms: dict[str, Histogram] = {}
    channel = next((q.channel for q in state.report.questions if q.channel), "")
    for done, k in enumerate(chosen):
        control.wait()
        report("Pictures", done / len(chosen))
        outcome = outcomes[k]
        if outcome.failure is not None:
            continue
        if _wants_pictures(state):
            small = (
                SmallPictures.from_bytes(outcome.pictures)
                if outcome.pictures
                else again.pictures(outcome.item, side_for(len(chosen)))
            )
            if small is not None:
                known[outcome.item.name] = small
        if "histograms" in shown:
            histogram = again.histogram(outcome.item, channel)
            if histogram is not None:
                histograms[outcome.item.name] = histogram
    some = list(known.values())
    found = ends_for(some[:: max(len(some) // _FOR_ENDS, 1)])
    # A sample with other channels than these has ranges of its own.
    ends = _set_by_hand(state, ends_for(some) | found)
    pictures: dict[str, list[tuple[str, bytes]]] = {}
    small_ones = {}
    for name, small in known.items():
        shots = painted_shots(small, ends, state.style_of(None, small.shots[0].channel))
        if state.report.has("pictures"):
            pictures[name] = [(shot.title, as_png(pixels)) for shot, pixels in shots]
        small_ones[name] = shots[-1][1]
    groups = {item.name: item.group for item in outcomes.items}
    return pictures, PlotInputs(histograms, small_ones if "pictures" in shown else {}, groups)


class _Again:
    """Samples read and evaluated once more, where an outcome does not hold what is wanted."""

    def __init__(self, method: Method) -> None:
        self._evaluator, self._method = Evaluator(_BUDGET), method

    def pictures(self, item: BatchItem, side: int) -> SmallPictures | None:
        try:
            return small_pictures(self._evaluator, self._sample(item), self._method, side)
        except Cancelled:
            raise
        except RilievoError:
            # Said among what was not measured.
            return None

    def histogram(self, item: BatchItem, channel: str) -> Histogram | None:
        try:
            sample = self._sample(item)
            name = channel if channel in sample.channels else sample.channel_names[0]
            return self._evaluator.histogram(sample, name, self._method)
        except Cancelled:
            raise
        except RilievoError:
            return None

    def _sample(self, item: BatchItem) -> Sample:
        return self._evaluator.prepared(read_item(item), self._method, item.declared)


def _set_by_hand(
    state: StudyState, ends: Mapping[tuple[str, Lane], tuple[float, float]]
) -> dict[tuple[str, Lane], tuple[float, float]]:
    """Ranges that were set by hand stand in place of those that were found."""
    return {
        (channel, lane): state.range_of(None, channel, lane) or own
        for (channel, lane), own in ends.items()
    }


def write_results(
    state: StudyState, history: Sequence[HistoryEntry], folder: Path, contents: Contents
) -> None:
    """Write tables, method, checks, history and report into a folder. Raises FileUnreadable."""
    write_outputs(contents.outcomes, state.method, folder, history, report=contents)


def write_study_report(contents: Contents, path: Path) -> None:
    """Write a report as HTML or PDF, by the name's ending. Raises FileUnreadable."""
    write_page(report_page(contents), path)

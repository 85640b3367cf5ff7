"""The report of a study: all its samples measured, pictured, compared, with its history."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from pathlib import Path

from rilievo.core.atomic_write import write_text_safely
from rilievo.core.batch import BatchItem, Control, Progress, ResultStore, run_batch
from rilievo.core.batch.item import items_of, read_item
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.plots.panel import PlotInputs
from rilievo.core.errors import Cancelled, ComparisonError, RilievoError
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Lane, Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.page import Contents, report_page
from rilievo.core.report.pdf import write_pdf
from rilievo.core.report.pictures import as_png, ends_for, shot_pixels, shots_of, side_for
from rilievo.core.study.history import HistoryEntry
from rilievo.core.study.study import StudyState

Report = Callable[[str, float], None]
# Display ranges are found from so many samples, taken evenly.
_FOR_ENDS = 24
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
) -> Contents:
    """Measure a study and gather what its report shows.

    store : results that are known already, and where new ones are kept. date : None is now.
    evaluator : used with what it holds already, where no processes work.
    """
    items = items_of(state.samples)

    def heard(progress: Progress) -> None:
        report("Measuring", progress.done / progress.total)

    outcomes = run_batch(
        items, state.method, jobs=jobs, store=store, control=control, report=heard,
        evaluator=evaluator,
    )  # fmt: skip
    pictures, inputs = collect_pictures(items, outcomes.method, state, control or Control(), report)
    return Contents(
        outcomes=outcomes,
        method=state.method,
        options=state.report,
        history=history,
        pictures=pictures,
        inputs=inputs,
        date=datetime.now().astimezone().isoformat(timespec="seconds") if date is None else date,
        study=state.name,
    )


def collect_pictures(
    items: Sequence[BatchItem],
    method: Method,
    state: StudyState,
    control: Control,
    report: Report = no_report,
) -> tuple[dict[str, list[tuple[str, bytes]]], PlotInputs]:
    """Return the pictures of all samples that can be read, and what plots show of them."""
    evaluator = Evaluator(_BUDGET)
    wants = state.report.has("pictures")
    shown = {one for q in state.report.questions for one in PLOTS[q.shown_as].inputs}
    if not wants and not shown:
        return {}, PlotInputs()
    read = _reader(evaluator, method)
    some = [read(item) for item in items[:: max(len(items) // _FOR_ENDS, 1)]]
    known = [sample for sample in some if sample is not None]
    if not known:
        return {}, PlotInputs()
    shots = shots_of(method, known[0])
    ends = _set_by_hand(state, ends_for(evaluator, known, shots, method))
    del some, known
    side = side_for(len(items))
    pictures: dict[str, list[tuple[str, bytes]]] = {}
    histograms: dict[str, Histogram] = {}
    small = {}
    channel = next((q.channel for q in state.report.questions if q.channel), "")
    for done, item in enumerate(items):
        control.wait()
        report("Pictures", done / len(items))
        sample = read(item)
        if sample is None:
            continue
        own = [shot for shot in shots if shot.channel in sample.channels]
        try:
            if not own:
                # It has other channels than the first sample.
                own = shots_of(method, sample)
                ends |= ends_for(evaluator, [sample], own, method)
            style = state.style_of(None, own[0].channel)
            pixels = [
                shot_pixels(evaluator, sample, method, shot, ends[shot.key], side, style)
                for shot in own
            ]
        except Cancelled:
            raise
        except RilievoError:
            # Said among what was not measured.
            continue
        if wants:
            pictures[item.name] = [
                (shot.title, as_png(one)) for shot, one in zip(own, pixels, strict=True)
            ]
        small[item.name] = pixels[-1]
        if "histograms" in shown:
            name = channel if channel in sample.channels else sample.channel_names[0]
            histograms[item.name] = evaluator.histogram(sample, name, method)
    groups = {item.name: item.group for item in items}
    return pictures, PlotInputs(histograms, small if "pictures" in shown else {}, groups)


def _reader(evaluator: Evaluator, method: Method) -> Callable[[BatchItem], Sample | None]:
    def read(item: BatchItem) -> Sample | None:
        try:
            return evaluator.prepared(read_item(item), method, item.declared)
        except RilievoError:
            # Said among what was not measured.
            return None

    return read


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
    if path.suffix.lower() not in (".html", ".pdf"):
        raise ComparisonError(f"“{path.name}” must end in .html or .pdf.")
    page = report_page(contents)
    if path.suffix.lower() == ".pdf":
        write_pdf(page, path)
    else:
        write_text_safely(path, page)

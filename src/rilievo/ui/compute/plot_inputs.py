"""What some plots of Compare show beside the numbers: histograms and small pictures."""

from __future__ import annotations

from collections.abc import Callable

from rilievo.core.compare import Question
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.plots.panel import NO_PLOT_INPUTS, PlotInputs
from rilievo.core.pipeline.sample_pictures import Shot, small_pictures
from rilievo.core.report.page_pictures import shot_pixels
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession

_SIDE = 200


def plot_inputs_for(
    session: StudySession, compute: Compute, question: Question
) -> Callable[[], PlotInputs]:
    """Return what makes the inputs of a question, to be called in a thread."""
    entries = [entry for entry in session.state.samples if entry.id in compute.store.samples]
    groups = {entry.name: entry.group for entry in entries}
    channel = question.channel
    wanted = PLOTS[question.shown_as].inputs
    if "histograms" in wanted:
        known = {
            entry.name: facts.signal[channel]
            for entry in entries
            if (facts := compute.queue.summaries.get(entry.id)) is not None
            and channel in facts.signal
        }
        return lambda: PlotInputs(known, {}, groups)
    if "pictures" not in wanted:
        return lambda: NO_PLOT_INPUTS
    shot = Shot(channel, channel, "signal")
    ends, style = compute.ranges.display_range(channel, "signal"), compute.ranges.style(channel)
    analyses = [
        (entry.name, compute.store.analysis(entry.id))
        for entry in entries
        if channel in compute.store.samples[entry.id].channels
    ]

    def work() -> PlotInputs:
        pictures = {
            name: shot_pixels(small_pictures(analysis, _SIDE, [shot]), shot, ends, style)
            for name, analysis in analyses
        }
        return PlotInputs({}, pictures, groups)

    return work

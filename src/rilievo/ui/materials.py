"""What some plots of Compare show beside the numbers: histograms and small pictures."""

from __future__ import annotations

from collections.abc import Callable

from rilievo.core.compare import Question
from rilievo.core.report.pictures import Shot, shot_pixels
from rilievo.core.report.plots import NO_MATERIAL, Material
from rilievo.ui.model import StudyModel
from rilievo.ui.workbench import Workbench

_SIDE = 200


def material_for(model: StudyModel, bench: Workbench, question: Question) -> Callable[[], Material]:
    """Return what makes the material of a question, to be called in a thread."""
    entries = [entry for entry in model.state.samples if entry.id in bench.samples]
    groups = {entry.name: entry.group for entry in entries}
    channel = question.channel
    if question.shown_as == "histograms":
        known = {
            entry.name: facts.signal[channel]
            for entry in entries
            if (facts := bench.facts.get(entry.id)) is not None and channel in facts.signal
        }
        return lambda: Material(known, {}, groups)
    if question.shown_as != "pictures":
        return lambda: NO_MATERIAL
    method, evaluator = model.state.method, bench.evaluator
    shot = Shot(channel, channel, "signal")
    ends, style = bench.display_range(channel, "signal"), bench.style(channel)
    samples = [
        (entry.name, bench.samples[entry.id].renamed(entry.name))
        for entry in entries
        if channel in bench.samples[entry.id].channels
    ]

    def work() -> Material:
        pictures = {
            name: shot_pixels(evaluator, sample, method, shot, ends, _SIDE, style)
            for name, sample in samples
        }
        return Material({}, pictures, groups)

    return work

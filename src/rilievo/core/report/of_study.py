"""The report of a study: all its samples measured, with its history."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rilievo.core.batch import BatchItem, Outcome, measure_sample
from rilievo.core.errors import RilievoError
from rilievo.core.evaluate import Evaluator
from rilievo.core.history import HistoryEntry
from rilievo.core.report.outputs import write_outputs
from rilievo.core.study import SampleEntry, StudyState


def write_report(
    state: StudyState, history: Sequence[HistoryEntry], evaluator: Evaluator, folder: Path
) -> None:
    """Write what a run writes, and history.csv. Raises FileUnreadable."""
    outcomes = [_outcome(entry, state, evaluator) for entry in state.samples]
    write_outputs(outcomes, state.method, folder, history)


def _outcome(entry: SampleEntry, state: StudyState, evaluator: Evaluator) -> Outcome:
    item = BatchItem(entry.path, entry.name, entry.group)
    try:
        read = evaluator.sample(entry.sources, entry.name)
        sample = evaluator.prepared(read, state.method, entry.declared)
    except RilievoError as exc:
        return Outcome(item, None, (), failure=str(exc))
    return measure_sample(item, sample.renamed(entry.name), state.method, evaluator)

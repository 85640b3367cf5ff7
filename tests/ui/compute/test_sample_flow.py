"""Samples read, evaluated and previewed, without a window."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QObject
from pytestqt.qtbot import QtBot

from rilievo.core.cleaning.region_filter import KeepRange
from rilievo.core.method.class_definition import CleanUse
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.ui.compute.drag_preview import DragPreview
from rilievo.ui.compute.evaluation_queue import EvaluationQueue
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.sample_store import SampleStore
from rilievo.ui.session.study_session import StudySession

WAIT = 60_000


@dataclass
class Flow:
    session: StudySession
    jobs: Jobs
    store: SampleStore
    queue: EvaluationQueue
    drag: DragPreview
    qtbot: QtBot

    def settle(self) -> None:
        self.qtbot.waitUntil(lambda: self.jobs.idle, timeout=WAIT)

    def take(self, *paths: Path) -> None:
        session = self.session
        session.change("Add images", session.state.with_files(paths))
        if session.focus.sample_id is None:
            session.focus.set(sample_id=session.state.samples[0].id)
        self.settle()


@pytest.fixture
def flow(qtbot: QtBot) -> Iterator[Flow]:
    root = QObject()
    session, jobs = StudySession(root), Jobs(root)
    store = SampleStore(session, jobs, AnalysisCache(), root)
    queue = EvaluationQueue(session, jobs, store, root)
    drag = DragPreview(session, jobs, store, root)
    yield Flow(session, jobs, store, queue, drag, qtbot)
    jobs.close()
    root.deleteLater()


@pytest.fixture
def files(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list[Path]:
    return [write_tiff(f"in/{k}.tif", blobs + np.uint16(k)) for k in range(3)]


def test_samples_are_there_with_what_is_known_of_them(flow: Flow, files: list[Path]) -> None:
    flow.take(*files)
    assert [flow.store.samples[k].name for k in (1, 2, 3)] == ["0", "1", "2"]
    assert set(flow.queue.summaries) == {1, 2, 3}
    assert flow.queue.focused is flow.queue.summaries[flow.session.focus.sample_id or 0]
    assert flow.session.focus.channel == "gray"
    (regions,) = flow.queue.summaries[1].regions
    # Three rectangles of 200, 400 and 1 pixels on a level ground.
    assert regions is not None and regions.count == 3


def test_what_cannot_be_read_is_said_and_the_others_come(flow: Flow, files: list[Path]) -> None:
    (files[0].parent / "broken.tif").write_text("no image")
    told: list[tuple[int, str]] = []
    flow.store.load_failed.connect(lambda number, text: told.append((number, text)))
    flow.take(files[0].parent / "broken.tif", *files)
    assert [number for number, _ in told] == [1] and "broken.tif" in told[0][1]
    assert set(flow.store.errors) == {1} and set(flow.queue.summaries) == {2, 3, 4}


def test_a_summary_is_of_the_present_method(flow: Flow, files: list[Path]) -> None:
    flow.take(*files)
    assert flow.queue.current(1) is not None
    flow.session.change_class("Change", keep="dark")
    assert flow.queue.current(1) is None
    flow.settle()
    now = flow.queue.current(1)
    assert now is not None and now.regions[0] is not None and now.regions[0].count == 1
    # The name of the method changes no region.
    flow.session.change_method("Rename", flow.session.state.method.changed(name="other"))
    assert flow.queue.current(1) is now and flow.jobs.idle


def test_nothing_is_kept_of_samples_that_left(flow: Flow, files: list[Path]) -> None:
    flow.take(*files)
    gone = flow.session.state.samples[1]
    rest = tuple(entry for entry in flow.session.state.samples if entry is not gone)
    flow.session.change("Remove", replace(flow.session.state, samples=rest))
    flow.settle()
    assert gone.id not in flow.store.samples and gone.id not in flow.queue.summaries
    with flow.qtbot.waitSignal(flow.store.emptied, timeout=WAIT):
        flow.session.clear()
    assert not flow.store.samples and not flow.queue.summaries and not flow.store.quick_ends


def test_a_dragged_threshold_is_one_entry_once_it_rests(flow: Flow, files: list[Path]) -> None:
    flow.take(files[0])
    before = flow.session.undo_stack.count()
    flow.drag.begin()
    for level in (150.0, 250.0, 350.0):
        flow.drag.preview(level)
        assert flow.drag.level == level
    assert flow.session.undo_stack.count() == before
    flow.qtbot.waitUntil(lambda: not flow.drag.rest.isActive(), timeout=WAIT)
    assert flow.drag.level is None and flow.session.undo_stack.count() == before + 1
    flow.settle()
    summary = flow.queue.focused
    assert summary is not None and summary.regions[0] is not None
    # Of 300, 500 and 900 two are above 350.
    assert summary.regions[0].count == 2


def test_a_dragged_limit_shows_at_once_what_stays(flow: Flow, files: list[Path]) -> None:
    flow.take(files[0])
    use = CleanUse.model_validate(
        {"cleaner": "keep", "parameters": {"quantity": "pixel_count", "lower": 0}}
    )
    flow.session.change_class("Add a limit", clean=(use,))
    flow.settle()
    limits = KeepRange(quantity="pixel_count", lower=100)
    flow.drag.preview_keep(0, limits)
    flow.settle()
    kept = flow.drag.kept
    assert kept is not None
    assert kept.found.count == 3 and sorted(kept.table.tolist())[:1] == [-1]
    assert np.count_nonzero(kept.table > 0) == 2
    flow.drag.commit()
    assert flow.session.focus.outline.clean[0].parameters == limits and flow.drag.kept is None

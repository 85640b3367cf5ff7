"""What a batch keeps: unchanged samples, failures, pausing, damage, and what memory it takes."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import sqlite3
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import (
    Measurer,
    Progress,
    Results,
    ResultStore,
    measured,
    workers,
)
from rilievo.core.batch.outcome import Outcome
from rilievo.core.batch.outcome_codec import decode_outcome, encode_outcome
from rilievo.core.batch.task import Task
from rilievo.core.errors import Cancelled, FileUnreadable, StudyError
from rilievo.core.files.sample_ref import SampleRef, samples_for
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.progress import Control
from rilievo.core.table.table import region_frame
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

METHOD = Method(outlines=(outline(200.0),))
OTHER = METHOD.changed(steps=(step_use("g", "smooth.gaussian", sigma=1.0),))


@pytest.fixture
def files(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list[Path]:
    return [write_tiff(f"in/{group}-{n}.tif", blobs + n) for group in "ab" for n in (1, 2, 3)]


@pytest.fixture
def store(tmp_path: Path) -> ResultStore:
    return ResultStore(tmp_path / "results.sqlite")


class Heard:
    """What was told of each sample."""

    def __init__(self) -> None:
        self.all: list[Progress] = []

    def __call__(self, progress: Progress) -> None:
        self.all.append(progress)

    @property
    def fresh(self) -> list[str]:
        return [progress.item.name for progress in self.all if not progress.known]


def again(items: list[SampleRef], method: Method, store: ResultStore) -> list[str]:
    """Which samples are measured when the batch is run once more."""
    heard = Heard()
    run_batch(items, method, store=store, report=heard)
    assert [p.done for p in heard.all] == list(range(1, len(items) + 1))
    return heard.fresh


def test_only_what_changed_is_measured_again(files: list[Path], store: ResultStore) -> None:
    items = samples_for(files)
    assert again(items, METHOD, store) == [item.name for item in items]
    assert again(items, METHOD, store) == []
    # The same bytes at another time are the same sample.
    os.utime(files[0], (1, 1))
    assert again(items, METHOD, store) == []
    files[1].write_bytes(files[5].read_bytes())
    assert list(Measurer(store=store).unfinished(items, METHOD)) == [1]
    assert again(items, METHOD, store) == ["a-2"]
    assert again(items, OTHER, store) == [item.name for item in items]
    assert again(items, METHOD, store) == []
    # A group is no part of a measurement; what stands in place of the file's word is.
    moved = [replace(item, group="elsewhere") for item in items]
    assert again(moved, METHOD, store) == []
    overrides = items[0].overrides.model_copy(update={"saturation": 250.0})
    assert again([replace(items[0], overrides=overrides)], METHOD, store) == ["a-1"]


def test_a_changed_frame_is_noticed(
    files: list[Path], store: ResultStore, write_tiff: Callable[..., Path]
) -> None:
    dark = write_tiff("dark.tif", np.full((60, 80), 10, np.uint16))
    method = METHOD.changed(
        steps=(step_use("d", "frames.dark", dark={"files": [{"file": str(dark)}]}),)
    )
    items = samples_for(files)
    assert len(again(items, method, store)) == 6
    assert again(items, method, store) == []
    write_tiff("dark.tif", np.full((60, 80), 20, np.uint16))
    assert len(again(items, method, store)) == 6


def test_kept_results_are_the_same_bits(files: list[Path], store: ResultStore) -> None:
    items = samples_for(files)
    first = region_frame(measured(run_batch(items, METHOD, store=store))).to_pandas()
    later = run_batch(items, METHOD, store=ResultStore(store.path))
    assert region_frame(measured(later)).to_pandas().equals(first)
    plain = region_frame(measured(run_batch(items, METHOD))).to_pandas()
    assert plain.equals(first)
    shared = AnalysisCache()
    for item in items:
        shared.sample(item.sources, item.name)
    assert region_frame(measured(run_batch(items, METHOD, cache=shared))).to_pandas().equals(first)


def test_an_outcome_is_packed_whole(files: list[Path], store: ResultStore) -> None:
    results = run_batch(samples_for(files[:1]), METHOD, store=store)
    one = results[0]
    back = decode_outcome(encode_outcome(one), one.item, METHOD)
    assert back.table is not None
    assert one.table is not None
    for channel in one.table.channels:
        assert back.table.flags[channel].tolist() == one.table.flags[channel].tolist()
        for key in one.table.quantities:
            np.testing.assert_array_equal(
                back.table.column(channel, key), one.table.column(channel, key)
            )
    assert back.checks == one.checks
    assert back.properties == one.properties
    assert [c.count for c in back.changes["cell"]] == [c.count for c in one.changes["cell"]]
    assert (back.checksum, dict(back.attributes)) == (one.checksum, dict(one.attributes))
    with pytest.raises(StudyError, match="damaged"):
        decode_outcome(encode_outcome(one)[:-40], one.item, METHOD)
    failed = Outcome(one.item, None, (), failure="why")
    assert decode_outcome(encode_outcome(failed), one.item, METHOD).failure == "why"


def test_failed_samples_are_tried_again_alone(files: list[Path], store: ResultStore) -> None:
    whole = files[2].read_bytes()
    files[2].write_bytes(whole[:50])
    items = samples_for(files)
    results = run_batch(items, METHOD, store=store)
    assert [outcome.failure is None for outcome in results] == [True, True, False, True, True, True]
    assert list(Measurer(store=store).unfinished(items, METHOD)) == [2]
    assert again(items, METHOD, store) == ["a-3"]
    files[2].write_bytes(whole)
    assert again(items, METHOD, store) == ["a-3"]
    assert len(measured(run_batch(items, METHOD, store=store))) == 6


def test_a_cancelled_batch_goes_on_where_it_stopped(files: list[Path], store: ResultStore) -> None:
    control, heard = Control(), Heard()

    def report(progress: Progress) -> None:
        heard(progress)
        if progress.done == 2:
            control.cancel()

    items = samples_for(files)
    with pytest.raises(Cancelled):
        run_batch(items, METHOD, store=store, control=control, report=report)
    before = heard.fresh
    assert 2 <= len(before) < 6
    assert again(items, METHOD, store) == [i.name for i in items if i.name not in before]


def test_a_paused_batch_begins_nothing(files: list[Path], store: ResultStore) -> None:
    control, heard = Control(), Heard()

    def report(progress: Progress) -> None:
        heard(progress)
        if progress.done == 1:
            control.pause()

    thread = threading.Thread(
        target=run_batch,
        args=(samples_for(files), METHOD),
        kwargs={"store": store, "control": control, "report": report},
    )
    thread.start()
    # What was under way is finished: the sample at work and those that waited for it.
    while len(heard.all) < 3:
        time.sleep(0.01)
    time.sleep(0.3)
    assert control.paused
    assert len(heard.all) == 3
    control.resume()
    thread.join()
    assert len(heard.all) == 6


@pytest.mark.slow
def test_a_worker_that_is_ended_does_not_lose_its_samples(files: list[Path]) -> None:
    ended: list[int] = []

    def report(progress: Progress) -> None:
        if not ended:
            process = multiprocessing.active_children()[0]
            ended.append(process.pid)
            os.kill(process.pid, 9)

    items = samples_for(files)
    results = run_batch(items, METHOD, jobs=2, report=report)
    assert ended
    assert (
        region_frame(measured(results))
        .to_pandas()
        .equals(region_frame(measured(run_batch(items, METHOD))).to_pandas())
    )


@pytest.mark.slow
def test_a_sample_that_ends_its_process_each_time_fails_alone(
    files: list[Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    class Deadly(workers._Processes):
        def submit(self, work, task: Task):  # type: ignore[no-untyped-def]
            if task.item.name == "b-2":
                return self._pool.submit(os._exit, 7)
            return super().submit(work, task)

    monkeypatch.setattr(workers, "START_SECONDS", 0.0)
    monkeypatch.setattr(workers, "_Processes", Deadly)
    items = samples_for(files)
    results = run_batch(items, METHOD, jobs=2)
    # Those that were under way with it are measured all the same.
    assert [o.failure is not None for o in results] == [i.name == "b-2" for i in items]
    assert "the system ended the process" in str(results[4].failure)
    assert "fewer processes" in str(results[4].failure)


def test_results_are_read_one_at_a_time(files: list[Path], store: ResultStore) -> None:
    results = run_batch(samples_for(files), METHOD, store=store)
    assert isinstance(results, Results)
    assert results[2].item.name == "a-3"
    assert [outcome.item.name for outcome in results[1:3]] == ["a-2", "a-3"]
    # Nothing of what was read before is held.
    assert results[0] is not results[0]


# -- the file of results


def test_what_is_no_file_of_results_is_refused(tmp_path: Path, files: list[Path]) -> None:
    text = tmp_path / "text.sqlite"
    text.write_text("no database " * 100)
    with pytest.raises(StudyError, match="damaged or no file of results"):
        ResultStore(text)
    other = sqlite3.connect(tmp_path / "other.sqlite")
    other.execute("CREATE TABLE mine (x)")
    other.close()
    with pytest.raises(StudyError, match="holds no results of this version"):
        ResultStore(tmp_path / "other.sqlite")
    with pytest.raises(FileUnreadable):
        ResultStore(tmp_path / "none" / "results.sqlite")


def test_a_full_disk_is_said_and_what_was_kept_stays(
    files: list[Path], store: ResultStore, tmp_path: Path
) -> None:
    items = samples_for(files)
    run_batch(items[:3], METHOD, store=store)
    # SQLite says “database or disk is full” in the same words when a file may not grow.
    store._database.execute(
        f"PRAGMA max_page_count = {store._database.execute('PRAGMA page_count').fetchone()[0]}"
    )
    with pytest.raises(FileUnreadable, match=r"full.*free some space"):
        run_batch(items, METHOD, store=store)
    store.close()
    kept = ResultStore(tmp_path / "results.sqlite")
    assert list(Measurer(store=kept).unfinished(items, METHOD)) == [3, 4, 5]
    assert len(measured(run_batch(items, METHOD, store=kept))) == 6


def test_a_file_that_may_not_be_written_is_said(files: list[Path], store: ResultStore) -> None:
    store._database.execute("PRAGMA query_only = 1")
    with pytest.raises(FileUnreadable, match=r"results\.sqlite"):
        run_batch(samples_for(files), METHOD, store=store)


def test_the_oldest_results_are_forgotten_beyond_a_size(
    files: list[Path], store: ResultStore
) -> None:
    items = samples_for(files)
    run_batch(items, METHOD, store=store)
    with contextlib.closing(sqlite3.connect(store.path)) as database:
        size = sum(len(row[0]) for row in database.execute("SELECT outcome FROM result"))
    store.keep_within(size)
    assert list(Measurer(store=store).unfinished(items, METHOD)) == []
    store.keep_within(size // 2)
    assert list(Measurer(store=store).unfinished(items, METHOD)) == [0, 1, 2, 3][: 6 - 3]
    store.keep_within(0)
    assert list(Measurer(store=store).unfinished(items, METHOD)) == list(range(6))


def test_other_code_measures_anew(
    files: list[Path], store: ResultStore, monkeypatch: pytest.MonkeyPatch
) -> None:
    items = samples_for(files[:2])
    assert len(again(items, METHOD, store)) == 2
    monkeypatch.setattr("rilievo.core.batch.result_keys.program", lambda: "a later version")
    assert len(again(items, METHOD, store)) == 2
    assert again(items, METHOD, store) == []

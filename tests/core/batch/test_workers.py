"""Processes start where the work is worth them, stay between phases, and not otherwise."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path
from typing import ClassVar

import numpy as np
import pytest

from rilievo.core.batch import Measurer, Resources, RunRequest, workers
from rilievo.core.batch.task import Task
from rilievo.core.files.sample_ref import SampleRef, samples_for
from rilievo.core.method.method import Method
from rilievo.core.progress import Control
from tests.outlines import outline

METHOD = Method(outlines=(outline(200.0),))


class Counted:
    """Stands in for processes: counts those that are started and the tasks they are given."""

    started: ClassVar[list[int]] = []
    begun = True

    def __init__(self, count: int) -> None:
        self.started.append(count)

    def submit(self, work: Callable[..., object], task: Task) -> Future[object]:
        done: Future[object] = Future()
        done.set_result("in a process")
        return done

    def close(self) -> None: ...


@pytest.fixture
def counted(monkeypatch: pytest.MonkeyPatch) -> type[Counted]:
    Counted.started = []
    monkeypatch.setattr(workers, "_Processes", Counted)
    return Counted


def given(growing: workers.Growing, seconds: float, count: int, total: int) -> list[object]:
    """What becomes of tasks that take so long each, of which so many are given one by one."""
    growing.expect(total)
    task = Task(SampleRef(Path("a.tif"), "a"), ())
    return [
        growing.submit(lambda *_: time.sleep(seconds) or "here", task).result()
        for _ in range(count)
    ]


def test_a_few_small_samples_start_no_process(
    counted: type[Counted], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workers, "START_SECONDS", 2.0)
    growing = workers.Growing(2, Control())
    assert given(growing, 0.001, 12, 12) == ["here"] * 12
    assert counted.started == []
    growing.close()


def test_much_work_starts_as_many_as_were_allowed_after_the_first_samples(
    counted: type[Counted], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workers, "START_SECONDS", 0.02)
    growing = workers.Growing(3, Control())
    found = given(growing, 0.02, 6, 1000)
    assert found[:2] == ["here", "here"]
    assert found[-1] == "in a process"
    assert counted.started == [3]
    growing.close()


def test_no_more_processes_than_samples(
    counted: type[Counted], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workers, "START_SECONDS", 0.0)
    growing = workers.Growing(8, Control())
    given(growing, 0.0, 2, 3)
    assert counted.started == [3]
    # One sample, or one job, is measured here.
    for jobs, samples in ((8, 1), (1, 100)):
        alone = workers.Growing(jobs, Control())
        assert given(alone, 0.0, 1, samples) == ["here"]
        alone.close()
    assert counted.started == [3]
    growing.close()


@pytest.mark.slow
def test_workers_stay_for_what_is_asked_next(
    write_tiff: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workers, "START_SECONDS", 0.0)
    started: ClassVar[list[int]] = []
    plain = workers._Processes.__init__

    def told(self: workers._Processes, count: int) -> None:
        started.append(count)
        plain(self, count)

    monkeypatch.setattr(workers._Processes, "__init__", told)
    refs = samples_for([write_tiff(f"{k}.tif", np.full((9, 9), k, np.uint8)) for k in range(4)])
    request = RunRequest(samples=refs, methods=(METHOD,))
    with Measurer(resources=Resources(jobs=2)) as measurer:
        measurer.measure(request)
        other = METHOD.changed(outlines=(outline(3.0),))
        measurer.measure(RunRequest(samples=refs, methods=(other,)))
    assert started == [2]


def test_several_methods_read_a_sample_once(
    write_tiff: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    from rilievo.core.batch import task as task_module  # noqa: PLC0415

    read: list[object] = []
    plain = task_module.read_parts
    monkeypatch.setattr(
        task_module, "read_parts", lambda *asked: read.append(asked[1]) or plain(*asked)
    )
    refs = samples_for([write_tiff(f"{k}.tif", np.full((9, 9), 9, np.uint8)) for k in range(2)])
    methods = [METHOD.changed(outlines=(outline(float(level)),)) for level in range(5)]
    with Measurer() as measurer:
        results = measurer.measure(RunRequest(samples=refs, methods=methods))
    assert [len(one) for one in results] == [2] * 5
    assert len(read) == 2

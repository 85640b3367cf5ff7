from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import Progress, items_for, measured, run_batch
from rilievo.core.errors import Cancelled
from rilievo.core.method.method import Method
from rilievo.core.table.table import region_frame
from tests.outlines import outline

METHOD = Method(outlines=(outline(200.0),))


@pytest.fixture
def files(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list[Path]:
    rng = np.random.default_rng(0)
    return [
        write_tiff(f"dose {dose}-{n}.tif", blobs + rng.integers(0, 50, blobs.shape).astype("u2"))
        for dose in ("low", "high")
        for n in (1, 2)
    ]


@pytest.mark.slow
def test_the_same_bits_one_after_another_and_in_processes(files: list[Path]) -> None:
    items = items_for(files)
    serial = region_frame(measured(run_batch(items, METHOD)))
    pooled = region_frame(measured(run_batch(items, METHOD, jobs=2)))
    assert serial.equals(pooled)
    assert serial["group"].unique().tolist() == ["dose low", "dose high"]


@pytest.mark.slow
@pytest.mark.parametrize("jobs", [1, 2])
def test_a_failing_file_does_not_stop_the_others(files: list[Path], jobs: int) -> None:
    files[1].write_text("no image")
    outcomes = run_batch(items_for(files), METHOD, jobs=jobs)
    assert [outcome.failure is None for outcome in outcomes] == [True, False, True, True]
    assert files[1].name in str(outcomes[1].failure)
    assert len(measured(outcomes)) == 3


def test_progress_and_cancel(files: list[Path]) -> None:
    heard: list[tuple[int, int]] = []

    def report(progress: Progress) -> None:
        heard.append((progress.done, progress.total))
        if len(heard) == 2:
            raise Cancelled

    with pytest.raises(Cancelled):
        run_batch(items_for(files), METHOD, report=report)
    assert heard == [(1, 4), (2, 4)]


def test_checks_come_with_the_outcome(files: list[Path], write_tiff: Callable[..., Path]) -> None:
    full = write_tiff("full.tif", np.full((4, 4), 255, np.uint8))
    (outcome,) = run_batch(items_for([full]), METHOD)
    assert {check.kind for check in outcome.checks} == {"saturation", "one value", "depth"}
    (nothing,) = run_batch(items_for([full]), METHOD.changed(outlines=(outline(300.0),)))
    assert "no region" in {check.kind for check in nothing.checks}

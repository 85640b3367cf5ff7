from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import Outcome, Progress, measured, task
from rilievo.core.batch.store import ResultStore
from rilievo.core.errors import Cancelled
from rilievo.core.files import file_state
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import Method, step_use
from rilievo.core.table.table import region_frame
from tests.core.helpers.measuring import run_batch
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
    items = samples_for(files)
    serial = region_frame(measured(run_batch(items, METHOD))).to_pandas()
    pooled = region_frame(measured(run_batch(items, METHOD, jobs=2))).to_pandas()
    assert serial.equals(pooled)
    assert serial["group"].unique().tolist() == ["dose low", "dose high"]


@pytest.mark.slow
@pytest.mark.parametrize("jobs", [1, 2])
def test_a_failing_file_does_not_stop_the_others(files: list[Path], jobs: int) -> None:
    files[1].write_text("no image")
    outcomes = run_batch(samples_for(files), METHOD, jobs=jobs)
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
        run_batch(samples_for(files), METHOD, report=report)
    assert heard == [(1, 4), (2, 4)]


def test_checks_come_with_the_outcome(files: list[Path], write_tiff: Callable[..., Path]) -> None:
    full = write_tiff("full.tif", np.full((4, 4), 255, np.uint8))
    (outcome,) = run_batch(samples_for([full]), METHOD)
    assert {check.kind for check in outcome.checks} == {"saturation", "one value", "depth"}
    (nothing,) = run_batch(samples_for([full]), METHOD.changed(outlines=(outline(300.0),)))
    assert "no region" in {check.kind for check in nothing.checks}


@pytest.mark.parametrize("another_run", [False, True])
def test_exchanged_files_of_one_size_and_time_are_measured_again(
    tmp_path: Path, write_tiff: Callable[..., Path], another_run: bool
) -> None:
    paths = [
        write_tiff(f"{name}.tif", np.full((40, 50), level, np.uint16))
        for name, level in (("a", 500), ("b", 700))
    ]
    for path in paths:
        os.utime(path, ns=(10**18, 10**18))
    store = ResultStore(tmp_path / "results")
    assert means(run_batch(samples_for(paths), METHOD, store=store)) == [500, 700]
    spare = tmp_path / "spare"
    paths[0].rename(spare)
    paths[1].rename(paths[0])
    spare.rename(paths[1])
    if another_run:
        file_state._known.clear()
    assert means(run_batch(samples_for(paths), METHOD, store=store)) == [700, 500]


def means(outcomes: Sequence[Outcome]) -> list[float]:
    return [float(table.columns["gray"]["mean"][0]) for table in measured(outcomes)]


@pytest.mark.parametrize("what", ["sample", "frame"])
def test_what_changes_while_it_is_measured_is_a_failed_sample(
    tmp_path: Path,
    write_tiff: Callable[..., Path],
    what: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    sample = write_tiff("a.tif", np.full((40, 50), 500, np.uint16))
    dark = write_tiff("dark.tif", np.full((40, 50), 100, np.uint16))
    use = step_use("d", "frames.dark", dark={"files": [{"file": str(dark)}]})
    method = METHOD.changed(steps=(use,))
    plain = task.outcome_of

    def then_change(*given: object, **named: object) -> Outcome:
        outcome = plain(*given, **named)  # type: ignore[arg-type]
        write_tiff("a.tif" if what == "sample" else "dark.tif", np.full((40, 50), 200, np.uint16))
        return outcome

    monkeypatch.setattr(task, "outcome_of", then_change)
    (outcome,) = run_batch(samples_for([sample]), method)
    assert outcome.table is None
    said = "changed while it was read" if what == "sample" else "a frame or label image changed"
    assert said in str(outcome.failure)

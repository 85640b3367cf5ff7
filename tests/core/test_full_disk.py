"""A disk that is full, a real small file system: a sentence, the old file whole, then going on."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import ResultStore, measured
from rilievo.core.errors import FileUnreadable
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import Method
from rilievo.core.pipeline.provenance import metadata_of
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.page import Contents
from rilievo.core.report.study_report import study_contents, write_study_report
from rilievo.core.study.archive import pack_study
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from rilievo.core.table.table import region_frame
from rilievo.core.table.table_files import write_table
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

pytestmark = pytest.mark.slow

METHOD = Method(outlines=(outline(200.0),))
_SIZE = 600_000


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Path]:
    """A file system of 600 kB, where one may be mounted."""
    folder = tmp_path / "small"
    folder.mkdir()
    mount = shutil.which("mount")
    made = mount and subprocess.run(
        [mount, "-t", "tmpfs", "-o", f"size={_SIZE}", "rilievo-test", str(folder)],
        capture_output=True,
        check=False,
    )
    if not made or made.returncode:
        pytest.skip("no file system may be mounted here")
    try:
        yield folder
    finally:
        subprocess.run([shutil.which("umount") or "umount", "-l", str(folder)], check=True)


def fill(folder: Path, left: int) -> Path:
    """Leave so many bytes free."""
    filler = folder / "filler"
    filler.write_bytes(b"x" * max(shutil.disk_usage(folder).free - left, 0))
    return filler


@pytest.fixture
def images(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list[Path]:
    return [write_tiff(f"a-{n}.tif", blobs + np.uint16(n)) for n in range(6)]


@pytest.fixture
def state(images: list[Path]) -> StudyState:
    return replace(StudyState("old").with_files(images), method=METHOD)


def leftovers(folder: Path) -> list[Path]:
    return list(folder.rglob(".rilievo-*"))


def writers(
    state: StudyState, images: list[Path]
) -> dict[str, tuple[str, Callable[[Path, StudyState], object]]]:
    outcomes = run_batch(samples_for(images), METHOD)
    tables = measured(outcomes)
    metadata = metadata_of(tables, METHOD, {}, datetime(2026, 1, 1, tzinfo=UTC))
    frame = region_frame(tables * 40)
    contents = study_contents(state)
    return {
        "save": ("s.rilievo", lambda path, now: save_study(now, path)),
        "pack": ("s.rilievo.zip", lambda path, now: pack_study(now, path)),
        "table": ("t.csv", lambda path, _: write_table(frame, path, metadata)),
        "sheet": ("t.xlsx", lambda path, _: write_table(frame, path, metadata)),
        "report": ("r.html", lambda path, _: write_study_report(contents, path)),
        "run": (
            "regions.csv",
            lambda path, _: write_outputs(Contents(outcomes, METHOD), path.parent),
        ),
    }


@pytest.mark.parametrize("what", ["save", "pack", "table", "sheet", "report", "run"])
def test_writing_to_a_full_disk_leaves_the_old_file(
    small: Path, state: StudyState, images: list[Path], what: str
) -> None:
    name, write = writers(state, images)[what]
    path = small / "out" / name
    path.parent.mkdir()
    path.write_bytes(b"old and whole")
    if what == "save":
        save_study(state, path)
    before = path.read_bytes()
    # The tables of a run are small, and written one after another.
    filler = fill(small, 0 if what == "run" else 4096)
    with pytest.raises(FileUnreadable, match="free some space there and do it again"):
        write(path, replace(state, name="new"))
    assert path.read_bytes() == before
    assert not leftovers(small)
    filler.unlink()
    write(path, replace(state, name="new"))
    assert path.read_bytes() != before
    if what == "save":
        assert load_study(path).state.name == "new"


def test_a_batch_on_a_full_disk_goes_on_where_it_was(
    small: Path, images: list[Path], tmp_path: Path
) -> None:
    """What was committed stays; after space is made only the rest is measured."""
    items = samples_for(images)
    true = region_frame(measured(run_batch(items, METHOD))).to_pandas()
    store = ResultStore(small / "results.sqlite")
    run_batch(items[:2], METHOD, store=store)
    filler = fill(small, 0)
    with pytest.raises(FileUnreadable, match="free some space there"):
        run_batch(items, METHOD, store=store)
    store.close()
    filler.unlink()
    store = ResultStore(small / "results.sqlite")
    again: list[str] = []
    outcomes = run_batch(
        items, METHOD, store=store, report=lambda p: again.extend([] if p.known else [p.item.name])
    )
    assert not set(again) & {item.name for item in items[:2]}
    assert region_frame(measured(outcomes)).to_pandas().equals(true)

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.files.folder_watch import FolderWatch


class Clock:
    """Seconds that pass when told to."""

    now = 0.0

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def clock() -> Clock:
    return Clock()


def test_files_are_told_of_once_and_only_when_whole(
    write_tiff: Callable[..., Path], blobs: np.ndarray, tmp_path: Path, clock: Clock
) -> None:
    old = write_tiff("in/old.tif", blobs)
    watch = FolderWatch(tmp_path / "in", [old], clock=clock)
    assert watch.look() == []
    new = write_tiff("in/new.tif", blobs)
    whole = new.read_bytes()
    new.write_bytes(whole[:300])
    assert watch.look() == []
    assert watch.waiting == {new: "it still changes"}
    clock.now = 0.5
    assert watch.look() == []
    assert watch.waiting == {new: "it changed a moment ago"}
    # Half written and at rest: it cannot be read, so it is waited for.
    clock.now = 2
    assert watch.look() == []
    assert list(watch.waiting) == [new]
    new.write_bytes(whole)
    clock.now = 3
    assert watch.look() == []
    clock.now = 4.5
    assert watch.look() == [new]
    assert watch.waiting == {}
    clock.now = 9
    assert watch.look() == []


def test_several_files_come_sorted_and_others_are_passed_over(
    write_tiff: Callable[..., Path], blobs: np.ndarray, tmp_path: Path, clock: Clock
) -> None:
    (tmp_path / "in").mkdir()
    watch = FolderWatch(tmp_path / "in", clock=clock)
    paths = [write_tiff(f"in/{name}.tif", blobs) for name in ("b", "a")]
    (tmp_path / "in" / "notes.md").write_text("nothing to see")
    watch.look()
    clock.now = 2
    assert watch.look() == sorted(paths)


def test_a_folder_that_goes_away_is_waited_for(
    write_tiff: Callable[..., Path], blobs: np.ndarray, tmp_path: Path, clock: Clock
) -> None:
    watch = FolderWatch(tmp_path / "drive", clock=clock)
    assert watch.look() == []
    path = write_tiff("drive/a.tif", blobs)
    watch.look()
    clock.now = 2
    assert watch.look() == [path]

"""What a file is at a moment, whether it stayed so, and where it may lead."""

from __future__ import annotations

import os
import shutil
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image

from rilievo.core.errors import FileChanged, FileError, FileMissing, FileOutside, NotAFile
from rilievo.core.files import file_state, images_below, read_sample
from rilievo.core.files.reader import file_checksum, file_identity
from tests.core.files.test_missing_data import PIXELS, ome_set, zarr_folder


def exchange(first: Path, second: Path) -> None:
    spare = first.with_name("spare")
    first.rename(spare)
    second.rename(first)
    spare.rename(second)


def same_times(*files: Path) -> None:
    for file in files:
        os.utime(file, ns=(10**18, 10**18))


def settle(monkeypatch: pytest.MonkeyPatch) -> None:
    """Times count at once, so that checksums are kept."""
    monkeypatch.setattr(file_state, "_STEP_NS", 0)


def test_exchanged_files_of_one_size_and_time_are_told_apart(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    settle(monkeypatch)
    first, second = tmp_path / "a.tif", tmp_path / "b.tif"
    for k, path in enumerate((first, second)):
        tifffile.imwrite(path, PIXELS + k)
    same_times(first, second)
    before = [(file_identity(p), file_checksum(p)) for p in (first, second)]
    exchange(first, second)
    assert first.stat().st_mtime_ns == 10**18
    after = [(file_identity(p), file_checksum(p)) for p in (first, second)]
    assert not {b[0] for b in before} & {a[0] for a in after}
    assert [a[1] for a in after] == [b[1] for b in before[::-1]]


def test_a_changed_companion_and_an_exchanged_block_change_the_checksum(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    settle(monkeypatch)
    first, second = ome_set(tmp_path / "set")
    before = file_identity(first), file_checksum(first)
    with tifffile.TiffFile(second) as file:
        place = file.pages[0].dataoffsets[0]
    with second.open("r+b") as raw:
        raw.seek(place)
        raw.write(b"\1\1")
    assert file_identity(first) != before[0]
    assert file_checksum(first) != before[1]
    folder = zarr_folder(tmp_path / "a.zarr", 2, "uint16")
    blocks = folder / "0" / "0.0.0", folder / "0" / "0.1.1"
    before = file_identity(folder), file_checksum(folder)
    exchange(*blocks)
    assert file_identity(folder) != before[0]
    assert file_checksum(folder) != before[1]


def test_a_checksum_is_read_once_while_the_file_stays(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    settle(monkeypatch)
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, PIXELS)
    read: list[Path] = []
    plain = file_state._read_checksum

    def counted(files: list[Path], folder: Path) -> str:
        read.append(folder)
        return plain(files, folder)

    monkeypatch.setattr(file_state, "_read_checksum", counted)
    assert file_checksum(path) == file_checksum(path)
    assert read == [path]
    path.write_bytes(path.read_bytes())
    file_checksum(path)
    assert read == [path, path]


def test_what_changed_a_moment_ago_is_read_again(tmp_path: Path) -> None:
    """Two changes within one step of the clock look like one."""
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, PIXELS)
    file_checksum(path)
    assert not file_state.known_checksum(file_state.identity_of_files([path]))


@pytest.mark.parametrize("name", ["a.tif", "a.npy"])
@pytest.mark.parametrize("how", ["changed", "cut", "gone"])
def test_a_file_that_changes_while_it_is_read_is_refused(
    tmp_path: Path, name: str, how: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / name
    if name == "a.tif":
        tifffile.imwrite(path, PIXELS, rowsperstrip=20)
    else:
        np.save(path, PIXELS)
    plain = file_state.identity_of_files
    calls: list[str] = []

    def then_spoil(files: list[Path]) -> str:
        found = plain(files)
        calls.append(found)
        if len(calls) == 1:
            _spoil(path, how)
        return found

    monkeypatch.setattr(file_state, "identity_of_files", then_spoil)
    wanted = FileMissing if how == "gone" else FileChanged
    with pytest.raises(wanted, match=rf"“{name}” (changed while it was read|does not exist)"):
        read_sample(path)


def _spoil(path: Path, how: str) -> None:
    if how == "gone":
        path.unlink()
    elif how == "cut":
        os.truncate(path, path.stat().st_size // 2)
    else:
        with path.open("r+b") as raw:
            raw.seek(-2, os.SEEK_END)
            raw.write(b"\7\7")


@pytest.mark.slow
@pytest.mark.parametrize("name", ["a.tif", "a.npy", "a.bmp"])
def test_a_file_that_is_cut_again_and_again_never_ends_the_program(
    tmp_path: Path, name: str, write_image: Callable[[Path], bytes]
) -> None:
    """The pixels are those of the whole file, or there are none."""
    path = tmp_path / name
    whole = write_image(path)
    true = read_sample(path).first.pixels
    ended = threading.Event()

    def cut() -> None:
        while not ended.is_set():
            os.truncate(path, len(whole) // 3)
            path.write_bytes(whole)
            time.sleep(0.003)

    cutter = threading.Thread(target=cut)
    cutter.start()
    refused = 0
    try:
        for _ in range(150):
            try:
                found = read_sample(path)
            except FileError:
                refused += 1
            else:
                np.testing.assert_array_equal(found.first.pixels, true)
    finally:
        ended.set()
        cutter.join()
    assert refused


@pytest.fixture
def write_image() -> Callable[[Path], bytes]:
    def write(path: Path) -> bytes:
        pixels = np.tile(PIXELS, (4, 4))
        if path.suffix == ".tif":
            tifffile.imwrite(path, pixels)
        elif path.suffix == ".npy":
            np.save(path, pixels)
        else:
            Image.fromarray((pixels % 251).astype(np.uint8)).save(path)
        return path.read_bytes()

    return write


# -- where a file may lead


@pytest.mark.parametrize("leads", ["absolute", "upwards", "link"])
def test_a_set_does_not_lead_out_of_its_folder(tmp_path: Path, leads: str) -> None:
    first, second = ome_set(tmp_path / "set")
    outside = tmp_path / "elsewhere.ome.tif"
    shutil.move(second, outside)
    if leads == "link":
        second.symlink_to(outside)
    else:
        name = str(outside) if leads == "absolute" else "../elsewhere.ome.tif"
        with tifffile.TiffFile(first) as file:
            xml = file.ome_metadata or ""
        changed = xml.replace("two.ome.tif", name)
        tifffile.imwrite(first, PIXELS, description=changed.encode(), metadata=None)
    with pytest.raises(FileOutside, match="which is not below its own folder") as caught:
        read_sample(first)
    if leads != "link":
        assert name in str(caught.value)


def test_a_whole_set_behind_links_is_read(tmp_path: Path) -> None:
    ome_set(tmp_path / "store")
    mine = tmp_path / "mine"
    mine.mkdir()
    for name in ("one.ome.tif", "two.ome.tif"):
        (mine / name).symlink_to(tmp_path / "store" / name)
    assert list(read_sample(mine / "one.ome.tif").channels) == ["dye", "light"]


@pytest.mark.parametrize("what", ["block", "folder"])
def test_a_link_out_of_an_image_folder_is_not_followed(tmp_path: Path, what: str) -> None:
    folder = zarr_folder(tmp_path / "a.zarr", 3, "uint16")
    inside = folder / "0" / "c" / "0" / "0" / "0" if what == "block" else folder / "0" / "c"
    outside = tmp_path / "outside"
    shutil.move(inside, outside)
    inside.symlink_to(outside)
    with pytest.raises(FileOutside, match=str(outside)):
        read_sample(folder)


@pytest.mark.parametrize("kind", ["pipe", "device", "in a set", "in a folder"])
def test_a_device_or_a_pipe_is_refused_at_once(tmp_path: Path, kind: str) -> None:
    if kind == "device":
        path = Path("/dev/zero")
    elif kind == "pipe":
        path = tmp_path / "a.tif"
        os.mkfifo(path)
    elif kind == "in a set":
        path, second = ome_set(tmp_path / "set")
        second.unlink()
        os.mkfifo(second)
    else:
        path = zarr_folder(tmp_path / "a.zarr", 2, "uint16")
        (path / "0" / "0.0.0").unlink()
        os.mkfifo(path / "0" / "0.0.0")
    with pytest.raises(NotAFile, match="is a device, pipe or socket and no file"):
        read_sample(path)


def test_a_folder_is_searched_without_pipes_and_circles(tmp_path: Path) -> None:
    tifffile.imwrite(tmp_path / "a.tif", PIXELS)
    os.mkfifo(tmp_path / "b.tif")
    (tmp_path / "up").symlink_to(tmp_path)
    assert images_below([tmp_path]) == [tmp_path / "a.tif"]


@pytest.mark.parametrize("name", ["a\0b.tif", "x" * 5000 + ".tif"])
def test_a_name_that_no_file_can_have_is_missing(tmp_path: Path, name: str) -> None:
    with pytest.raises(FileError):
        read_sample(tmp_path / name)

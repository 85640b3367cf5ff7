"""Files that claim more than they hold are refused from their header, soon and in little memory."""

from __future__ import annotations

import struct
import subprocess
import time
from collections import Counter
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
import tifffile
from astropy.io import fits
from bench.fuzz_readers import ORIGINALS, OUTCOMES, run

from rilievo.core.errors import FileError, NotAnImage, UnsupportedKind
from rilievo.core.files import bounded_reading, read_sample
from rilievo.core.files.tiff_directories import MOST_DIRECTORIES

# What would hang takes minutes; how fast it is on a busy machine is not for tests.
SECONDS = 30.0


def refused(path: Path) -> FileError:
    start = time.perf_counter()
    with pytest.raises(FileError) as caught:
        read_sample(path)
    assert time.perf_counter() - start < SECONDS
    assert path.name in str(caught.value)
    return caught.value


def directories(path: Path, links: list[int]) -> Path:
    """A TIFF of empty directories that follow each other by number; -1 ends."""
    size = 2 + 4
    begin = 8
    content = struct.pack("<2sHI", b"II", 42, begin)
    for link in links:
        content += struct.pack("<HI", 0, 0 if link < 0 else begin + link * size)
    path.write_bytes(content)
    return path


def test_a_tiff_with_a_hundred_thousand_directories_is_refused(tmp_path: Path) -> None:
    path = directories(tmp_path / "a.tif", [*range(1, 100_000), -1])
    assert str(MOST_DIRECTORIES) in str(refused(path))


def test_a_tiff_whose_pages_lead_in_a_circle_is_refused(tmp_path: Path) -> None:
    found = refused(directories(tmp_path / "a.tif", [1, 2, 0]))
    assert isinstance(found, NotAnImage)
    assert "circle" in str(found)


def test_a_directory_of_too_many_entries_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.tif"
    path.write_bytes(struct.pack("<2sHIH", b"II", 42, 8, 60_000) + bytes(800_000))
    refused(path)


def changed_cards(path: Path, packed: bool, cards: dict[str, object]) -> Path:
    """A FITS image of 60 × 50 pixels with other values in the header of its image."""
    pixels = np.arange(3000, dtype=np.int16).reshape(60, 50)
    if packed:
        image = fits.CompImageHDU(pixels, compression_type="RICE_1", tile_shape=(10, 50))
        fits.HDUList([fits.PrimaryHDU(), image]).writeto(path)
    else:
        fits.PrimaryHDU(pixels).writeto(path)
    content = bytearray(path.read_bytes())
    for name, value in cards.items():
        begin = f"{name:<8}=".encode()
        # The last one is that of the image.
        place = content.rindex(begin)
        text = "T" if value is True else str(value)
        content[place : place + 80] = f"{name:<8}= {text:>20}".ljust(80).encode()
    path.write_bytes(content)
    return path


@pytest.mark.parametrize(
    ("packed", "cards"),
    [
        (False, {"NAXIS1": 10**12}),
        (False, {"NAXIS1": 10**17, "NAXIS2": 10**17}),
        (False, {"NAXIS": 999}),
        (False, {"NAXIS1": -5}),
        (False, {"BITPIX": 7}),
        (True, {"ZNAXIS1": 2_000_000_000}),
        (True, {"ZNAXIS1": 60_000, "ZNAXIS2": 60_000}),
        (True, {"ZTILE1": 0}),
        (True, {"ZTILE1": 2_000_000_000, "ZTILE2": 2_000_000_000}),
        (True, {"ZTILE2": 1}),
        (True, {"ZBITPIX": -7}),
        (True, {"ZVAL1": 0}),
        (True, {"PCOUNT": -1}),
        (True, {"GCOUNT": 10**15}),
    ],
    ids=str,
)
def test_a_fits_header_of_impossible_size_is_refused(
    tmp_path: Path, packed: bool, cards: dict[str, object]
) -> None:
    refused(changed_cards(tmp_path / "a.fits", packed, cards))


def test_random_groups_are_refused(tmp_path: Path) -> None:
    groups = fits.GroupData(
        np.arange(12.0).reshape(3, 1, 1, 2, 2), bitpix=-32, parnames=["u"], pardata=[np.arange(3.0)]
    )
    fits.GroupsHDU(groups).writeto(tmp_path / "a.fits")
    assert isinstance(refused(tmp_path / "a.fits"), UnsupportedKind)


@pytest.mark.parametrize("blocks", [600, 1])
def test_a_header_without_an_end_is_refused(tmp_path: Path, blocks: int) -> None:
    card = b"SIMPLE  =                    T".ljust(80)
    path = tmp_path / "a.fits"
    path.write_bytes(
        (card + b"BITPIX  =                    8".ljust(80)).ljust(2880) + b" " * 2880 * blocks
    )
    refused(path)


def test_a_file_of_a_few_kilobytes_takes_no_gigabytes(tmp_path: Path) -> None:
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, np.zeros((64, 64), np.uint8), compression="zlib")
    content = bytearray(path.read_bytes())
    with tifffile.TiffFile(path) as file:
        for name in ("ImageWidth", "ImageLength", "RowsPerStrip"):
            tag = file.pages[0].tags[name]
            kind = {3: "<H", 4: "<I"}[tag.dtype]
            struct.pack_into(kind, content, tag.valueoffset, 60_000)
    path.write_bytes(content)
    refused(path)


@pytest.mark.slow
def test_damaged_files_of_every_format_are_refused_or_said(tmp_path: Path) -> None:
    """A short run of what docs/reliability.md shows: none silent, slow, large or a crash."""
    found = run(20 * len(ORIGINALS), tmp_path)
    counts = Counter(outcome for *_, outcome in found)
    assert sum(counts.values()) == 20 * len(ORIGINALS)
    assert not {outcome: counts[outcome] for outcome in OUTCOMES[4:] if counts[outcome]}
    assert counts["refused"] > 150
    assert counts["read, and said"] > 20


def with_inner_picture(path: Path, content: bytes, compression: int) -> Path:
    """A TIFF of one tile of 64 × 64 pixels that holds a picture of its own size."""
    tifffile.imwrite(path, np.ones((64, 64), np.uint8), tile=(64, 64), compression="zlib")
    with tifffile.TiffFile(path) as file:
        tags = file.pages[0].tags
        kind, offsets, counts = tags[259].valueoffset, tags[324].valueoffset, tags[325]
    raw = bytearray(path.read_bytes())
    struct.pack_into("<H", raw, kind, compression)
    struct.pack_into("<I", raw, offsets, len(raw))
    struct.pack_into("<HII", raw, counts.offset + 2, 4, 1, len(content))
    path.write_bytes(bytes(raw) + content)
    return path


@pytest.mark.slow
def test_a_tile_with_a_much_larger_picture_in_it_is_stopped(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It is tried in a process that has no more memory than the pixels need."""
    content = imagecodecs.jpeg2k_encode(np.zeros((9_000, 9_000), np.uint8), level=0)
    assert len(content) < 10_000
    path = with_inner_picture(tmp_path / "a.tif", content, 34712)
    decoded: list[int] = []
    plain = tifffile.TiffPageSeries.asarray

    def counted(series: tifffile.TiffPageSeries, **given: object) -> np.ndarray:
        decoded.append(1)
        return plain(series, **given)

    monkeypatch.setattr(tifffile.TiffPageSeries, "asarray", counted)
    monkeypatch.setattr(bounded_reading, "_BYTES", 900_000_000)
    with pytest.raises(FileError, match=r"“a.tif” (looks like TIFF but|takes more memory)"):
        read_sample(path)
    assert not decoded


@pytest.mark.slow
def test_what_takes_too_long_is_ended(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bounded_reading, "_SECONDS", -1.0)
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, np.ones((64, 64), np.uint8), compression="jpeg")
    with pytest.raises(UnsupportedKind, match="takes longer to read than its pixels need"):
        read_sample(path)
    monkeypatch.setattr(bounded_reading, "_SECONDS", 20.0)
    path.write_bytes(path.read_bytes())
    assert read_sample(path).first.shape == (64, 64)


def test_files_are_tried_one_after_another_in_one_process(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    started: list[int] = []
    plain = subprocess.Popen

    def counted(*args: object, **given: object) -> object:
        started.append(1)
        return plain(*args, **given)  # type: ignore[call-overload]

    monkeypatch.setattr(subprocess, "Popen", counted)
    monkeypatch.setattr(bounded_reading, "_IDLE", bounded_reading._Idle())
    for k in range(4):
        path = tmp_path / f"{k}.tif"
        tifffile.imwrite(path, np.full((64, 64), k, np.uint8), compression="jpeg")
        assert read_sample(path).first.shape == (64, 64)
    assert len(started) == 1
    # One that fails ends the process, and the next file has a new one.
    cut = tmp_path / "cut.tif"
    cut.write_bytes(path.read_bytes()[:-40])
    refused(cut)
    tifffile.imwrite(path, np.full((64, 64), 9, np.uint8), compression="jpeg")
    assert read_sample(path).first.shape == (64, 64)
    bounded_reading._IDLE.end_all()


def test_a_process_that_is_not_needed_ends(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bounded_reading, "_IDLE", bounded_reading._Idle())
    monkeypatch.setattr(bounded_reading, "_IDLE_SECONDS", 0.05)
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, np.full((64, 64), 3, np.uint8), compression="jpeg")
    read_sample(path)
    end = time.monotonic() + 20
    while bounded_reading._IDLE._waiting and time.monotonic() < end:
        time.sleep(0.02)
    assert not bounded_reading._IDLE._waiting


def test_a_description_of_many_megabytes_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, np.ones((9, 9), np.uint8), description="<OME>" + " " * 9_000_000)
    assert "description" in str(refused(path))

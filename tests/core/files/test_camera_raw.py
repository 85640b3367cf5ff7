"""Camera raw: every number of the sensor, in its place, and what the file says of it."""

from __future__ import annotations

import struct
import sys
from pathlib import Path

import numpy as np
import pytest
import tifffile

from rilievo.core.errors import FileError, FileTruncated, UnsupportedKind
from rilievo.core.files.orientation import upright
from rilievo.core.files.reader import read_layout, read_sample
from rilievo.core.files.tiff_directories import has_sensor_data
from tests.core.files.dng import LINEAR, write_dng

RNG = np.random.default_rng(12)
MOSAIC = RNG.integers(300, 16_383, (60, 84)).astype(np.uint16)
NAMES = ("red", "green", "blue")
PATTERNS = {"RGGB": (0, 1, 1, 2), "BGGR": (2, 1, 1, 0), "GRBG": (1, 0, 2, 1), "GBRG": (1, 2, 0, 1)}


@pytest.mark.parametrize("pattern", list(PATTERNS.values()), ids=list(PATTERNS))
def test_the_numbers_of_the_sensor_are_read_exactly(
    pattern: tuple[int, ...], tmp_path: Path
) -> None:
    sample = read_sample(write_dng(tmp_path / "a.dng", MOSAIC, pattern=pattern))
    assert sorted(sample.channel_names) == ["blue", "green", "green 2", "red"]
    seen = []
    for name, plane in sample.channels.items():
        sites = [k for k, colour in enumerate(pattern) if NAMES[colour] == name.split(" ")[0]]
        y, x = divmod(sites[name == "green 2"], 2)
        seen.append((y, x))
        np.testing.assert_array_equal(plane.pixels, MOSAIC[y::2, x::2])
        assert plane.pixels.dtype == np.uint16
        assert f"{name} (2x + {x}, 2y + {y})" in sample.notes[0]
        np.testing.assert_array_equal(plane.saturated(), MOSAIC[y::2, x::2] >= 16_000)
    assert sorted(seen) == [(0, 0), (0, 1), (1, 0), (1, 1)]


def test_levels_and_the_exposure_are_attributes(tmp_path: Path) -> None:
    path = write_dng(tmp_path / "a.dng", MOSAIC, black=(500, 510, 511, 520), white=15_000)
    sample = read_sample(path)
    assert sample.attributes["black level"] == "red 500, green 510, green 2 511, blue 520"
    assert sample.attributes["white level"] == "15000"
    known = {name: sample.attributes[name] for name in ("exposure", "ISO", "aperture", "lens")}
    assert known == {"exposure": "0.004", "ISO": "400", "aperture": "5.6", "lens": "Bench 50 mm"}
    assert sample.attributes["focal length"] == "50"
    assert {plane.saturation for plane in sample.channels.values()} == {15_000}
    assert any("black level (red 500" in note for note in sample.notes)


def test_colour_of_half_the_size_averages_the_greens_alone(tmp_path: Path) -> None:
    sample = read_sample(write_dng(tmp_path / "a.dng", MOSAIC), 1)
    assert sample.channel_names == NAMES
    np.testing.assert_array_equal(sample.channels["red"].pixels, MOSAIC[::2, ::2])
    np.testing.assert_array_equal(sample.channels["blue"].pixels, MOSAIC[1::2, 1::2])
    one, other = MOSAIC[::2, 1::2], MOSAIC[1::2, ::2]
    green = sample.channels["green"]
    np.testing.assert_array_equal(green.pixels, (one.astype(float) + other) / 2)
    np.testing.assert_array_equal(green.saturated(), (one >= 16_000) | (other >= 16_000))
    with pytest.raises(FileError, match="has 2 images"):
        read_sample(tmp_path / "a.dng", 2)


@pytest.mark.parametrize("orientation", [3, 6, 8])
def test_pictures_are_turned_and_no_number_changes(orientation: int, tmp_path: Path) -> None:
    sample = read_sample(write_dng(tmp_path / "a.dng", MOSAIC, orientation=orientation))
    expected = upright(MOSAIC[::2, ::2], orientation)
    np.testing.assert_array_equal(sample.channels["red"].pixels, expected)
    assert "orientation tag" in sample.notes[-1]


def test_an_odd_row_has_no_partner(tmp_path: Path) -> None:
    sample = read_sample(write_dng(tmp_path / "a.dng", MOSAIC[:59, :83]))
    np.testing.assert_array_equal(sample.channels["green"].pixels, MOSAIC[:58:2, 1:82:2])
    assert any("without its partner" in note for note in sample.notes)


def test_a_sensor_with_another_mosaic_stays_whole(tmp_path: Path) -> None:
    tile = [1, 2, 1, 1, 0, 1, 0, 1, 0, 2, 1, 2, 1, 2, 1, 1, 0, 1,
            1, 0, 1, 1, 2, 1, 2, 1, 2, 0, 1, 0, 1, 0, 1, 1, 2, 1]  # fmt: skip
    path = write_dng(tmp_path / "x.dng", MOSAIC, pattern=tile, side=6)
    sample = read_sample(path)
    np.testing.assert_array_equal(sample.channels["sensor"].pixels, MOSAIC)
    assert "not told apart" in sample.notes[0]


def test_linear_colours_are_read_as_they_are(tmp_path: Path) -> None:
    colours = RNG.integers(0, 16_000, (40, 50, 3)).astype(np.uint16)
    sample = read_sample(write_dng(tmp_path / "l.dng", colours, photometric=LINEAR))
    for k, name in enumerate(NAMES):
        np.testing.assert_array_equal(sample.channels[name].pixels, colours[..., k])


@pytest.mark.parametrize("byteorder", ["<", ">"])
def test_a_raw_file_is_known_by_its_contents(byteorder: str, tmp_path: Path) -> None:
    path = write_dng(tmp_path / "named.tif", MOSAIC, byteorder=byteorder)
    assert "green 2" in read_sample(path).channels
    plain = tmp_path / "plain.dng"
    tifffile.imwrite(plain, MOSAIC, byteorder=byteorder)
    assert read_sample(plain).channel_names == ("gray",)
    assert read_layout(path).count == 1


def test_a_cut_file_is_named(tmp_path: Path) -> None:
    whole = write_dng(tmp_path / "a.dng", MOSAIC).read_bytes()
    cut = tmp_path / "cut.dng"
    cut.write_bytes(whole[:5000])
    with pytest.raises(FileTruncated, match=r"cut\.dng"):
        read_sample(cut)


def test_without_the_package_it_says_how_to_install_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = write_dng(tmp_path / "a.dng", MOSAIC)
    monkeypatch.setitem(sys.modules, "rawpy", None)
    with pytest.raises(UnsupportedKind, match=r"pip install 'rilievo\[raw\]'"):
        read_sample(path)


def test_a_tiff_that_points_beyond_all_files_is_no_raw_file_and_no_traceback(
    tmp_path: Path,
) -> None:
    """Of 64 bits: the value of a tag lies at 2⁶⁴ − 1."""
    path = tmp_path / "far.tif"
    entry = struct.pack("<HHQQ", 330, 16, 4, 2**64 - 1)
    head = struct.pack("<2sHHHQ", b"II", 43, 8, 0, 16)
    path.write_bytes(head + struct.pack("<Q", 1) + entry + bytes(8))
    assert not has_sensor_data(path)
    with pytest.raises(FileError, match=r"far\.tif"):
        read_sample(path)


@pytest.mark.parametrize("length", range(17))
def test_a_head_of_a_tiff_alone_is_no_raw_file(tmp_path: Path, length: int) -> None:
    """Another program that writes the file has just begun."""
    path = tmp_path / "begun.tif"
    path.write_bytes(struct.pack("<2sHI8x", b"II", 42, 8)[:length])
    assert not has_sensor_data(path)
    with pytest.raises(FileError, match=r"begun\.tif"):
        read_sample(path)

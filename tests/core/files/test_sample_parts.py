from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.errors import FileError
from rilievo.core.files.sample_parts import (
    Part,
    chosen_planes,
    named_checksums,
    parts_checksum,
    read_parts,
    same_files,
)


def test_a_typed_choice_of_planes() -> None:
    names = ("one", "two", "three", "4th")
    assert chosen_planes("1-2, 4", names) == ("one", "two", "4th")
    assert chosen_planes("three", names) == ("three",)
    assert chosen_planes(" ", names) == names
    with pytest.raises(ValueError, match="planes 1 to 4"):
        chosen_planes("3-9", names)
    with pytest.raises(ValueError, match="neither"):
        chosen_planes("five", names)


def test_reading_joined_files(write_tiff: Callable[..., Path]) -> None:
    dye = write_tiff(
        "dye.ome.tif",
        np.full((4, 5), 7, np.uint16),
        metadata={"axes": "YX", "PhysicalSizeX": 0.25, "PhysicalSizeXUnit": "µm"},
    )
    stain = write_tiff("stain.tif", np.full((4, 5), 9, np.uint8))
    sample = read_parts((Part(stain, channel="stain"), Part(dye, channel="dye")), "both")
    assert sample.channel_names == ("stain", "dye")
    assert sample.channels["stain"].calibration.pixel_size == 0.25
    assert sample.first.pixels[0, 0] == 9
    alone = read_parts((Part(dye),), "dye")
    assert alone.content != sample.content
    small = write_tiff("small.tif", np.zeros((2, 2), np.uint8))
    with pytest.raises(FileError, match=r"small\.tif.*2 × 2.*sample of its own"):
        read_parts((Part(dye), Part(small)), "x")
    with pytest.raises(FileError, match=r"dye\.ome\.tif.*no plane “p”"):
        read_parts((Part(dye, planes=("p",)),), "x")


def test_each_file_of_a_sample_has_its_own_checksum(write_tiff: Callable[..., Path]) -> None:
    paths = [write_tiff(f"{name}.tif", np.full((4, 5), k, np.uint8)) for k, name in enumerate("ab")]
    own = [hashlib.sha256(path.read_bytes()).hexdigest() for path in paths]
    parts = (Part(paths[0], channel="x"), Part(paths[1], channel="y"), Part(paths[0], channel="z"))
    checksum = parts_checksum(parts)
    assert checksum == " ".join(own) == read_parts(parts, "s").checksum
    assert named_checksums(parts, checksum) == [("a.tif", own[0]), ("b.tif", own[1])]
    assert named_checksums(parts, "") == [("a.tif", ""), ("b.tif", "")]
    # Files of the same content are still two files.
    paths[1].write_bytes(paths[0].read_bytes())
    same = read_parts(parts, "s").checksum
    assert same == parts_checksum(parts)
    assert named_checksums(parts, same) == [("a.tif", own[0]), ("b.tif", own[0])]
    # A study of an earlier version has one checksum of all files together.
    assert same_files(hashlib.sha256(checksum.encode()).hexdigest(), checksum)
    assert same_files("", checksum)
    assert not same_files(own[0], checksum)

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.errors import FileError
from rilievo.core.files.sample_parts import Part, chosen_planes, read_parts


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

"""Pictures with an orientation tag are as another program shows them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image, ImageOps

from rilievo.core.files.reader import read_sample

PIXELS = np.random.default_rng(2).integers(0, 255, (6, 9)).astype(np.uint8)


@pytest.mark.parametrize("orientation", range(1, 9))
@pytest.mark.parametrize("name", ["a.png", "a.webp", "a.tif"])
def test_each_orientation_is_that_of_another_program(
    orientation: int, name: str, tmp_path: Path
) -> None:
    path = tmp_path / name
    exif = Image.Exif()
    exif[274] = orientation
    picture = Image.fromarray(PIXELS)
    if name == "a.webp":
        picture = Image.fromarray(np.stack([PIXELS] * 3, axis=-1))
        picture.save(path, lossless=True, exact=True, exif=exif)
    elif name == "a.tif":
        tifffile.imwrite(
            path, PIXELS, extratags=[(274, "H", 1, orientation, True)],
            resolution=(100, 50), resolutionunit="CENTIMETER",
        )  # fmt: skip
    else:
        picture.save(path, exif=exif)
    Image.fromarray(PIXELS).save(tmp_path / "same.png", exif=exif)
    with Image.open(tmp_path / "same.png") as shown:
        expected = np.asarray(ImageOps.exif_transpose(shown))
    sample = read_sample(path)
    assert (sample.first.pixels == expected).all()
    assert any("orientation tag" in note for note in sample.notes) == (orientation != 1)
    if name == "a.tif":
        sides = (100, 200) if orientation < 5 else (200, 100)
        assert sample.first.calibration.sides == pytest.approx(sides)


def test_a_photograph_of_a_telephone(tmp_path: Path) -> None:
    picture = np.zeros((40, 80, 3), np.uint8)
    picture[:, :20] = (255, 0, 0)
    exif = Image.Exif()
    exif[274] = 6
    Image.fromarray(picture).save(tmp_path / "a.jpg", quality=95, exif=exif)
    red = read_sample(tmp_path / "a.jpg").channels["red"].pixels
    assert red.shape == (80, 40)
    # What was at the left is on top.
    assert red[:15].min() > 200 and red[30:].max() < 60

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile

from rilievo.core.errors import FileError
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.class_definition import clean_use
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.label_image import read_label_image, write_label_image
from rilievo.core.regions.region_set import RegionSet
from tests.outlines import find_regions, outline


def test_label_images_come_back(tmp_path: Path, blobs: np.ndarray) -> None:
    found = find_regions(blobs.astype(np.float32), 200)
    path = tmp_path / "s-cells.tif"
    write_label_image(found, path)
    assert tifffile.imread(path).dtype == np.uint16
    np.testing.assert_array_equal(read_label_image(path, blobs.shape), found.labels)
    method = Method(
        outlines=(
            outline(
                source="label_image",
                clean=(),
                label_image={"file": str(path).replace("s-cells", "{sample}-cells")},
            ),
        )
    )
    sample = Sample("s", {"g": Plane(blobs.astype(np.float32))})
    again = Analysis(sample, method).regions()
    np.testing.assert_array_equal(again.labels, found.labels)
    many = RegionSet(
        np.full((2, 2), 70_000, np.int32), *(np.zeros(0, np.int64),) * 3, np.zeros((0, 2)), 0.0
    )
    write_label_image(many, tmp_path / "many.tif")
    assert tifffile.imread(tmp_path / "many.tif").dtype == np.uint32


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (None, "does not exist"),
        (b"text", "does not contain an image"),
        (np.zeros((3, 4), np.uint8), "has 4×3 pixels"),
        (np.zeros((5, 5), np.float32), "no label image"),
        (np.zeros((5, 5, 3), np.uint8), "no label image"),
        (np.full((5, 5), -1, np.int16), "below 0"),
    ],
)
def test_what_is_no_label_image_is_named(content: object, said: str, tmp_path: Path) -> None:
    path = tmp_path / "labels.tif"
    if isinstance(content, bytes):
        path.write_bytes(content)
    elif isinstance(content, np.ndarray):
        tifffile.imwrite(path, content)
    with pytest.raises(FileError, match=said) as caught:
        read_label_image(path, (5, 5))
    assert "labels.tif" in str(caught.value)


def test_label_images_with_gaps_leave_out_only_what_is_there(tmp_path: Path) -> None:
    labels = np.zeros((8, 9), np.uint16)
    labels[0, 0], labels[3:6, 3:6] = 7, 900
    tifffile.imwrite(tmp_path / "s.tif", labels)
    method = Method(
        outlines=(
            outline(
                source="label_image",
                label_image={"file": str(tmp_path / "{sample}.tif")},
                clean=(clean_use("keep", lower=2.0),),
            ),
        )
    )
    found = Analysis(Sample("s", {"g": Plane(np.zeros((8, 9)))}), method).regions()
    assert found.areas.tolist() == [9]
    assert found.reasons == ("area 1 is below 2 px²",)

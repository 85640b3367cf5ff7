"""OME-TIFF and OME-Zarr: out and in again, and as the published schema has them."""

from __future__ import annotations

import json
from importlib.resources import files
from pathlib import Path

import numpy as np
import pytest
import tifffile
import xmlschema
import zarr

from rilievo.core.errors import FileUnreadable, UnsupportedKind
from rilievo.core.files.ome_writer import is_ome_name, write_ome
from rilievo.core.files.reader import read_sample
from rilievo.core.image.image import Calibration, Plane
from rilievo.core.regions.label_image import read_label_image, write_label_image
from tests.outlines import find_regions

RNG = np.random.default_rng(2)
SIZES = Calibration(0.25, "µm", 0.4)
GAPS = RNG.normal(0, 50, (70, 90)).astype(np.float32)
GAPS[3:6, 4] = np.nan
PLANES = {
    "lipid dye µ": Plane(GAPS, SIZES),
    "chlorophyll": Plane(RNG.integers(0, 4000, (70, 90)).astype(np.uint16), SIZES),
}
CELLS = np.zeros((70, 90), np.int32)
CELLS[5:20, 8:30], CELLS[40:60, 50:80] = 1, 70_000
LABELS = {"cell": CELLS, "rest": (CELLS == 0).astype(np.int32)}
ENDINGS = (".ome.tif", ".ome.zarr")


@pytest.mark.parametrize("ending", ENDINGS)
def test_channels_sizes_and_names_come_back(ending: str, tmp_path: Path) -> None:
    path = tmp_path / f"p{ending}"
    write_ome(path, PLANES, LABELS)
    sample = read_sample(path)
    assert sample.channel_names == tuple(PLANES)
    for name, plane in PLANES.items():
        found = sample.channels[name]
        np.testing.assert_array_equal(found.pixels, plane.as_float())
        assert found.calibration.sides == pytest.approx((0.25, 0.4))
        assert found.calibration.unit == "µm"


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_single_channel_keeps_its_name(ending: str, tmp_path: Path) -> None:
    path = tmp_path / f"p{ending}"
    write_ome(path, {"fluorescence": PLANES["chlorophyll"]})
    assert read_sample(path).channel_names == ("fluorescence",)
    unnamed = tmp_path / f"q{ending}"
    write_ome(unnamed, {"gray": Plane(np.ones((4, 5)), Calibration())})
    sample = read_sample(unnamed)
    assert sample.channel_names == ("gray",)
    assert ending == ".ome.zarr" or sample.first.calibration.pixel_size is None


def test_label_images_come_back(tmp_path: Path) -> None:
    write_ome(tmp_path / "p.ome.tif", PLANES, LABELS)
    with tifffile.TiffFile(tmp_path / "p.ome.tif") as file:
        assert [one.name for one in file.series][1:] == ["regions cell", "regions rest"]
        np.testing.assert_array_equal(file.series[1].asarray(), CELLS)
        np.testing.assert_array_equal(file.series[2].asarray(), LABELS["rest"])
        assert file.series[2].dtype == np.uint16
    folder = tmp_path / "p.ome.zarr"
    write_ome(folder, PLANES, LABELS)
    listed = json.loads((folder / "labels" / ".zattrs").read_text())
    assert listed == {"labels": ["cell", "rest"]}
    for name, numbers in LABELS.items():
        np.testing.assert_array_equal(read_label_image(folder / "labels" / name, (70, 90)), numbers)


@pytest.mark.parametrize("ending", ENDINGS)
def test_regions_are_written_with_name_and_size(ending: str, tmp_path: Path) -> None:
    values = np.zeros((40, 50))
    values[5:12, 6:20] = values[25:30, 30:44] = 9
    regions = find_regions(values, 4.0)
    path = tmp_path / f"cell{ending}"
    write_label_image(regions, path, "cell", SIZES)
    place = path / "labels" / "cell" if ending == ".ome.zarr" else path
    np.testing.assert_array_equal(read_label_image(place, (40, 50)), regions.labels)
    assert read_sample(place).first.calibration.sides == pytest.approx((0.25, 0.4))


def test_the_xml_is_valid_by_the_published_schema(tmp_path: Path) -> None:
    schema = xmlschema.XMLSchema(str(files("ome_types") / "ome-2016-06.xsd"))
    for k, (planes, labels) in enumerate(((PLANES, LABELS), (PLANES, {}), ({}, LABELS))):
        path = tmp_path / f"{k}.ome.tif"
        write_ome(path, planes, labels, SIZES)
        with tifffile.TiffFile(path) as file:
            assert file.ome_metadata is not None
            schema.validate(file.ome_metadata)


def test_a_zarr_has_what_version_0_4_asks_for(tmp_path: Path) -> None:
    """Names after https://ngff.openmicroscopy.org/0.4, each of its MUSTs that concern us."""
    write_ome(tmp_path / "p.ome.zarr", PLANES, LABELS)
    group = zarr.open_group(str(tmp_path / "p.ome.zarr"), mode="r")
    for one, axes in ((group, "cyx"), (group["labels/cell"], "yx")):
        assert one.metadata.zarr_format == 2
        (scales,) = one.attrs["multiscales"]
        assert [axis["name"] for axis in scales["axes"]] == list(axes)
        kinds = [axis["type"] for axis in scales["axes"]]
        assert kinds == ["channel"] * (len(axes) - 2) + ["space"] * 2
        assert {a["unit"] for a in scales["axes"] if a["type"] == "space"} == {"micrometer"}
        (level,) = scales["datasets"]
        (transform,) = level["coordinateTransformations"]
        assert transform == {"type": "scale", "scale": [1.0, 0.4, 0.25][-len(axes) :]}
        assert len(one[level["path"]].shape) == len(axes)
    assert group["labels/cell"].attrs["image-label"]["source"] == {"image": "../../"}
    assert group["labels/cell"]["0"].dtype.kind in "iu"
    channels = group.attrs["omero"]["channels"]
    assert [one["label"] for one in channels] == list(PLANES)
    for one in channels:
        assert len(one["color"]) == 6
        assert set(one["window"]) == {"start", "end", "min", "max"}


def test_a_folder_that_is_there_is_replaced_only_where_it_is_an_image(tmp_path: Path) -> None:
    path = tmp_path / "p.ome.zarr"
    write_ome(path, PLANES, LABELS)
    write_ome(path, {"other": PLANES["chlorophyll"]})
    assert read_sample(path).channel_names == ("other",)
    assert not (path / "labels").exists()
    mine = tmp_path / "mine.zarr"
    mine.mkdir()
    (mine / "notes.txt").write_text("keep")
    with pytest.raises(UnsupportedKind, match="is no OME-Zarr"):
        write_ome(mine, PLANES)
    assert (mine / "notes.txt").read_text() == "keep"
    assert sorted(one.name for one in tmp_path.iterdir()) == ["mine.zarr", "p.ome.zarr"]


def test_names_of_classes_are_folders_inside(tmp_path: Path) -> None:
    numbers = dict.fromkeys(("../out", "in/side", "in-side", "..", "__x"), CELLS)
    write_ome(tmp_path / "p.ome.zarr", PLANES, numbers)
    names = json.loads((tmp_path / "p.ome.zarr" / "labels" / ".zattrs").read_text())["labels"]
    assert names == ["--out", "in-side", "in-side (2)", "-", "-x"]
    for name in names:
        found = read_label_image(tmp_path / "p.ome.zarr" / "labels" / name, (70, 90))
        np.testing.assert_array_equal(found, CELLS)
    assert [one.name for one in tmp_path.iterdir()] == ["p.ome.zarr"]


def test_what_cannot_be_written_is_said(tmp_path: Path) -> None:
    with pytest.raises(UnsupportedKind, match=r"\.ome\.tif or \.ome\.zarr"):
        write_ome(tmp_path / "p.tif", PLANES)
    for ending in ENDINGS:
        with pytest.raises(FileUnreadable):
            write_ome(tmp_path / "none" / f"p{ending}", PLANES)
    assert is_ome_name(Path("A.OME.TIFF")) and not is_ome_name(Path("a.tif"))

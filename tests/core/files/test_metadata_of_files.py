"""Everything a file says of itself, and what is lifted into attributes."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
import zarr
from astropy.io import fits
from PIL import Image
from PIL.PngImagePlugin import PngInfo

from rilievo.core.errors import FileError
from rilievo.core.files import images_below, read_sample
from rilievo.core.image.metadata import MetadataNode, matching

PIXELS = np.random.default_rng(2).integers(0, 900, (12, 16)).astype(np.uint16)


def names(nodes: tuple[MetadataNode, ...]) -> set[str]:
    return {one.name for node in nodes for one in node.walk()}


def test_fits_cards_of_every_extension(tmp_path: Path) -> None:
    path = tmp_path / "n.fits"
    primary = fits.PrimaryHDU()
    primary.header["OBSERVER"] = "A. Nobody"
    image = fits.ImageHDU(PIXELS, name="SCI")
    image.header["EXPTIME"] = (30.0, "seconds")
    image.header["FILTER"] = "R"
    image.header["PIXSCALE"] = 0.4
    image.header["SATURATE"] = 800
    error = fits.ImageHDU(PIXELS + 1, name="ERR")
    small = fits.ImageHDU(PIXELS[:4, :4], name="GUIDE")
    fits.HDUList([primary, image, error, small]).writeto(path)
    sample = read_sample(path)
    assert sample.channel_names == ("sci", "err")
    assert sample.attributes["exposure"] == "30.0"
    assert sample.attributes["filter"] == "R"
    assert (sample.first.calibration.pixel_size, sample.first.calibration.unit) == (0.4, "arcsec")
    assert sample.first.saturation == 800
    assert "OBSERVER" in names(sample.metadata)
    card = next(one for node in sample.metadata for one in node.walk() if one.name == "EXPTIME")
    assert card.note == "seconds"
    assert len(sample.images) == 2
    guide = read_sample(path, 1)
    np.testing.assert_array_equal(guide.first.pixels, PIXELS[:4, :4])
    with pytest.raises(FileError, match="has 2 images, not 5"):
        read_sample(path, 4)


def test_fits_tile_compressed_and_sky_coordinates(tmp_path: Path) -> None:
    path = tmp_path / "c.fits"
    unit = fits.CompImageHDU(PIXELS, compression_type="RICE_1")
    unit.header["CTYPE1"] = "RA---TAN"
    unit.header["CD1_2"], unit.header["CD2_2"] = 0.0, -0.0005
    fits.HDUList([fits.PrimaryHDU(), unit]).writeto(path)
    sample = read_sample(path)
    np.testing.assert_array_equal(sample.first.pixels, PIXELS)
    assert sample.first.calibration.pixel_size == pytest.approx(1.8)


def test_ome_xml_as_a_tree_with_objective_and_date(tmp_path: Path) -> None:
    path = tmp_path / "a.ome.tif"
    tifffile.imwrite(path, PIXELS, metadata={"axes": "YX", "PhysicalSizeX": 0.2})
    with tifffile.TiffFile(path) as file:
        text = file.ome_metadata
    assert text is not None
    more = text.replace(
        "<Image ",
        '<Instrument ID="Instrument:0"><Objective ID="Objective:0" NominalMagnification="40.0" '
        'LensNA="0.95"/></Instrument><Image ',
        1,
    ).replace("<Pixels ", "<AcquisitionDate>2031-05-06T07:08:09</AcquisitionDate><Pixels ", 1)
    tifffile.imwrite(path, PIXELS, description=more.encode(), metadata=None)
    sample = read_sample(path)
    assert sample.attributes["objective"] == "40× NA 0.95"
    assert sample.attributes["date"] == "2031-05-06T07:08:09"
    assert {"OME-XML", "Pixels", "ImageWidth"} <= names(sample.metadata)


def test_several_series_and_pyramids(tmp_path: Path) -> None:
    path = tmp_path / "two.tif"
    with tifffile.TiffWriter(path) as writer:
        writer.write(PIXELS, metadata=None)
        writer.write(PIXELS[:6, :5].astype(np.uint8), metadata=None)
    first = read_sample(path)
    assert len(first.images) == 2
    np.testing.assert_array_equal(read_sample(path, 1).first.pixels, PIXELS[:6, :5] % 256)


def test_exif_of_a_photograph(tmp_path: Path) -> None:
    path = tmp_path / "p.jpg"
    exif = Image.Exif()
    exif[0x0110] = "Made-up camera"
    exif.get_ifd(0x8769)[0x829A] = 0.004
    exif.get_ifd(0x8769)[0x9003] = "2031:01:02 03:04:05"
    Image.fromarray(np.zeros((8, 8, 3), np.uint8)).save(path, exif=exif)
    sample = read_sample(path)
    assert sample.attributes["instrument"] == "Made-up camera"
    assert float(sample.attributes["exposure"]) == pytest.approx(0.004)
    assert sample.attributes["date"] == "2031:01:02 03:04:05"


def test_png_text_is_shown(tmp_path: Path) -> None:
    info = PngInfo()
    info.add_text("Comment", "plate 7")
    Image.fromarray(PIXELS.astype(np.uint8)).save(tmp_path / "t.png", pnginfo=info)
    assert matching(read_sample(tmp_path / "t.png").metadata, "plate 7")


def write_zarr(folder: Path, version: int, values: np.ndarray) -> Path:
    group = zarr.open_group(str(folder), mode="w", zarr_format=2 if version == 4 else 3)
    for level, data in enumerate((values, values[..., ::2, ::2])):
        array = group.create_array(str(level), shape=data.shape, dtype=data.dtype, chunks=(1, 8, 8))
        array[...] = data
    scales = {
        "axes": [
            {"name": "c", "type": "channel"},
            {"name": "y", "type": "space", "unit": "micrometer"},
            {"name": "x", "type": "space", "unit": "micrometer"},
        ],
        "datasets": [
            {
                "path": str(level),
                "coordinateTransformations": [
                    {"type": "scale", "scale": [1.0, 0.3 * 2**level, 0.3 * 2**level]}
                ],
            }
            for level in (0, 1)
        ],
        "name": "field",
    }
    extra = {"multiscales": [scales], "omero": {"channels": [{"label": "dye"}, {"label": "DIC"}]}}
    group.attrs.update(extra if version == 4 else {"ome": {"version": "0.5", **extra}})
    return folder


@pytest.mark.parametrize("version", [4, 5])
def test_ome_zarr(tmp_path: Path, version: int) -> None:
    values = np.stack([PIXELS, PIXELS + 7])
    folder = write_zarr(tmp_path / "f.ome.zarr", version, values)
    sample = read_sample(folder)
    assert sample.name == "f"
    assert sample.channel_names == ("dye", "DIC")
    np.testing.assert_array_equal(sample.channels["DIC"].pixels, PIXELS + 7)
    assert (sample.first.calibration.pixel_size, sample.first.calibration.unit) == (0.3, "µm")
    assert sample.checksum and sample.first.lattice is not None
    # The folder is one image, whose inner files are not.
    assert images_below([tmp_path]) == [folder]


def test_a_damaged_zarr_names_itself(tmp_path: Path) -> None:
    folder = write_zarr(tmp_path / "bad.zarr", 4, np.stack([PIXELS, PIXELS]))
    attributes = json.loads((folder / ".zattrs").read_text())
    attributes["multiscales"][0]["datasets"][0]["path"] = "../../elsewhere"
    (folder / ".zattrs").write_text(json.dumps(attributes))
    with pytest.raises(FileError, match=r"bad\.zarr.*outside itself"):
        read_sample(folder)
    (folder / ".zattrs").write_text("{")
    with pytest.raises(FileError, match=r"bad\.zarr"):
        read_sample(folder)


def test_damaged_zarr_bytes_never_escape(tmp_path: Path) -> None:
    rng = np.random.default_rng(4)
    folder = write_zarr(tmp_path / "z.zarr", 4, np.stack([PIXELS, PIXELS]))
    files = [file for file in folder.rglob("*") if file.is_file()]
    whole = {file: file.read_bytes() for file in files}
    for _ in range(40):
        victim = files[rng.integers(len(files))]
        damaged = bytearray(whole[victim])
        for index in rng.integers(0, len(damaged), 3):
            damaged[index] = rng.integers(256)
        victim.write_bytes(damaged)
        try:
            read_sample(folder)
        except FileError as exc:
            assert "z.zarr" in str(exc)
        victim.write_bytes(whole[victim])


def test_claims_that_no_packing_can_keep(tmp_path: Path, write_tiff: Callable[..., Path]) -> None:
    """A small file that claims a gigabyte is refused before anything is allocated."""
    path = write_tiff("bomb.tif", np.zeros((4, 4), np.uint8))
    with tifffile.TiffFile(path, mode="r+") as file:
        tags = file.pages[0].tags  # type: ignore[union-attr]
        tags["ImageWidth"].overwrite(40_000)
        tags["ImageLength"].overwrite(40_000)
    with pytest.raises(FileError, match=r"bomb\.tif.*claims to hold 1\.6 GB"):
        read_sample(path)

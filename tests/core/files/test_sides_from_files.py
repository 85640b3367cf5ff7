"""Both sides of a pixel and their unit, from every format that tells them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import tifffile
import zarr
from astropy.io import fits

from rilievo.core.files.reader import read_sample
from rilievo.core.files.writer import write_plane
from rilievo.core.image.image import Calibration, Plane

PIXELS = np.arange(24, dtype=np.uint16).reshape(4, 6)


def sides(path: Path) -> tuple[float, float] | None:
    return read_sample(path).first.calibration.sides


def test_ome_with_a_unit_each(tmp_path: Path) -> None:
    path = tmp_path / "a.ome.tif"
    tifffile.imwrite(path, PIXELS, metadata={
        "axes": "YX", "PhysicalSizeX": 100.0, "PhysicalSizeXUnit": "nm",
        "PhysicalSizeY": 0.3, "PhysicalSizeYUnit": "µm",
    })  # fmt: skip
    assert sides(path) == pytest.approx((0.1, 0.3))
    assert read_sample(path).first.calibration.unit == "µm"


def test_tiff_tags(tmp_path: Path) -> None:
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, PIXELS, resolution=(1e5, 1e5 / 3), resolutionunit="CENTIMETER")
    assert sides(path) == pytest.approx((0.1, 0.3), rel=1e-6)


@pytest.mark.parametrize(
    "cards",
    [
        {"CDELT1": -0.0005, "CDELT2": 0.001},
        {"CD1_1": -0.0004, "CD2_1": 0.0003, "CD1_2": 0.0006, "CD2_2": 0.0008},
        {"CDELT1": 0.0005, "CDELT2": 0.001, "PC1_1": 0.0, "PC1_2": 1.0, "PC2_1": 0.5, "PC2_2": 0.0,
         "TURNED": True},
    ],
    ids=["CDELT", "CD", "PC"],
)  # fmt: skip
def test_fits_on_the_sky(tmp_path: Path, cards: dict[str, float]) -> None:
    path = tmp_path / "a.fits"
    unit = fits.PrimaryHDU(PIXELS)
    turned = cards.pop("TURNED", False)
    for name, value in {"CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", **cards}.items():
        unit.header[name] = value
    unit.writeto(path)
    # A quarter turn: along x one goes 0.5 · CDELT2, along y 1 · CDELT1.
    expected = (1.8, 1.8) if turned else (1.8, 3.6)
    assert sides(path) == pytest.approx(expected)
    assert read_sample(path).first.calibration.unit == "arcsec"


def test_fits_with_lengths(tmp_path: Path) -> None:
    path = tmp_path / "a.fits"
    unit = fits.PrimaryHDU(PIXELS)
    cards = {"CDELT1": 0.002, "CUNIT1": "mm", "CDELT2": 5.0, "CUNIT2": "um"}
    for name, value in cards.items():
        unit.header[name] = value
    unit.writeto(path)
    assert sides(path) == pytest.approx((2.0, 5.0))


def test_ome_zarr(tmp_path: Path) -> None:
    path = tmp_path / "a.zarr"
    group = zarr.open_group(path, mode="w", zarr_format=2)
    group.create_array("0", data=PIXELS, chunks=PIXELS.shape)
    group.attrs["multiscales"] = [
        {
            "version": "0.4",
            "axes": [
                {"name": "y", "type": "space", "unit": "nanometer"},
                {"name": "x", "type": "space", "unit": "micrometer"},
            ],
            "datasets": [
                {
                    "path": "0",
                    "coordinateTransformations": [{"type": "scale", "scale": [300.0, 0.1]}],
                }
            ],
        }
    ]
    assert json.loads((path / ".zattrs").read_text())
    assert sides(path) == pytest.approx((0.1, 0.3))


@pytest.mark.parametrize(("ending", "unit"), [(".tif", "µm"), (".fits", "arcsec")])
def test_written_planes_keep_both_sides(tmp_path: Path, ending: str, unit: str) -> None:
    path = tmp_path / f"a{ending}"
    plane = Plane(PIXELS.astype(np.float32), Calibration.of_sides(0.5, 1.25, unit))
    write_plane(path, plane)
    header_unit = fits.getheader(path) if ending == ".fits" else {}
    if ending == ".fits" and "CTYPE1" not in header_unit:
        assert header_unit["CUNIT1"] == "deg"
    assert sides(path) == pytest.approx((0.5, 1.25), rel=1e-6)


def test_files_in_several_units_come_in_one(tmp_path: Path) -> None:
    for name, size, unit in (("a", 250.0, "nm"), ("b", 0.25, "µm"), ("c", 0.00025, "mm")):
        metadata = {"axes": "YX", "PhysicalSizeX": size, "PhysicalSizeXUnit": unit}
        tifffile.imwrite(tmp_path / f"{name}.ome.tif", PIXELS, metadata=metadata)
    found = [read_sample(path).first.calibration for path in sorted(tmp_path.iterdir())]
    assert [one.unit for one in found] == ["µm"] * 3
    assert [one.pixel_size for one in found] == pytest.approx([0.25] * 3)

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile
from astropy.io import fits

from rilievo.core.errors import FileUnreadable, UnsupportedKind
from rilievo.core.files import read_sample
from rilievo.core.files.writer import write_plane
from rilievo.core.image.image import Calibration, Plane


@pytest.mark.parametrize("ending", [".tif", ".fits", ".npy", ""])
def test_a_plane_is_written_and_read_again(ending: str, tmp_path: Path) -> None:
    pixels = np.array([[-1.5, 2.25, np.nan], [4.0, 5.0, 6.0]], np.float32)
    write_plane(tmp_path / f"p{ending}", Plane(pixels, Calibration(0.5, "µm")))
    if ending == ".fits":
        np.testing.assert_array_equal(fits.getdata(tmp_path / "p.fits"), pixels)
    sample = read_sample(tmp_path / f"p{ending or '.tif'}")
    np.testing.assert_array_equal(sample.first.pixels, pixels)
    if ending == ".tif":
        assert sample.first.calibration.pixel_size == pytest.approx(0.5, rel=1e-6)


@pytest.mark.parametrize("calibration", [Calibration(0.5, "µm"), Calibration(2.0, "nm", 3.0)])
def test_an_ome_tiff_keeps_pixels_sizes_and_name(calibration: Calibration, tmp_path: Path) -> None:
    pixels = np.array([[-1.5, 2.25, np.nan], [4.0, 5.0, 6.0]], np.float32)
    write_plane(tmp_path / "p.ome.tif", Plane(pixels, calibration), "lipid dye µ")
    sample = read_sample(tmp_path / "p.ome.tif")
    with tifffile.TiffFile(tmp_path / "p.ome.tif") as file:
        assert file.is_ome and 'Name="lipid dye µ"' in (file.ome_metadata or "")
    np.testing.assert_array_equal(sample.first.pixels, pixels)
    sides = calibration.in_unit("µm").sides
    assert sample.first.calibration.in_unit("µm").sides == pytest.approx(sides)
    write_plane(tmp_path / "q.ome.tif", Plane(pixels))
    assert read_sample(tmp_path / "q.ome.tif").first.calibration.pixel_size is None


def test_a_plane_is_not_written_to_an_unknown_kind(tmp_path: Path) -> None:
    with pytest.raises(UnsupportedKind, match=r"\.ome\.zarr, \.tif, \.fits or \.npy"):
        write_plane(tmp_path / "p.jpg", Plane(np.zeros((2, 2), np.float32)))
    with pytest.raises(FileUnreadable):
        write_plane(tmp_path / "none" / "p.tif", Plane(np.zeros((2, 2), np.float32)))

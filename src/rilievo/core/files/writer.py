"""Writing a plane of floats: corrected pictures and backgrounds. Originals are never written to."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np

from rilievo.core.atomic_write import write_bytes_safely
from rilievo.core.errors import UnsupportedKind
from rilievo.core.files.ome_writer import is_ome_name, write_ome
from rilievo.core.image.image import Plane
from rilievo.core.image.lengths import is_metric


def write_plane(path: Path, plane: Plane, channel: str = "") -> None:
    """Write a plane as 32- or 64-bit floats; undefined pixels are NaN.

    path : ends in .ome.tif, .ome.zarr, .tif, .fits or .npy; TIFF without an ending. TIFF and FITS
    keep the pixel size, OME formats also the name of the channel.
    Raises UnsupportedKind for another ending, FileUnreadable when it cannot be written.
    """
    makers = {".tif": _tiff, ".tiff": _tiff, ".fits": _fits, ".fit": _fits, ".npy": _npy}
    if not path.suffix:
        path = path.with_suffix(".tif")
    if is_ome_name(path):
        write_ome(path, {channel or "signal": plane})
        return
    make = makers.get(path.suffix.lower())
    if make is None:
        raise UnsupportedKind(
            path,
            "has an ending that is not known",
            "choose a name that ends in .ome.tif, .ome.zarr, .tif, .fits or .npy",
        )
    write_bytes_safely(path, make(plane))


def _npy(plane: Plane) -> bytes:
    buffer = io.BytesIO()
    np.save(buffer, plane.as_float(), allow_pickle=False)
    return buffer.getvalue()


def _tiff(plane: Plane) -> bytes:
    import tifffile  # noqa: PLC0415 (slow to import)

    buffer = io.BytesIO()
    sides = plane.calibration.in_unit("cm").sides
    options: dict[str, object] = {"photometric": "minisblack"}
    if sides and is_metric(plane.calibration.unit):
        options |= {"resolution": (1 / sides[0], 1 / sides[1]), "resolutionunit": "CENTIMETER"}
    tifffile.imwrite(buffer, plane.as_float(), **options)  # type: ignore[arg-type]
    return buffer.getvalue()


def _fits(plane: Plane) -> bytes:
    from astropy.io import fits  # noqa: PLC0415 (slow to import)

    unit = fits.PrimaryHDU(np.ascontiguousarray(plane.as_float()))
    sides = plane.calibration.sides
    if sides and plane.calibration.unit == "arcsec":
        unit.header["CDELT1"], unit.header["CDELT2"] = -sides[0] / 3600, sides[1] / 3600
        unit.header["CUNIT1"] = unit.header["CUNIT2"] = "deg"
    buffer = io.BytesIO()
    unit.writeto(buffer)
    return buffer.getvalue()

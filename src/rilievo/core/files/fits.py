"""FITS images (Pence et al. 2010) with BSCALE, BZERO and BLANK applied, through astropy.

The first extension that holds an image is taken; the planes of a cube become channels.
"""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import Any

import numpy as np

from rilievo.core.errors import FileEmpty, NotAnImage, UnsupportedKind
from rilievo.core.files.planes import check_size, native_order, truncated
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.image import Sample, plane_from_native

# Header cards that say how the exposure was made, lifted into the sample's attributes.
_ATTRIBUTES = {"DATE-OBS": "date", "EXPTIME": "exposure", "FILTER": "filter", "OBJECT": "object"}


def _image_units(units: Any) -> list[Any]:
    return [unit for unit in units if unit.is_image and unit.header.get("NAXIS", 0) >= 2]


def _check_whole(path: Path, unit: Any) -> None:
    place = unit.fileinfo()
    header = unit.header
    bits = abs(int(header["BITPIX"]))
    shape = tuple(int(header[f"NAXIS{i + 1}"]) for i in range(int(header["NAXIS"])))
    check_size(path, shape, bits // 8)
    size = int(np.prod(shape, dtype=np.int64)) * bits // 8
    # A tile-compressed image is stored as a table, whose size these cards do not give.
    compressed = type(unit).__name__ == "CompImageHDU"
    if not compressed and place["datLoc"] + size > path.stat().st_size:
        raise truncated(path)


def read_fits(path: Path) -> Sample:
    """Read the first image of a FITS file, in native values after its scaling keywords."""
    from astropy.io import fits  # noqa: PLC0415 (slow to import, needed for this format only)

    with warnings.catch_warnings():
        # What astropy warns of (odd cards, missing padding) does not touch the pixels.
        warnings.simplefilter("ignore")
        try:
            units = fits.open(path, memmap=False, lazy_load_hdus=False)
        except OSError as exc:
            if exc.errno is not None:
                raise
            raise NotAnImage(
                path, "is a FITS file with a damaged header", "export it again from its source"
            ) from exc
        with units:
            images = _image_units(units)
            if not images:
                if any(unit.header.get("NAXIS", 0) == 1 for unit in units):
                    raise UnsupportedKind(
                        path, "holds a spectrum and no image", "choose a file with two axes"
                    )
                raise FileEmpty(path, "holds no image", "choose a FITS file with an image in it")
            unit = images[0]
            _check_whole(path, unit)
            pixels = unit.data
            if pixels is None:
                raise truncated(path)
            header = unit.header
            attributes = {
                name: str(header[card]).strip()
                for card, name in _ATTRIBUTES.items()
                if card in header
            }
    notes = []
    if len(images) > 1:
        notes.append(f"{len(images) - 1} further images of this file are not shown.")
    planes = pixels.reshape(-1, *pixels.shape[-2:])
    names = ["gray"] if len(planes) == 1 else [f"plane {i + 1}" for i in range(len(planes))]
    channels = {
        name: plane_from_native(native_order(plane))
        for name, plane in zip(names, planes, strict=True)
    }
    return Sample(sample_name(path), channels, bottom_up=True, attributes=attributes, notes=notes)


READERS.add(
    "fits",
    Reader(
        "fits",
        "FITS",
        (".fits", ".fit", ".fts"),
        lambda head: head.startswith(b"SIMPLE  ="),
        read_fits,
    ),
)

"""FITS images (Pence et al. 2010) with BSCALE, BZERO and BLANK applied, through astropy.

All image extensions of one size are one image, each a channel; extensions of another size are
further images of the file. The planes of a cube are channels. Tile-compressed images are
unpacked.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import FileEmpty, NotAnImage, UnsupportedKind
from rilievo.core.files.fits_headers import BLOCK, check_headers
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.files.reader_helpers import (
    check_size,
    chosen_image,
    damaged,
    native_order,
    truncated,
    unique_names,
)
from rilievo.core.files.stack_axes import layout_of, selection
from rilievo.core.image.image import Calibration, Defect, Plane, Sample, plane_from_native
from rilievo.core.image.lengths import LENGTH_UNITS, conversion, standard_unit, unit_name
from rilievo.core.image.metadata import MetadataNode, leaf
from rilievo.core.image.stack import Frame, StackLayout

# Cards that give the side of a pixel in arc seconds, as observatories write them.
_SCALE_CARDS = ("PIXSCALE", "SECPIX", "PLTSCALE", "SCALE")
_MOST_TIMES = 1_000_000
# How the kind of an axis of a cube begins.
_AXIS_KINDS = {
    "t": ("TIME", "UTC", "MJD", "JD", "TAI", "TDB"),
    "z": ("Z", "DEPTH", "FOCUS"),
    "c": ("WAVE", "FREQ", "ENER", "AWAV", "VELO", "VOPT", "VRAD", "STOKES", "RGB", "COLOR"),
}
_ON_SKY = ("RA", "GLON", "DEC", "GLAT")


@dataclass(frozen=True)
class _Extension:
    """An extension with an image: its index in the file, name, and axes, slowest first."""

    number: int
    name: str
    shape: tuple[int, ...]
    unit: Any


def _extensions(units: Any) -> list[_Extension]:
    extensions = []
    for number, unit in enumerate(units):
        header = unit.header
        axes = int(header.get("NAXIS", 0)) if unit.is_image else 0
        if axes < 2:
            continue
        shape = tuple(int(header[f"NAXIS{axes - i}"]) for i in range(axes))
        name = str(header.get("EXTNAME", "")).strip()
        extensions.append(_Extension(number, name, shape, unit))
    return extensions


def _images(extensions: list[_Extension]) -> list[list[_Extension]]:
    """Extensions grouped by height and width, in the order they first appear."""
    by_size: dict[tuple[int, ...], list[_Extension]] = {}
    for extension in extensions:
        by_size.setdefault(extension.shape[-2:], []).append(extension)
    return list(by_size.values())


def _check_whole(path: Path, extension: _Extension) -> None:
    index = extension.unit.fileinfo()
    bits = abs(int(extension.unit.header["BITPIX"]))
    check_size(path, extension.shape, bits // 8)
    size = int(np.prod(extension.shape, dtype=np.int64)) * bits // 8
    # A tile-compressed image is stored as a table, whose size these cards do not give.
    compressed = type(extension.unit).__name__ == "CompImageHDU"
    if not compressed and index["datLoc"] + size > path.stat().st_size:
        raise truncated(path)


def _calibration(header: Any) -> Calibration:
    """Pixel side in arc seconds from a scale card, or from the sky coordinates."""
    for card in _SCALE_CARDS:
        value = header.get(card)
        if isinstance(value, int | float) and np.isfinite(value) and value > 0:
            return Calibration(float(value), "arcsec")
    matrix = _pixel_matrix(header)
    width, height = (float(side) for side in np.hypot(matrix[0], matrix[1]))
    # Where a header tells one of both sides, pixels are taken as square.
    width, height = width or height, height or width
    if any(str(header.get(f"CTYPE{k}", "")).startswith(_ON_SKY) for k in (1, 2)):
        units = [unit_name(str(header.get(f"CUNIT{k}", "deg")) or "deg") for k in (1, 2)]
    else:
        units = [unit_name(str(header.get(f"CUNIT{k}", ""))) for k in (1, 2)]
    factor = conversion(units[1], units[0])
    if factor is None or standard_unit(units[0]) not in LENGTH_UNITS:
        return Calibration()
    calibration = Calibration.of_sides(width, height * factor, units[0])
    return calibration.in_unit(standard_unit(units[0]))


def _pixel_matrix(header: Any) -> NDArray[np.float64]:
    """How far one goes along each axis of the world for a pixel along x and along y.

    From CDi_j, or CDELTi · PCi_j; what is not there is 0, and PC is the unit matrix by default.
    Source: Greisen & Calabretta 2002, Astronomy & Astrophysics 395, 1061–1075.
    """
    names = [[f"CD{i}_{j}" for j in (1, 2)] for i in (1, 2)]
    if any(name in header for row in names for name in row):
        return np.array([[_number(header.get(name), 0.0) for name in row] for row in names])
    scale = [_number(header.get(f"CDELT{i}"), 0.0) for i in (1, 2)]
    turn = [
        [_number(header.get(f"PC{i}_{j}"), 1.0 if i == j else 0.0) for j in (1, 2)] for i in (1, 2)
    ]
    return np.array([[scale[i] * turn[i][j] for j in range(2)] for i in range(2)])


def _number(value: Any, otherwise: float) -> float:
    return float(value) if isinstance(value, int | float) else otherwise


def _taken(path: Path, extension: _Extension, frame: Frame | None) -> Any:
    """The values of an extension, or of one plane of its depth and time."""
    if frame is None:
        return extension.unit.data
    taken = selection(path, _letters(extension), extension.shape, frame)
    return extension.unit.section[taken]


def _letters(extension: _Extension) -> str:
    """What each axis is, slowest first: x, y, time, depth, or unknown."""
    header, axes = extension.unit.header, len(extension.shape)
    letters = ""
    for number in range(axes, 2, -1):
        kind = str(header.get(f"CTYPE{number}", "")).strip().upper()
        letters += next((a for a, words in _AXIS_KINDS.items() if kind.startswith(words)), "?")
    return letters + "yx"


def fits_layout(path: Path, image: int = 0) -> StackLayout:
    """Return which planes a cube has; those of several extensions are channels."""
    from astropy.io import fits  # noqa: PLC0415 (slow to import, needed for this format only)

    check_headers(path)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with fits.open(path, memmap=False, lazy_load_hdus=True) as units:
            images = _images(_extensions(units))
            if not images:
                return StackLayout()
            first = images[chosen_image(path, len(images), image)][0]
            return layout_of(_letters(first), first.shape, _cube(first))


def _cube(extension: _Extension) -> StackLayout:
    """Times and distance of planes where the axis of a cube says them."""
    header, layout = extension.unit.header, StackLayout()
    for k, letter in enumerate(_letters(extension)):
        number = len(extension.shape) - k
        step = _number(header.get(f"CDELT{number}"), 0.0)
        unit = str(header.get(f"CUNIT{number}", "")).strip()
        if letter == "t" and step > 0 and unit in ("s", "sec"):
            length = min(extension.shape[k], _MOST_TIMES)
            layout = replace(layout, seconds=tuple(i * step for i in range(length)))
        if letter == "z" and step > 0 and standard_unit(unit_name(unit)) in LENGTH_UNITS:
            layout = replace(layout, z_step=step, unit=unit_name(unit))
    return layout


def _planes(
    path: Path, extension: _Extension, several: bool, frame: Frame | None
) -> list[tuple[str, Plane]]:
    pixels = _taken(path, extension, frame)
    if pixels is None:
        raise truncated(path)
    header = extension.unit.header
    saturation = header.get("SATURATE")
    flat = pixels.reshape(-1, *pixels.shape[-2:])
    title = extension.name.lower() if extension.name not in ("", "PRIMARY") else ""
    if several and not title:
        title = f"extension {extension.number}"
    if not several:
        title = ""
    result = []
    for i, values in enumerate(flat):
        words = [title, f"plane {i + 1}" if len(flat) > 1 else ""]
        plane = plane_from_native(native_order(values), _calibration(header))
        if isinstance(saturation, int | float) and np.isfinite(saturation):
            plane = replace(plane, saturation=float(saturation))
        result.append((" ".join(word for word in words if word) or "gray", plane))
    return result


def _cards(extension: int, header: Any) -> MetadataNode:
    title = str(header.get("EXTNAME", "")).strip() or ("primary" if extension == 0 else "")
    cards = []
    for card in header.cards:
        if not card.keyword and not str(card.value).strip():
            continue
        node = leaf(card.keyword or "·", card.value)
        cards.append(MetadataNode(node.name, node.value, note=str(card.comment)))
    return MetadataNode(f"Extension {extension}", title, tuple(cards))


def read_fits(path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
    """Read one image of a FITS file, in native values after its scaling keywords.

    frame : the one plane of a cube that is read.
    """
    from astropy.io import fits  # noqa: PLC0415 (slow to import, needed for this format only)

    check_headers(path)
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
            images = _images(_extensions(units))
            if not images:
                if any(unit.header.get("NAXIS", 0) == 1 for unit in units):
                    raise UnsupportedKind(
                        path, "holds a spectrum and no image", "choose a file with two axes"
                    )
                raise FileEmpty(path, "holds no image", "choose a FITS file with an image in it")
            chosen = images[chosen_image(path, len(images), image)]
            for extension in chosen:
                _check_whole(path, extension)
            several = len(chosen) > 1
            named = [plane for each in chosen for plane in _planes(path, each, several, frame)]
            cube = layout_of(_letters(chosen[0]), chosen[0].shape, _cube(chosen[0]))
            defects = _failed_sums(path, fits, [extension.number for extension in chosen])
            metadata = tuple(_cards(i, unit.header) for i, unit in enumerate(units))
            # The chosen extension's own cards come first where they say what the exposure was.
            first = chosen[0].number
            order = (metadata[first], *metadata[:first], *metadata[first + 1 :])
    names = unique_names(name for name, _ in named)
    channels = dict(zip(names, (plane for _, plane in named), strict=True))
    return Sample(
        sample_name(path),
        channels,
        bottom_up=True,
        defects=defects,
        metadata=order,
        images=[_title(group) for group in images],
        attributes=cube.attributes(frame) if frame else {},
    )


def _failed_sums(path: Path, fits: Any, numbers: list[int]) -> tuple[Defect, ...]:
    """What the file's own sums say of the extensions that are read: DATASUM and CHECKSUM."""
    problems = []
    with fits.open(path, memmap=False, disable_image_compression=True) as units:
        for number in numbers:
            unit = units[number]
            if unit.verify_datasum() == 0:
                what = f"the sum of the data in extension {number} is not the one stated (DATASUM)"
            elif unit.verify_checksum() == 0:
                what = f"the sum of extension {number} is not the one stated (CHECKSUM)"
            else:
                continue
            problems.append(damaged(path, what))
    if path.stat().st_size % BLOCK:
        problems.append(damaged(path, f"it is not made of whole blocks of {BLOCK} bytes"))
    return tuple(problems)


def _title(group: list[_Extension]) -> str:
    height, width = group[0].shape[-2:]
    names = ", ".join(extension.name or str(extension.number) for extension in group)
    return f"extension {names}: {width} × {height}"


READERS.add(
    "fits",
    Reader(
        "fits",
        "FITS",
        (".fits", ".fit", ".fts", ".fits.fz", ".fz"),
        lambda head: head.startswith(b"SIMPLE  ="),
        read_fits,
        layout=fits_layout,
        read_plane=read_fits,
    ),
    order=10,
)

"""What all readers share: memory limits, truncation, colour to channels, unique names."""

from __future__ import annotations

import importlib
import os
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import FileEmpty, FileTruncated, NotAnImage, TooLarge, UnsupportedKind
from rilievo.core.image.image import (
    DAMAGED,
    MISSING,
    ROUNDED,
    Calibration,
    Defect,
    Pixels,
    Plane,
    plane_from_native,
    with_gaps,
    working_dtype,
)
from rilievo.core.tiled_map import in_pieces

# Native pixels, one corrected copy and the intermediate of a step must fit at once.
_COPIES_NEEDED = 3.0
# So many bytes are always to be had, without asking.
_LITTLE = 16_000_000

# No compression in use packs images better than this; a small file that claims more is damaged
# or made to fill the memory.
_MOST_PACKED = 1500
_ALWAYS_ALLOWED = 200_000_000

# What is said of a file whose compression does not give back what was recorded.
LOSSY_NOTE = (
    "The file is compressed with loss ({kind}): compression has altered pixel values. Measure the "
    "original recording (TIFF, PNG, FITS) where there is one."
)

_PIECE = 1 << 18

# Integers up to here are exact in floats of 64 bits.
_EXACT = 2**53

COLOUR_NAMES = ("red", "green", "blue")

# Luma weights of ITU-R BT.709 for red, green and blue.
LUMA_WEIGHTS = (0.2126, 0.7152, 0.0722)


def available_memory() -> int:
    """Return the bytes that the system can hand out without swapping."""
    meminfo = Path("/proc/meminfo")
    if meminfo.exists():
        for line in meminfo.read_text().splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) * 1024
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 2


def first_line(exc: BaseException) -> str:
    """Return what an error says, at most a line of it."""
    lines = str(exc).strip().splitlines()
    return lines[0][:120] if lines else type(exc).__name__


def stored_bytes(path: Path) -> int:
    """Return the size of a file, or of all files in a folder."""
    if path.is_dir():
        return sum(file.stat().st_size for file in path.rglob("*") if file.is_file())
    return path.stat().st_size


def check_size(path: Path, shape: tuple[int, ...], itemsize: int) -> None:
    """Raise FileEmpty or TooLarge before any pixel is read.

    shape : of the whole array in the file; itemsize : bytes of one value.
    """
    values = 1
    for length in shape:
        values *= int(length)
    if values <= 0:
        raise FileEmpty(path, "holds an image of zero pixels", "export it again from its source")
    decoded = values * itemsize
    if decoded > max(_ALWAYS_ALLOWED, _MOST_PACKED * stored_bytes(path)):
        raise TooLarge(
            path,
            f"claims to hold {decoded / 1e9:.1f} GB in a file of {stored_bytes(path)} bytes",
            "it is damaged, or packed beyond belief: export it again from its source",
        )
    needed = decoded * _COPIES_NEEDED
    if needed <= _LITTLE:
        return
    available = available_memory()
    if needed > available:
        raise TooLarge(
            path,
            f"needs {needed / 1e9:.1f} GB of memory and {available / 1e9:.1f} GB are free",
            "close other programs, or crop or split the file",
        )


def planes_with_gaps(
    path: Path, planes: Mapping[str, Plane], gaps: Mapping[str, NDArray[np.bool_]], what: str
) -> tuple[dict[str, Plane], list[Defect]]:
    """Return the planes with missing pixels undefined, and what is said of each.

    gaps : for a plane of which something is missing, which pixels, shape of the plane. A plane of
    which nothing is there is left out. what : what the missing pieces are called.
    Raises FileTruncated where no plane is left.
    """
    readable, defects = dict(planes), []
    for name, missing in gaps.items():
        count, total = int(np.count_nonzero(missing)), missing.size
        if count == total:
            del readable[name]
            text = f"“{path.name}”: the plane “{name}” is not in the file and is left out. "
        else:
            readable[name] = with_gaps(planes[name], missing)
            text = (
                f"“{path.name}”: {count} of {total} pixels of the plane “{name}” are not in the "
                f"file ({what}); they are undefined and left out of every number. "
            )
        text += "Copy the file again from its source, with all that belongs to it."
        defects.append(Defect(MISSING, name, text, count))
    if not readable:
        raise FileTruncated(
            path, f"does not hold its pixels ({what})", "copy it again from its source"
        )
    return readable, defects


def damaged(path: Path, what: str) -> Defect:
    """Return what is said of a file that could be read, although something in it is wrong."""
    return Defect(
        DAMAGED,
        "",
        f"“{path.name}” is damaged: {what}; its values may be wrong. Copy it again from its "
        "source.",
    )


def rounded_values(path: Path, planes: Mapping[str, Plane]) -> list[Defect]:
    """Return what is said of 64-bit integers that floats of 64 bits do not hold exactly."""
    defects = []
    for name, plane in planes.items():
        values = plane.pixels
        if values.dtype.kind not in "iu" or values.dtype.itemsize < 8 or not values.size:
            continue
        beyond = (values > _EXACT) | (values < -_EXACT if values.dtype.kind == "i" else False)
        count = int(np.count_nonzero(beyond))
        if count:
            text = (
                f"“{path.name}”: {count} pixels of the plane “{name}” are beyond 2^53; they are "
                "rounded to 53 bits when they are measured. Export the data as floats, or less "
                "an offset."
            )
            defects.append(Defect(ROUNDED, name, text, count))
    return defects


def truncated(path: Path) -> FileTruncated:
    """Return the error for a file that ends too early."""
    return FileTruncated(path, "ends before its pixels do", "copy it again from its source")


def native_order(pixels: Pixels) -> Pixels:
    """Return the array in this machine's byte order and contiguous, without changing a value."""
    return np.ascontiguousarray(pixels, dtype=pixels.dtype.newbyteorder("="))


def luma(red: Pixels, green: Pixels, blue: Pixels) -> np.ndarray[Any, np.dtype[Any]]:
    """Return the brightness 0.2126 R + 0.7152 G + 0.0722 B in native units, as floats."""
    result = np.empty(red.shape, working_dtype(red.dtype))
    rows = max(1, _PIECE // max(red.shape[1], 1))

    def form(first: int) -> None:
        # In double precision, a few rows at a time, so that the sum needs no memory of its own.
        part = slice(first, first + rows)
        result[part] = sum(
            weight * colour[part].astype(np.float64)
            for weight, colour in zip(LUMA_WEIGHTS, (red, green, blue), strict=True)
        )

    in_pieces(form, range(0, red.shape[0], rows), values=red.size)
    return result


def colour_channels(
    pixels: Pixels,
    calibration: Calibration = Calibration(),  # noqa: B008 (immutable)
    significant_bits: int | None = None,
) -> dict[str, Plane]:
    """Return red, green, blue and the derived brightness.

    pixels : shape (height, width, 3 or more); further planes are the caller's to mention.
    The brightness keeps the range and the saturation level of the colours it is made of.
    """
    planes = {
        name: plane_from_native(native_order(pixels[..., i]), calibration, significant_bits)
        for i, name in enumerate(COLOUR_NAMES)
    }
    red = planes["red"]
    planes["brightness"] = Plane(
        luma(*(plane.pixels for plane in planes.values())),
        calibration,
        saturation=red.saturation,
        type_range=red.type_range,
    )
    return planes


def chosen_image(path: Path, count: int, image: int) -> int:
    """Return which image to read. Raises NotAnImage when the file has fewer."""
    if not 0 <= image < count:
        raise NotAnImage(path, f"has {count} images, not {image + 1}", "choose another of them")
    return image


def optional(module: str, path: Path, package: str = "", extra: str = "formats") -> Any:
    """Return the module of a package that is needed for one format only.

    package : its name where it is another. extra : of ours, by which it is installed. Raises
    UnsupportedKind, which says how.
    """
    try:
        return importlib.import_module(module)
    except ImportError as exc:
        raise UnsupportedKind(
            path,
            f"is of a format that needs the package {package or module}",
            f"install it: pip install 'rilievo[{extra}]'",
        ) from exc


def unique_names(names: Iterable[str]) -> list[str]:
    """Return the names with “(2)”, “(3)” … behind those that came before."""
    taken: set[str] = set()
    result = []
    for name in names:
        candidate, number = name, 1
        while candidate in taken:
            number += 1
            candidate = f"{name} ({number})"
        taken.add(candidate)
        result.append(candidate)
    return result

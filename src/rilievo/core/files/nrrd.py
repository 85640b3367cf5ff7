"""NRRD arrays with spacings and kinds of axes, through pynrrd."""

from __future__ import annotations

import bz2
import math
import re
import zlib
from pathlib import Path
from typing import Any, Literal

import numpy as np

from rilievo.core.errors import FileOutside, NotAnImage, UnsupportedKind
from rilievo.core.files.array_sample import ArrayFacts, sample_of_array
from rilievo.core.files.reader import READERS, Reader
from rilievo.core.files.reader_helpers import (
    check_size,
    chosen_image,
    first_line,
    optional,
    truncated,
)
from rilievo.core.files.stack_axes import layout_of
from rilievo.core.image.image import Calibration, Sample
from rilievo.core.image.lengths import unit_name
from rilievo.core.image.metadata import MetadataNode, leaf
from rilievo.core.image.stack import SECONDS, Frame, StackLayout

_COLOURS = ("rgb-color", "rgba-color")
_CHANNELS = ("list", "vector", "point", "3-vector", "4-vector", "2-vector")
_DETACHED = ("data file", "datafile")
_EMPTY_LINE = re.compile(rb"\r?\n\r?\n")
_ENCODINGS = ("raw", "gzip", "gz", "bzip2", "bz2")
# What the format calls each number type.
_TYPES = {
    "i1": ("signed char", "int8", "int8_t"),
    "u1": ("uchar", "unsigned char", "uint8", "uint8_t"),
    "i2": ("short", "short int", "signed short", "signed short int", "int16", "int16_t"),
    "u2": ("ushort", "unsigned short", "unsigned short int", "uint16", "uint16_t"),
    "i4": ("int", "signed int", "int32", "int32_t"),
    "u4": ("uint", "unsigned int", "uint32", "uint32_t"),
    "i8": ("longlong", "long long", "long long int", "signed long long", "int64", "int64_t"),
    "u8": ("ulonglong", "unsigned long long", "unsigned long long int", "uint64", "uint64_t"),
    "f4": ("float",),
    "f8": ("double",),
}


def _header(path: Path) -> Any:
    nrrd = optional("nrrd", path, "pynrrd")
    try:
        header = nrrd.read_header(str(path))
        sizes = [int(n) for n in header["sizes"]]
    except (nrrd.NRRDError, KeyError, ValueError) as exc:
        raise NotAnImage(
            path, f"is a damaged NRRD file ({first_line(exc)})", "export it again"
        ) from exc
    if any(name in header for name in _DETACHED):
        raise FileOutside(
            path,
            "keeps its pixels in another file, which is not opened",
            "save it as one file (.nrrd)",
        )
    if len(sizes) < 2:
        raise UnsupportedKind(path, "holds no two-dimensional image", "export it as an image")
    return header


def _axes(header: Any) -> str:
    """Letters of the axes, slowest first; the file names the fastest first."""
    count = len(header["sizes"])
    kinds = [str(kind).lower() for kind in header.get("kinds") or ["domain"] * count]
    letters, space = [], iter("xyz" + "?" * count)
    for kind in kinds:
        if kind in _COLOURS:
            letters.append("s")
        elif kind in _CHANNELS:
            letters.append("c")
        else:
            letters.append("t" if kind == "time" else next(space))
    return "".join(reversed(letters))


def _steps(header: Any) -> dict[str, float]:
    """Distance of samples along each axis, by its letter, where it is given."""
    axes = _axes(header)[::-1]
    if header.get("spacings") is not None:
        values = [float(spacing) for spacing in header["spacings"]]
    elif header.get("space directions") is not None:
        values = [
            math.nan
            if direction is None or not np.isfinite(direction).all()
            else float(np.linalg.norm(direction))
            for direction in header["space directions"]
        ]
    else:
        values = [math.nan] * len(axes)
    return {a: v for a, v in zip(axes, values, strict=False) if math.isfinite(v) and v > 0}


def _unit(header: Any, letter: str) -> str:
    axes, units = _axes(header)[::-1], header.get("units")
    if units is not None and letter in axes and len(units) == len(axes):
        return str(units[axes.index(letter)] or "").strip('"')
    known = header.get("space units")
    return str(known[0] if known else "").strip('"')


def _known(header: Any) -> StackLayout:
    steps, axes = _steps(header), _axes(header)
    seconds: tuple[float, ...] = ()
    second = SECONDS.get(_unit(header, "t"))
    if "t" in steps and second:
        length = int(header["sizes"][len(axes) - 1 - axes.index("t")])
        seconds = tuple(k * steps["t"] * second for k in range(length))
    unit = unit_name(_unit(header, "z"))
    return StackLayout(z_step=steps.get("z") if unit != "px" else None, unit=unit, seconds=seconds)


def nrrd_layout(path: Path, image: int = 0) -> StackLayout:
    """Return which planes an array has; its numbers are not read."""
    chosen_image(path, 1, image)
    header = _header(path)
    return layout_of(_axes(header), [int(n) for n in header["sizes"][::-1]], _known(header))


def _values(path: Path, header: Any) -> Any:
    """The array, unpacked to no more bytes than its header says."""
    sizes = tuple(int(n) for n in header["sizes"][::-1])
    kind, encoding = str(header.get("type", "")).lower(), str(header.get("encoding", "")).lower()
    dtype = next((np.dtype(code) for code, names in _TYPES.items() if kind in names), None)
    skips = any(int(header.get(name) or 0) for name in ("line skip", "byte skip"))
    if dtype is None or encoding not in _ENCODINGS or skips:
        raise UnsupportedKind(
            path,
            f"holds {kind or 'unknown'} numbers as {encoding or 'unknown'}",
            "save it as raw or gzip",
        )
    check_size(path, sizes, dtype.itemsize)
    order: Literal["<", ">"] = ">" if str(header.get("endian", "little")).lower() == "big" else "<"
    needed = math.prod(sizes) * dtype.itemsize
    data = path.read_bytes()
    parts = _EMPTY_LINE.split(data, maxsplit=1)
    packed = parts[1] if len(parts) > 1 else b""
    try:
        if encoding in ("gzip", "gz"):
            packed, ended = _unpacked(zlib.decompressobj(wbits=31), packed, needed)
        elif encoding in ("bzip2", "bz2"):
            packed, ended = _unpacked(bz2.BZ2Decompressor(), packed, needed)
        else:
            ended = True
    except (zlib.error, OSError, ValueError) as exc:
        raise NotAnImage(path, f"cannot be unpacked ({exc})", "export it again") from exc
    if len(packed) < needed or not ended:
        raise truncated(path)
    return np.frombuffer(packed[:needed], dtype.newbyteorder(order)).reshape(sizes)


def _unpacked(unpack: Any, packed: bytes, needed: int) -> tuple[bytes, bool]:
    """So many bytes, and whether the stream ends there, as only its end tells its checksum.

    Raises what the library raises for one that does not fit, ValueError for more bytes.
    """
    data = unpack.decompress(packed, needed)
    if not unpack.eof:
        more = unpack.decompress(getattr(unpack, "unconsumed_tail", b""), 1)
        if more and len(data) == needed:
            raise ValueError("it holds more numbers than its header says")
        data += more
    return data, bool(unpack.eof)


def read_nrrd(path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
    """Read an array, or one plane of it."""
    chosen_image(path, 1, image)
    header = _header(path)
    values = _values(path, header)
    steps = _steps(header)
    calibration = Calibration.of_sides(
        steps.get("x", 0.0), steps.get("y", 0.0), _unit(header, "x") or "px"
    )
    facts = tuple(leaf(str(name), str(value)) for name, value in header.items())
    return sample_of_array(
        path, values, _axes(header), frame,
        ArrayFacts(
            calibration=calibration, layout=_known(header),
            metadata=(MetadataNode("NRRD header", "", facts),),
        ),
    )  # fmt: skip


READERS.add(
    "nrrd",
    Reader(
        "nrrd",
        "NRRD",
        (".nrrd",),
        lambda head: head.startswith(b"NRRD000"),
        read_nrrd,
        layout=nrrd_layout,
        read_plane=read_nrrd,
    ),
    order=100,
)

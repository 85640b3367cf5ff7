"""PBM, PGM, PPM (plain and binary) and PFM: a few lines of header, then the pixels."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from rilievo.core.errors import NotAnImage
from rilievo.core.files.array_sample import ArrayFacts, sample_of_array
from rilievo.core.files.reader import READERS, Reader
from rilievo.core.files.reader_helpers import check_size, chosen_image, truncated
from rilievo.core.image.image import Pixels, Sample

# The kind, then numbers parted by white space and comments, and one white space before the pixels.
_GAP = rb"(?:\s|#[^\n]*\n)+"
_HEADER = re.compile(
    rb"(P[1-6Ff])" + _GAP + rb"(\d{1,9})" + _GAP + rb"(\d{1,9})"
    rb"(?:" + _GAP + rb"([-+.\deE]{1,24}))?" + rb"(?:\s|(?=#))"
)
_HEADER_BITS = re.compile(rb"(P[14])" + _GAP + rb"(\d{1,9})" + _GAP + rb"(\d{1,9})(?:\s|(?=#))")
_MOST_HEADER = 65_536
_PLAIN = (b"P1", b"P2", b"P3")


def read_anymap(path: Path, image: int = 0) -> Sample:
    """Read one picture; levels keep the numbers that stand in the file.

    A PBM's 1 is black there; its pixels are given as 0 and 1, as they stand.
    """
    chosen_image(path, 1, image)
    data = path.read_bytes()
    bits = data[:2] in (b"P1", b"P4")
    header = (_HEADER_BITS if bits else _HEADER).match(data[:_MOST_HEADER])
    if header is None or (not bits and header[4] is None):
        raise NotAnImage(path, "has a damaged header", "export it again from its source")
    kind, width, height = header[1], int(header[2]), int(header[3])
    colours = 3 if kind in (b"P3", b"P6", b"PF") else 1
    check_size(path, (height, width, colours), 4 if kind in (b"PF", b"Pf") else 1)
    try:
        highest = 1.0 if bits else float(header[4])
    except ValueError as exc:
        raise NotAnImage(path, "has a damaged header", "export it again") from exc
    body = data[header.end() :]
    if kind in (b"PF", b"Pf"):
        values = _floats(path, body, (height, width, colours), highest)
    elif kind in _PLAIN:
        values = _plain(path, body, (height, width, colours), highest, bits=bits)
    elif bits:
        values = _packed(path, body, height, width)
    else:
        values = _binary(path, body, (height, width, colours), highest)
    depth = int(highest).bit_length() if values.dtype.kind == "u" else None
    if colours == 1:
        return sample_of_array(
            path, values.reshape(height, width), "yx", None, ArrayFacts(bits=depth)
        )
    return sample_of_array(path, values, "yxs", None, ArrayFacts(bits=depth))


def _check_highest(path: Path, highest: float) -> None:
    if not (highest == int(highest) and 1 <= highest <= 65_535):
        raise NotAnImage(path, f"states {highest:g} as its highest level", "export it again")


def _floats(path: Path, body: bytes, shape: tuple[int, int, int], scale: float) -> Pixels:
    """PFM: 32-bit floats from the bottom row up; a negative scale means the lowest byte first."""
    dtype = np.dtype("<f4" if scale < 0 else ">f4")
    if not np.isfinite(scale) or scale == 0:
        raise NotAnImage(path, "has a damaged header", "export it again")
    if len(body) < dtype.itemsize * int(np.prod(shape)):
        raise truncated(path)
    values = np.frombuffer(body, dtype, int(np.prod(shape))).reshape(shape)[::-1]
    return values.astype(np.float32)


def _plain(
    path: Path, body: bytes, shape: tuple[int, int, int], highest: float, *, bits: bool
) -> Pixels:
    """Numbers in decimal; of a PBM single digits that need no space between them."""
    _check_highest(path, highest)
    text = re.sub(rb"#[^\n]*", b"", body)
    words = list(re.sub(rb"\s", b"", text).decode("latin-1")) if bits else text.split()
    count = int(np.prod(shape))
    if len(words) < count:
        raise truncated(path)
    try:
        values = np.array([int(word) for word in words[:count]], np.int64)
    except ValueError as exc:
        raise NotAnImage(path, "holds words where pixels should be", "export it again") from exc
    if values.size and (values.min() < 0 or values.max() > highest):
        raise NotAnImage(path, f"has levels beyond the {highest:g} it states", "export it again")
    return values.reshape(shape).astype(np.uint8 if highest < 256 else np.uint16)


def _packed(path: Path, body: bytes, height: int, width: int) -> Pixels:
    """Eight pixels a byte, each row filled up to whole bytes."""
    row = (width + 7) // 8
    if len(body) < row * height:
        raise truncated(path)
    packed = np.frombuffer(body, np.uint8, row * height).reshape(height, row)
    return np.unpackbits(packed, axis=1)[:, :width]


def _binary(path: Path, body: bytes, shape: tuple[int, int, int], highest: float) -> Pixels:
    _check_highest(path, highest)
    dtype = np.dtype(np.uint8 if highest < 256 else ">u2")
    count = int(np.prod(shape))
    if len(body) < count * dtype.itemsize:
        raise truncated(path)
    return np.frombuffer(body, dtype, count).reshape(shape)


READERS.add(
    "anymap",
    Reader(
        "anymap",
        "PGM, PPM or PFM",
        (".pgm", ".ppm", ".pbm", ".pnm", ".pfm"),
        lambda head: re.match(rb"P[1-6Ff][\s#]", head) is not None,
        read_anymap,
    ),
    order=55,
)

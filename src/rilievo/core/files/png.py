"""PNG, 8 and 16 bit, gray and colour.

Decoded by imagecodecs, which keeps 16-bit colour whole. The chunks are walked first, so that a
file that ends early is told from one that was never a PNG.
"""

from __future__ import annotations

import struct
import zlib
from pathlib import Path
from typing import NamedTuple

from rilievo.core.errors import NotAnImage
from rilievo.core.files.exif import photograph_metadata
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.files.reader_helpers import (
    check_size,
    chosen_image,
    colour_channels,
    native_order,
    truncated,
)
from rilievo.core.image.image import Sample, plane_from_native

SIGNATURE = b"\x89PNG\r\n\x1a\n"

# Colour types of the PNG specification (ISO/IEC 15948): number of values a decoded pixel has.
_GRAY, _COLOUR, _PALETTE, _GRAY_ALPHA, _COLOUR_ALPHA = 0, 2, 3, 4, 6
_VALUES = {_GRAY: 1, _COLOUR: 3, _PALETTE: 4, _GRAY_ALPHA: 2, _COLOUR_ALPHA: 4}


class _Header(NamedTuple):
    width: int
    height: int
    bits: int
    colour_type: int


def _header(path: Path, data: bytes) -> _Header:
    if len(data) < 26:
        raise truncated(path)
    width, height, bits, colour_type = struct.unpack(">IIBB", data[16:26])
    if data[12:16] != b"IHDR" or colour_type not in _VALUES:
        raise NotAnImage(path, "is a PNG with a damaged header", "export it again from its source")
    return _Header(width, height, bits, colour_type)


def _check_complete(path: Path, data: bytes) -> set[bytes]:
    """Go over all pieces to the last, each with its own checksum; return their names."""
    names: set[bytes] = set()
    position, view = len(SIGNATURE), memoryview(data)
    while position + 12 <= len(data):
        length = int.from_bytes(data[position : position + 4], "big")
        end = position + 8 + length
        if end + 4 > len(data):
            break
        kind = data[position + 4 : position + 8]
        names.add(kind)
        # Pieces whose name begins with a capital letter are needed for the pixels.
        if kind[:1].isupper() and zlib.crc32(view[position + 4 : end]) != int.from_bytes(
            data[end : end + 4], "big"
        ):
            raise NotAnImage(path, "is a PNG with damaged data", "copy it again from its source")
        if kind == b"IEND":
            return names
        position = end + 4
    raise truncated(path)


def read_png(path: Path, image: int = 0) -> Sample:
    """Read a PNG; alpha is set aside and said so."""
    import imagecodecs  # noqa: PLC0415 (slow to import, needed for this format only)

    chosen_image(path, 1, image)
    data = path.read_bytes()
    header = _header(path, data)
    check_size(
        path,
        (header.height, header.width, _VALUES[header.colour_type]),
        2 if header.bits == 16 else 1,
    )
    pieces = _check_complete(path, data)
    pixels = imagecodecs.png_decode(data)
    notes = []
    if header.colour_type in (_GRAY_ALPHA, _COLOUR_ALPHA):
        notes.append("The transparency of the file is set aside.")
    if header.colour_type == _PALETTE:
        notes.append("The file's colour table was expanded to red, green and blue.")
    if header.bits < 8 and header.colour_type == _GRAY:
        notes.append(f"The {header.bits}-bit values are stretched to 0–255, as the format says.")
    if pixels.ndim == 3 and pixels.shape[2] >= 3:
        channels = colour_channels(pixels)
    else:
        gray = pixels if pixels.ndim == 2 else pixels[..., 0]
        channels = {"gray": plane_from_native(native_order(gray))}
    # Old programs keep EXIF as text.
    has_exif = bool(pieces & {b"eXIf", b"zTXt", b"tEXt", b"iTXt"})
    metadata = tuple(photograph_metadata(data, has_exif=has_exif))
    return Sample(sample_name(path), channels, notes=notes, metadata=metadata)


READERS.add(
    "png",
    Reader("png", "PNG", (".png",), lambda head: head.startswith(SIGNATURE), read_png),
    order=60,
)

"""The headers of a FITS file, read before a library decodes anything: what each extension costs.

A damaged or hostile header can claim axes, tiles and groups that would keep a library busy for
minutes, or fill the memory from a few kilobytes.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import BinaryIO

from rilievo.core.errors import FileError, NotAnImage, UnsupportedKind
from rilievo.core.files.reader_helpers import check_size, truncated

BLOCK, _CARD = 2880, 80
_MOST_BLOCKS, _MOST_EXTENSIONS, _MOST_AXES = 500, 5_000, 10
_DEPTHS = (8, 16, 32, 64, -32, -64)
# A tile is unpacked whole; the largest that any program writes is a whole large image.
_MOST_TILE = 1 << 30

_NUMBER = re.compile(rb"= *([+-]?\d{1,18})(?![\d.])")
_WORD = re.compile(rb"= *'([^']*)'")

# Headers are text; tabs and line ends are the least of what is wrong with some.
_CONTROL = re.compile(rb"[\x00-\x08\x0e-\x1f]")

Header = Mapping[str, int | str]


def check_headers(path: Path) -> None:
    """Raise a FileError for headers that are damaged, or claim more than the file can hold."""
    size = path.stat().st_size
    with path.open("rb") as file:
        position = 0
        for _ in range(_MOST_EXTENSIONS):
            if position >= size:
                return
            file.seek(position)
            header, length = _header(path, file)
            if not header:
                return  # what follows the last extension is nobody's concern
            _check(path, header)
            data = _data_bytes(header)
            if position + length + data > size:
                return  # the reader says so where pixels are lost with it
            position += length + -(-data // BLOCK) * BLOCK
    raise UnsupportedKind(
        path, f"has more than {_MOST_EXTENSIONS} extensions", "split it into several files"
    )


def _header(path: Path, file: BinaryIO) -> tuple[Header, int]:
    """The numbers and words of a header, and its length in bytes; none where there is none."""
    cards: dict[str, int | str] = {}
    for number in range(1, _MOST_BLOCKS + 1):
        block = file.read(BLOCK)
        if number == 1 and block[:8] not in (b"SIMPLE  ", b"XTENSION"):
            return {}, 0
        if len(block) < BLOCK:
            raise truncated(path)
        if (number > 1 and block.startswith(b"XTENSION")) or _CONTROL.search(block):
            raise _damaged(path, "a damaged header")
        for card in _cards(block):
            name = card[:8].rstrip().decode("latin-1")
            if name == "END":
                return cards, number * BLOCK
            value = _NUMBER.match(card, 8) or _WORD.match(card, 8)
            if value is not None:
                text = value[1].decode("latin-1").strip()
                cards.setdefault(name, int(text) if value.re is _NUMBER else text)
            elif card[8:10] == b"= " and card[10:30].strip() == b"T":
                cards.setdefault(name, 1)
    raise _damaged(path, "a header without an end")


def _cards(block: bytes) -> Iterator[bytes]:
    return (block[start : start + _CARD] for start in range(0, BLOCK, _CARD))


def _damaged(path: Path, what: str) -> FileError:
    return NotAnImage(path, f"is a FITS file with {what}", "export it again from its source")


def _axes(path: Path, header: Header, prefix: str) -> tuple[int, ...]:
    count = header.get(f"{prefix}NAXIS", 0)
    if not isinstance(count, int) or not 0 <= count <= _MOST_AXES:
        raise _damaged(path, f"{count} axes")
    lengths = []
    for axis in range(1, count + 1):
        length = header.get(f"{prefix}NAXIS{axis}")
        if not isinstance(length, int) or length < 0:
            raise _damaged(path, f"a damaged header (axis {axis} has the length {length})")
        lengths.append(length)
    return tuple(lengths)


def _data_bytes(header: Header) -> int:
    count = int(header.get("NAXIS", 0))
    if not count:
        return 0
    lengths = [int(header.get(f"NAXIS{axis}", 0)) for axis in range(1, count + 1)]
    values = math.prod(lengths) + int(header.get("PCOUNT", 0))
    return abs(int(header.get("BITPIX", 8))) // 8 * int(header.get("GCOUNT", 1)) * values


def _check(path: Path, header: Header) -> None:
    if header.get("BITPIX") not in _DEPTHS:
        raise _damaged(path, f"values of {header.get('BITPIX', 'unknown')} bits")
    if header.get("GROUPS") and header.get("NAXIS1") == 0:
        raise UnsupportedKind(path, "holds random groups and no image", "export it as an image")
    _axes(path, header, "")
    for name, least in (("PCOUNT", 0), ("GCOUNT", 1), ("TFIELDS", 0)):
        value = header.get(name, least)
        if not isinstance(value, int) or not least <= value < 1 << 48:
            raise _damaged(path, f"a damaged header ({name} is {value})")
    if header.get("ZIMAGE"):
        _check_tiles(path, header)


def _check_tiles(path: Path, header: Header) -> None:
    """A compressed image: its tiles must be those of the table, and fit the file once unpacked."""
    axes = _axes(path, header, "Z")
    depth = header.get("ZBITPIX")
    if depth not in _DEPTHS or not axes:
        raise _damaged(path, "a damaged header of a compressed image")
    check_size(path, axes, abs(int(depth)) // 8)
    # Without sizes, a tile is a row.
    sizes = [
        header.get(f"ZTILE{axis}", axes[0] if axis == 1 else 1) for axis in range(1, len(axes) + 1)
    ]
    tiles = [int(size) if isinstance(size, int) else 0 for size in sizes]
    if min(tiles) < 1 or math.prod(tiles) * 8 > _MOST_TILE:
        raise _damaged(path, "tiles of an impossible size")
    number = math.prod(-(-n // t) for n, t in zip(axes, tiles, strict=True))
    if number != header.get("NAXIS2"):
        raise _damaged(path, "another number of tiles than it says")
    for index in range(1, 10):
        name = header.get(f"ZNAME{index}")
        value = header.get(f"ZVAL{index}")
        if name == "BLOCKSIZE" and value not in (16, 32):
            raise _damaged(path, f"blocks of {value} pixels")
        if name == "BYTEPIX" and value not in (1, 2, 4, 8):
            raise _damaged(path, f"values of {value} bytes")

"""Which pixels of a TIFF are not in the file: pages, strips and tiles that are named and not there.

Libraries fill them with zeros, which look like measurements.
"""

from __future__ import annotations

import itertools
import math
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.files.reader_helpers import truncated

_OFFSETS, _COUNTS = (273, 324), (279, 325)


def check_whole(path: Path, series: Any) -> None:
    """Raise FileTruncated where a page's data reach beyond the end of its file."""
    pages = [page for page in series if page is not None]
    if series.dataoffset is not None and pages:
        bytes_needed = series.size * series.dtype.itemsize
        if series.dataoffset + bytes_needed > pages[0].parent.filehandle.size:
            raise truncated(path)
    for page in pages:
        size = page.parent.filehandle.size
        for offset, count in zip(page.dataoffsets, page.databytecounts, strict=False):
            if offset + count > size:
                raise truncated(path)


def gaps_of(series: Any) -> NDArray[np.bool_] | None:
    """Return which values of a series are not in its files, in its shape; None where all are.

    Called before the pixels are read: strips of no bytes are then left out like those at no place.
    """
    pages, keyframe = list(series), series.keyframe
    absent = [None if page is None else _absent_segments(page, keyframe) for page in pages]
    if all(places == [] for places in absent):
        return None
    masks = np.zeros((len(pages), *keyframe.shaped), np.bool_)
    for mask, places in zip(masks, absent, strict=True):
        if places is None:
            mask[:] = True
        for index in places or ():
            _, (sample, depth, row, column, _), (deep, high, wide, _) = keyframe.decode(None, index)
            mask[sample, depth : depth + deep, row : row + high, column : column + wide] = True
    if masks.size != math.prod(series.shape):
        # One page stands for all of them, and of that something is missing.
        return np.ones(series.shape, np.bool_)
    return np.asarray(masks.reshape(series.shape))


def _absent_segments(page: Any, keyframe: Any) -> list[int]:
    """The strips or tiles of a page that the file does not hold, by their number."""
    offsets, counts = _segments(page)
    absent = {
        index
        for index in range(math.prod(keyframe.chunked))
        if index >= len(offsets) or not offsets[index] or not counts[index]
    }
    if page is keyframe or not keyframe.is_contiguous:
        absent.update(_short_segments(keyframe, offsets, counts))
    # The library decodes a strip of no bytes, and fails; one at no offset it leaves out.
    page.dataoffsets = tuple(
        0 if index in absent else offset for index, offset in enumerate(page.dataoffsets)
    )
    return sorted(absent)


def layout_doubt(series: Any) -> str:
    """Return what is odd in how the strips of a page lie; "" for nothing.

    They overlap, are more than the picture has, or larger than their pixels, where the directory
    is damaged.
    """
    keyframe = series.keyframe
    offsets, counts = _segments(keyframe)
    number = math.prod(keyframe.chunked)
    if len(offsets) < 2 or len(offsets) != len(counts) or number < 2:
        return ""
    if len(offsets) > number:
        return f"it has {len(offsets)} strips or tiles, and its size needs {number}"
    placed = sorted({(o, c) for o, c in zip(offsets, counts, strict=True) if o and c})
    if any(segment[0] + segment[1] > other[0] for segment, other in itertools.pairwise(placed)):
        return "its strips or tiles overlap"
    needed = _plain_sizes(keyframe)
    if any(count > largest for count, (_, largest) in zip(counts, needed, strict=False)):
        return "its strips or tiles are larger than their pixels"
    return ""


def _segments(page: Any) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Offsets and byte counts as the file has them, which the library mends in silence."""
    offsets, counts = tuple(page.dataoffsets), tuple(page.databytecounts)
    if hasattr(page, "tags"):
        for tags, code in ((_OFFSETS, 0), (_COUNTS, 1)):
            tag = next((page.tags[number] for number in tags if number in page.tags), None)
            if tag is None:
                continue
            value = tag.value if isinstance(tag.value, tuple) else (tag.value,)
            if code == 0:
                offsets = value
            else:
                counts = value
    if len(counts) < len(offsets):
        counts = (*counts, *page.databytecounts[len(counts) :])
        counts = (*counts, *([1] * (len(offsets) - len(counts))))
    return offsets, counts


def _short_segments(keyframe: Any, offsets: tuple[int, ...], counts: tuple[int, ...]) -> list[int]:
    """Strips and tiles without compression that are too small for their pixels.

    Of a single strip many programs state a wrong size; what counts there is the end of the file.
    """
    if len(offsets) < 2:
        return []
    return [
        index
        for index, (count, (least, _)) in enumerate(
            zip(counts, _plain_sizes(keyframe), strict=False)
        )
        if count < least
    ]


def _plain_sizes(keyframe: Any) -> list[tuple[int, int]]:
    """Least and largest bytes of each strip or tile without compression; none for others.

    The last strip may be filled up to the height of the others.
    """
    bits = keyframe.bitspersample
    if keyframe.compression != 1 or not isinstance(bits, int):
        return []
    sizes = []
    for index in range(math.prod(keyframe.chunked)):
        _, _, (deep, high, wide, values) = keyframe.decode(None, index)
        row = math.ceil(wide * values * bits / 8)
        rows = high
        if not keyframe.is_tiled:
            rows = min(high, keyframe.imagelength - index % _strips(keyframe) * high)
        sizes.append((deep * rows * row, deep * high * row))
    return sizes


def _strips(keyframe: Any) -> int:
    return -(-int(keyframe.imagelength) // max(int(keyframe.rowsperstrip), 1))

"""One plane in depth and time of a TIFF, as a series of only the pages that hold it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

from rilievo.core.files.reader_helpers import truncated
from rilievo.core.files.stack_axes import left, selection
from rilievo.core.image.stack import Frame

_DATE, _MOST_DATED = 306, 5000


def page_seconds(file: Any, count: int) -> tuple[float, ...]:
    """Return when each page was recorded by its date, from the first on; nothing where one lacks
    its date, they go back, or are all the same.

    file : open. Of very many pages nothing is looked at but the first and the last.
    """
    if count > _MOST_DATED or _date(file, 0) == _date(file, count - 1):
        return ()
    dates = [_date(file, k) for k in range(count)]
    dated = [date for date in dates if date is not None]
    if len(dated) < count or dated != sorted(dated):
        return ()
    return tuple((date - dated[0]).total_seconds() for date in dated)


def _date(file: Any, number: int) -> datetime | None:
    try:
        text = str(file.pages.get(number, aspage=True, cache=False).tags.valueof(_DATE) or "")
        return datetime.strptime(text.strip("\0 "), "%Y:%m:%d %H:%M:%S")
    except (ValueError, IndexError, KeyError):
        return None


class OnePlane:
    """What a series has, of a plane that lies within its pages or between them."""

    def __init__(self, series: Any, axes: str, values: np.ndarray[Any, Any]) -> None:
        self.axes, self.shape, self.dtype = axes, values.shape, series.dtype
        self.size = values.size
        self.keyframe, self.kind, self.levels = series.keyframe, series.kind, series.levels
        self.dataoffset = None
        self._values, self._pages = values, [page for page in series if page is not None]

    def __iter__(self) -> Any:
        return iter(self._pages)

    def asarray(self) -> np.ndarray[Any, Any]:
        """The values."""
        return self._values


def plane_series(path: Path, series: Any, frame: Frame) -> Any:
    """Return a series of one plane with all its channels; no other page is looked at.

    series : of an open file. Raises UnsupportedKind where it has no such plane.
    """
    import tifffile  # noqa: PLC0415 (slow to import, needed for this format only)

    taken = selection(path, series.axes, series.shape, frame)
    axes = left(series.axes, taken)
    shape = tuple(
        n for n, index in zip(series.shape, taken, strict=True) if isinstance(index, slice)
    )
    inner = len(series.keyframe.axes)
    counts = series.shape[: len(series.shape) - inner]
    by_page = series.axes.endswith(series.keyframe.axes) and math.prod(counts) == len(series)
    if by_page and all(isinstance(index, slice) for index in taken[len(counts) :]):
        numbers = np.arange(len(series)).reshape(counts)[taken[: len(counts)]]
        pages = [series[k] for k in np.ravel(numbers).tolist()]
        if all(page is not None for page in pages):
            return tifffile.TiffPageSeries(
                pages, shape, series.dtype, axes, parent=series.parent, kind=series.kind,
                squeeze=False,
            )  # fmt: skip
    if series.dataoffset is not None:
        return OnePlane(series, axes, _from_run(path, series, taken))
    return OnePlane(series, axes, series.asarray()[taken])


def _from_run(path: Path, series: Any, taken: Sequence[int | slice]) -> np.ndarray[Any, Any]:
    """The values of a plane in a file whose values follow each other without a gap."""
    file = series.keyframe.parent
    dtype = np.dtype(series.dtype).newbyteorder(file.byteorder)
    lengths = series.shape
    outer = max((k + 1 for k, index in enumerate(taken) if not isinstance(index, slice)), default=0)
    block = math.prod(lengths[outer:])
    places = np.arange(math.prod(lengths[:outer])).reshape(lengths[:outer])[tuple(taken[:outer])]
    blocks = np.empty((places.size, block), series.dtype)
    for k, place in enumerate(np.ravel(places).tolist()):
        start = series.dataoffset + place * block * dtype.itemsize
        if start + block * dtype.itemsize > file.filehandle.size:
            raise truncated(path)
        file.filehandle.seek(start)
        blocks[k] = file.filehandle.read_array(dtype, block)
    sides = [
        n for n, index in zip(lengths[:outer], taken, strict=False) if isinstance(index, slice)
    ]
    return blocks.reshape((*sides, *lengths[outer:]))

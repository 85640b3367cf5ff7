"""A coarse field brought back to the size of the image, smoothly; and shrinking by blocks."""

from __future__ import annotations

import functools
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels
from rilievo.core.tiled_map import in_pieces

_ROWS = 128


def _widened(values: NDArray[Any], axis: int) -> NDArray[Any]:
    """Add two cells on both sides that go on as the last two do."""
    shape = list(values.shape)
    shape[axis] += 4
    wide = np.empty(shape, values.dtype)
    source, into = (values, wide) if axis == 0 else (values.T, wide.T)
    into[2:-2] = source
    if len(source) == 1:
        into[:] = source
        return wide
    before, after = source[0] - source[1], source[-1] - source[-2]
    into[0], into[1] = source[0] + 2 * before, source[0] + before
    into[-2], into[-1] = source[-1] + after, source[-1] + 2 * after
    return wide


def _weights(
    count: int, cells: int, factor: float
) -> tuple[NDArray[np.intp], list[NDArray[np.float64]]]:
    """Which widened cells make each of `count` positions, and with what weights (Catmull–Rom)."""
    where = (np.arange(count) + 0.5) / factor - 0.5
    where = np.clip(where, -1.0, cells)
    first = np.floor(where).astype(np.intp)
    t = where - first
    weights = [
        0.5 * (-t + 2 * t**2 - t**3),
        0.5 * (2 - 5 * t**2 + 3 * t**3),
        0.5 * (t + 4 * t**2 - 3 * t**3),
        0.5 * (-(t**2) + t**3),
    ]
    # Widened by two; the four cells around begin one before.
    return first + 1, weights


@functools.lru_cache(maxsize=64)
def _around(
    count: int, cells: int, factor: float, dtype: Any
) -> tuple[NDArray[np.intp], NDArray[Any]]:
    """The four widened cells about each position, and their weights, shape (4, count) each."""
    first, weights = _weights(count, cells, factor)
    around = np.clip(first + np.arange(4)[:, None], 0, cells + 3)
    return around, np.stack(weights).astype(dtype)


def enlarged(values: FloatPixels, shape: tuple[int, int], factor: float) -> FloatPixels:
    """Return a coarse field at `shape` (height, width) by local cubic interpolation.

    Cell k covers the pixels k · factor … (k + 1) · factor. Beyond the outermost centres the field
    goes on straight. Source: Catmull & Rom 1974.
    """
    from rilievo.core.signal.enlarging_kernels import blend_columns, blend_rows  # noqa: PLC0415

    tall = np.empty((shape[0], values.shape[1]), values.dtype)
    blend_rows(_widened(values, 0), *_around(shape[0], values.shape[0], factor, values.dtype), tall)
    wide = _widened(tall, 1)
    around, weights = _around(shape[1], values.shape[1], factor, values.dtype)
    result = np.empty(shape, values.dtype)

    def work(top: int) -> None:
        rows = slice(top, top + _ROWS)
        blend_columns(wide[rows], around, weights, result[rows])

    in_pieces(work, range(0, shape[0], _ROWS), values=result.size)
    return result


def _blocks(values: FloatPixels, factor: int) -> NDArray[Any]:
    """The plane as (rows, factor, columns, factor); the last blocks repeat the border."""
    whole = _whole_blocks(values, factor)
    return whole.reshape(whole.shape[0] // factor, factor, whole.shape[1] // factor, factor)


def _whole_blocks(values: NDArray[Any], factor: int) -> NDArray[Any]:
    more = tuple((0, -length % factor) for length in values.shape)
    return np.pad(values, more, mode="edge") if any(after for _, after in more) else values


def block_lowest(values: FloatPixels, factor: int) -> FloatPixels:
    """Return the lowest of factor × factor pixels; infinite ones stand for undefined."""
    return np.asarray(_blocks(values, factor).min(axis=1).min(axis=2))


def block_means(values: FloatPixels, factor: int) -> FloatPixels:
    """Return the mean of factor × factor pixels without undefined ones; NaN for none."""
    defined = np.isfinite(values)
    if defined.all():
        means = block_sums(values, factor) / values.dtype.type(factor * factor)
        return np.asarray(means, dtype=values.dtype)
    count = block_sums(defined.astype(np.float64), factor)
    total = block_sums(np.where(defined, values, values.dtype.type(0)), factor)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(total / count, dtype=values.dtype)


def block_sums(values: NDArray[Any], factor: int) -> NDArray[Any]:
    """Return the sum of factor × factor pixels, in their own precision; the border is repeated."""
    from rilievo.core.signal.enlarging_kernels import LONGEST_ROW, sum_blocks  # noqa: PLC0415

    if factor > LONGEST_ROW:
        return np.asarray(_blocks(values, factor).sum(axis=(1, 3)))
    whole = _whole_blocks(values, factor)
    result = np.empty((whole.shape[0] // factor, whole.shape[1] // factor), values.dtype)

    def work(top: int) -> None:
        part = result[top : top + _ROWS]
        sum_blocks(whole[top * factor : (top + part.shape[0]) * factor], factor, part)

    in_pieces(work, range(0, result.shape[0], _ROWS), values=values.size)
    return result

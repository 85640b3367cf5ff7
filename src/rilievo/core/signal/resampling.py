"""A coarse field brought back to the size of the image, smoothly; and shrinking by blocks."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels
from rilievo.core.tiled_map import in_pieces

_ROWS = 128


def _widened(values: NDArray[Any], axis: int) -> NDArray[Any]:
    """Add two cells on both sides that go on as the last two do."""
    values = np.moveaxis(values, axis, 0)
    if len(values) == 1:
        return np.moveaxis(np.repeat(values, 5, axis=0), 0, axis)
    before, after = values[0] - values[1], values[-1] - values[-2]
    parts = [values[0] + 2 * before, values[0] + before, *values]
    parts += [values[-1] + after, values[-1] + 2 * after]
    return np.moveaxis(np.stack(parts), 0, axis)


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


def _along(values: NDArray[Any], count: int, factor: float, axis: int) -> NDArray[Any]:
    cells = values.shape[axis]
    first, weights = _weights(count, cells, factor)
    wide = _widened(values, axis)
    shape = (-1, 1) if axis == 0 else (1, -1)
    parts = [
        wide.take(np.clip(first + k, 0, cells + 3), axis=axis)
        * weight.astype(values.dtype).reshape(shape)
        for k, weight in enumerate(weights)
    ]
    result = np.add(parts[0], parts[1], out=parts[0])
    for part in parts[2:]:
        result += part
    return np.asarray(result)


def enlarged(values: FloatPixels, shape: tuple[int, int], factor: float) -> FloatPixels:
    """Return a coarse field at `shape` (height, width) by local cubic interpolation.

    Cell k covers the pixels k · factor … (k + 1) · factor. Beyond the outermost centres the field
    goes on straight. Source: Catmull & Rom 1974.
    """
    tall = _along(values, shape[0], factor, 0)
    result = np.empty(shape, values.dtype)

    def work(top: int) -> None:
        rows = slice(top, top + _ROWS)
        result[rows] = _along(tall[rows], shape[1], factor, 1)

    in_pieces(work, range(0, shape[0], _ROWS), values=result.size)
    return result


def _blocks(values: FloatPixels, factor: int) -> NDArray[Any]:
    """The plane as (rows, factor, columns, factor); the last blocks repeat the border."""
    height, width = values.shape
    more = -height % factor, -width % factor
    if any(more):
        values = np.pad(values, ((0, more[0]), (0, more[1])), mode="edge")
    return values.reshape(values.shape[0] // factor, factor, values.shape[1] // factor, factor)


def block_lowest(values: FloatPixels, factor: int) -> FloatPixels:
    """Return the lowest of factor × factor pixels; infinite ones stand for undefined."""
    return np.asarray(_blocks(values, factor).min(axis=1).min(axis=2))


def block_means(values: FloatPixels, factor: int) -> FloatPixels:
    """Return the mean of factor × factor pixels without undefined ones; NaN for none."""
    blocks = _blocks(values, factor)
    defined = np.isfinite(blocks)
    if defined.all():
        return np.asarray(blocks.mean(axis=(1, 3)))
    count = defined.sum(axis=(1, 3))
    total = np.where(defined, blocks, 0).sum(axis=(1, 3))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(total / count, dtype=values.dtype)

"""Medians over a square around each pixel, without the pixels that are undefined.

Small squares go through a sorting network over whole rows, larger ones through the ranks of the
pixels; both give exactly the middle value, or the mean of the two middle ones of an even number.
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels
from rilievo.core.progress import checkpoint
from rilievo.core.signal.masks import grown_by_square
from rilievo.core.signal.median_network import LARGEST, median_program
from rilievo.core.tiled_map import in_pieces

_ROWS = 64
# Ranks do not tell what is next to a median; networks of larger squares have too many steps.
_LARGEST_AROUND = 15
# Ranks are given to so many pixels together, so that what is counted of them stays at hand.
_RANKED = 1 << 16
# Where more squares than this share touch an undefined pixel, all go through the ranks.
_MANY_UNDEFINED = 0.05


def median(values: FloatPixels, size: int) -> FloatPixels:
    """Return the median of the size × size pixels around each, undefined ones left out.

    size : odd. The border is mirrored. An undefined pixel stays NaN.
    """
    result = median_of_good(values, size)
    undefined = ~np.isfinite(values)
    if undefined.any():
        result[undefined] = np.nan
    return result


def median_of_good(values: FloatPixels, size: int) -> FloatPixels:
    """As `median`, but an undefined pixel gets the median of its good neighbours."""
    return _medians(_mirrored(values, size), size)


def median_going_on(values: FloatPixels, size: int) -> FloatPixels:
    """As `median_of_good`, but beyond the border the plane goes on as it is inside.

    It is turned about the border pixel (odd reflection), so that a tilt does not bend there.
    """
    reach = size // 2
    rows = np.pad(values, ((reach, reach), (0, 0)), mode=_how(values.shape[0]), **_odd(values, 0))
    padded = np.pad(rows, ((0, 0), (reach, reach)), mode=_how(values.shape[1]), **_odd(values, 1))
    return _medians(padded, size)


def neighbour_medians(values: FloatPixels, size: int) -> FloatPixels:
    """Return the median of the good pixels of the square around each, without itself.

    size : odd, from 3. The border is mirrored. An undefined pixel gets one too.
    """
    padded = _mirrored(values, size)
    result = np.empty_like(values)
    if size > _LARGEST_AROUND:
        return _some_medians(padded, size, np.ones(values.shape, np.bool_), result)
    undefined = np.isnan(padded)
    below, middle, above = _network(np.where(undefined, 0, padded), size, around=True)
    # Without the pixel itself the two in the middle of the others are left.
    low = np.where(values > middle, below, np.where(values < middle, middle, below))
    high = np.where(values > middle, middle, above)
    np.add(low, (high - low) / 2, out=result)
    if undefined.any():
        _some_medians(padded, size, _near(undefined, size), result)
    return result


def medians_around(values: FloatPixels, where: NDArray[np.bool_], size: int) -> FloatPixels:
    """Return the medians of the good neighbours of some pixels, in row order; NaN where none is.

    where : shape of the plane.
    """
    return _around(values, where, size, deviations=False)


def deviations_around(values: FloatPixels, where: NDArray[np.bool_], size: int) -> FloatPixels:
    """As `medians_around`: the median absolute deviation of those neighbours from their median."""
    return _around(values, where, size, deviations=True)


def _around(
    values: FloatPixels, where: NDArray[np.bool_], size: int, *, deviations: bool
) -> FloatPixels:
    from rilievo.core.signal.median_kernels import medians_at  # noqa: PLC0415 (slow to import)

    rows, columns = np.nonzero(where)
    medians = np.empty(rows.size, values.dtype)
    medians_at(_mirrored(values, size), rows, columns, size, False, deviations, medians)
    return medians


def _mirrored(values: FloatPixels, size: int) -> FloatPixels:
    return np.pad(values, size // 2, mode="symmetric")


def _how(length: int) -> Literal["reflect", "symmetric"]:
    return "reflect" if length > 1 else "symmetric"


def _odd(values: FloatPixels, axis: int) -> dict[str, Any]:
    return {"reflect_type": "odd"} if values.shape[axis] > 1 else {}


def _medians(padded: FloatPixels, size: int) -> FloatPixels:
    """Medians of the squares in a plane that reaches size // 2 further on all sides."""
    checkpoint()
    undefined = np.isnan(padded)
    if size > LARGEST:
        return _by_rank(padded, size)
    if not undefined.any():
        return np.asarray(_network(padded, size, around=False)[0])
    near = _near(undefined, size)
    if near.mean() > _MANY_UNDEFINED:
        return _by_rank(padded, size)
    result = _network(np.where(undefined, 0, padded), size, around=False)[0]
    return _some_medians(padded, size, near, result, with_centre=True)


def _network(padded: FloatPixels, size: int, *, around: bool) -> NDArray[Any]:
    """The median of each square, or what is next to it too, shape (1 or 3, height, width)."""
    from rilievo.core.signal.median_kernels import run_network  # noqa: PLC0415 (slow to import)

    program = median_program(size, around)
    height, width = (length - size + 1 for length in padded.shape)
    results = np.empty((len(program.results), height, width), padded.dtype)

    def work(top: int) -> None:
        part = results[:, top : top + _ROWS]
        rows = padded[top : top + part.shape[1] + size - 1]
        run_network(rows, size, program.operations, program.registers, program.results, part)

    in_pieces(work, range(0, height, _ROWS), values=results.size * size)
    return results


def _near(undefined: NDArray[np.bool_], size: int) -> NDArray[np.bool_]:
    """Which squares hold an undefined pixel."""
    reach = size // 2
    height, width = (length - 2 * reach for length in undefined.shape)
    near = grown_by_square(undefined, reach)
    return np.asarray(near[reach : reach + height, reach : reach + width])


def _some_medians(
    padded: FloatPixels,
    size: int,
    where: NDArray[np.bool_],
    result: FloatPixels,
    *,
    with_centre: bool = False,
) -> FloatPixels:
    """Put the medians of single squares into `result`, and return it."""
    from rilievo.core.signal.median_kernels import medians_at  # noqa: PLC0415 (slow to import)

    def work(top: int) -> None:
        rows, columns = np.nonzero(where[top : top + _ROWS])
        medians = np.empty(rows.size, result.dtype)
        medians_at(padded, rows + top, columns, size, with_centre, False, medians)
        result[top : top + _ROWS][rows, columns] = medians

    in_pieces(work, range(0, where.shape[0], _ROWS), values=where.size * size)
    return result


def _by_rank(padded: FloatPixels, size: int) -> FloatPixels:
    from rilievo.core.signal.median_kernels import median_by_rank  # noqa: PLC0415 (slow to import)

    height, width = (length - size + 1 for length in padded.shape)
    rows = min(height, max(_ROWS, size))
    columns = max(_RANKED // (rows + size - 1) - size + 1, size)
    result = np.empty((height, width), padded.dtype)

    def work(corner: tuple[int, int]) -> None:
        top, left = corner
        part = result[top : top + rows, left : left + columns]
        block = padded[top : top + part.shape[0] + size - 1, left : left + part.shape[1] + size - 1]
        median_by_rank(*_ranked(block), size, part)

    corners = [(y, x) for y in range(0, height, rows) for x in range(0, width, columns)]
    in_pieces(work, corners, values=result.size * size)
    return result


def _ranked(block: FloatPixels) -> tuple[NDArray[np.int32], FloatPixels]:
    """A rank for each defined pixel, −1 for the others; and the values in order."""
    flat = block.ravel()
    order = np.argsort(flat)
    defined = flat.size - int(np.count_nonzero(np.isnan(flat)))
    ranks = np.full(flat.size, -1, np.int32)
    ranks[order[:defined]] = np.arange(defined, dtype=np.int32)
    return ranks.reshape(block.shape), flat[order[:defined]]

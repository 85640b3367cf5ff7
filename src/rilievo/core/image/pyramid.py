"""A plane at halved sizes, so that a picture costs what the screen shows, not what the file has.

Each level holds the mean of 2×2 pixels of the one before; undefined pixels are left out of the
mean, and a block without any defined pixel is undefined. An odd last row or column is dropped
from coarser levels (it stays in the full one).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import working_dtype
from rilievo.core.tiled_map import in_pieces

FloatPixels = NDArray[np.floating[Any]]
Pixels = NDArray[Any]

# Coarser levels show nothing; smooth relief looks through down to here.
_SMALLEST_SIDE = 8
_PIECE = 1 << 19


def halved(values: Pixels) -> FloatPixels:
    """Return the mean of 2×2 blocks as floats; NaN values are left out."""
    height, width = values.shape[0] // 2 * 2, values.shape[1] // 2 * 2
    dtype = working_dtype(values.dtype)
    result = np.empty((height // 2, width // 2), dtype)
    rows = max(2, _PIECE // max(width, 1) // 2 * 2)

    def halve(first: int) -> None:
        block = values[first : min(first + rows, height), :width]
        part = result[first // 2 : first // 2 + block.shape[0] // 2]
        pairs = np.add(block[::2], block[1::2], dtype=dtype)
        np.add(pairs[:, ::2], pairs[:, 1::2], out=part)
        part *= dtype(0.25)
        if values.dtype.kind == "f":
            _fill_undefined(block, part)

    in_pieces(halve, range(0, height, rows), values=values.size)
    return result


def _fill_undefined(block: FloatPixels, means: FloatPixels) -> None:
    """Form anew the means that an undefined pixel has spoilt, from the others of the four."""
    undefined = ~np.isfinite(means)
    if not undefined.any():
        return
    corners = (block[::2, ::2], block[::2, 1::2], block[1::2, ::2], block[1::2, 1::2])
    stack = np.stack([corner[undefined] for corner in corners])
    defined = np.isfinite(stack)
    count = np.count_nonzero(defined, axis=0)
    total = np.where(defined, stack, 0).sum(axis=0)
    with np.errstate(invalid="ignore"):
        means[undefined] = total / np.where(count, count, np.nan)


class Pyramid:
    """The levels of a plane; level k has pixels of side 2**k.

    The full level keeps its own number type, so that an integer image needs no second copy; the
    others are floats.
    """

    def __init__(self, full: Pixels) -> None:
        self.finest = 0
        self.levels: list[Pixels] = [full]
        while min(self.levels[-1].shape) >= 2 * _SMALLEST_SIDE:
            self.levels.append(halved(self.levels[-1]))

    @classmethod
    def sketch(cls, full: Pixels, side: int) -> Pyramid:
        """Return a stand-in at once: single pixels in place of means, from `side` pixels down.

        It shows what the exact one will show, but with more noise.
        """
        made = cls.__new__(cls)
        made.finest = 0
        made.levels = [full]
        while max(full.shape) // 2 ** len(made.levels) >= side:
            step = 2 ** len(made.levels)
            made.levels.append(full[step // 2 :: step, step // 2 :: step])
        return made

    @classmethod
    def coarse(cls, values: Pixels, level: int, shape: tuple[int, int]) -> Pyramid:
        """Return a pyramid of which only levels from `level` up are known.

        values : that level. shape : of the full plane; finer levels are shown by blending.
        """
        made = cls(values)
        made.finest = level
        finer = [
            np.broadcast_to(values.dtype.type(0), (shape[0] >> k, shape[1] >> k))
            for k in range(level)
        ]
        made.levels = [*finer, *made.levels]
        return made

    @property
    def nbytes(self) -> int:
        """Memory of the levels beside the full one, which belongs to the plane."""
        return sum(level.nbytes for level in self.levels[max(self.finest, 1) :])

    def level_for(self, zoom: float) -> int:
        """Return the coarsest level that still has a pixel for each screen pixel."""
        k = self.finest
        while k + 1 < len(self.levels) and zoom * 2 ** (k + 1) <= 1.0:
            k += 1
        return k

"""A plane at halved sizes, so that a picture costs what the screen shows, not what the file has.

Each level holds the mean of 2×2 pixels of the one before; undefined pixels are left out of the
mean, and a block without any defined pixel is undefined. An odd last row or column is dropped
from coarser levels (it stays in the full one).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

FloatPixels = NDArray[np.floating[Any]]

# Below this size a level is cheaper to use than to halve.
_SMALLEST_SIDE = 64


def halved(values: FloatPixels) -> FloatPixels:
    """Return the mean of 2×2 blocks; NaN values are left out."""
    height, width = values.shape[0] // 2 * 2, values.shape[1] // 2 * 2
    whole = values[:height, :width]
    corners = (whole[::2, ::2], whole[::2, 1::2], whole[1::2, ::2], whole[1::2, 1::2])
    mean = (corners[0] + corners[1] + corners[2] + corners[3]) * values.dtype.type(0.25)
    undefined = np.isnan(mean)
    if undefined.any():
        stack = np.stack([corner[undefined] for corner in corners])
        defined = np.count_nonzero(~np.isnan(stack), axis=0)
        with np.errstate(invalid="ignore"):
            mean[undefined] = np.nansum(stack, axis=0) / np.where(defined, defined, np.nan)
    return np.asarray(mean)


class Pyramid:
    """The levels of a plane; level k has pixels of side 2**k."""

    def __init__(self, full: FloatPixels) -> None:
        self.levels: list[FloatPixels] = [full]
        while min(self.levels[-1].shape) >= 2 * _SMALLEST_SIDE:
            self.levels.append(halved(self.levels[-1]))

    @property
    def nbytes(self) -> int:
        """Memory of all levels."""
        return sum(level.nbytes for level in self.levels)

    def level_for(self, zoom: float) -> int:
        """Return the coarsest level that still has a pixel for each screen pixel."""
        k = 0
        while k + 1 < len(self.levels) and zoom * 2 ** (k + 1) <= 1.0:
            k += 1
        return k

"""Least-squares planes about each pixel through chosen pixels, worked out on blocks of 4 × 4."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.signal.line_ends import NOTHING
from rilievo.core.signal.resampling import enlarged
from rilievo.core.signal.smoothing import gaussian_weights, weighted_stack

Floats = NDArray[np.float64]

# Pixels a side of a block.
BLOCK = 4
# Where planes rest on less than this share of the largest weight they are widened.
_LEAST_HELD, _WIDENED = 0.04, 4


@dataclass(frozen=True, eq=False)
class KeptSums:
    """Of each block how many pixels are kept, and the sum of their values about an anchor.

    count, sums : shape (blocks down, across); the last blocks reach beyond the border, where there
    is nothing. shape : of the picture.
    """

    count: Floats
    sums: Floats
    anchor: float
    shape: tuple[int, int]

    def planes(self, scale: float) -> Floats:
        """Return the least-squares plane about each pixel through the kept ones, at that pixel.

        scale : of the Gaussian that weights them, pixels; where it holds too few it is widened.
        Source: Cleveland & Devlin 1988, Journal of the American Statistical Association 83,
        596–610.
        """
        scale_in_blocks = scale / BLOCK
        field, held = self._on_blocks(scale_in_blocks)
        for _ in range(_WIDENED):
            few = held < _LEAST_HELD
            if not few.any():
                break
            scale_in_blocks *= 2
            wider, more = self._on_blocks(scale_in_blocks)
            field, held = np.where(few, wider, field), np.where(few, more, held)
        large = enlarged(field, self.shape, BLOCK)
        large += self.anchor
        return np.asarray(large, np.float64)

    def _on_blocks(self, scale: float) -> tuple[Floats, Floats]:
        """Local planes at each block, and their weight as a share of the largest."""
        from rilievo.core.signal.local_plane_kernels import (  # noqa: PLC0415 (compiled)
            MOMENTS,
            moments_of_blocks,
            planes_at_blocks,
        )

        moments = np.empty((MOMENTS, *self.sums.shape))
        moments_of_blocks(self.sums, self.count, scale, moments)
        smooth = weighted_stack(moments, gaussian_weights(scale, 3.0), NOTHING)
        field, held = np.empty_like(self.sums), np.empty_like(self.sums)
        planes_at_blocks(smooth, scale, float(smooth[0].max()), field, held)
        return field, held


def kept_sums(values: Floats, mask: NDArray[np.bool_]) -> KeptSums:
    """Return the sums of the kept pixels of a plane, from their mean."""
    return sums_about(values, mask, float(values[mask].mean()) if mask.any() else 0.0)


def sums_about(values: Floats, mask: NDArray[np.bool_], anchor: float) -> KeptSums:
    """Return the sums of the kept pixels, from a value of their size."""
    from rilievo.core.signal.local_plane_kernels import sums_of_kept  # noqa: PLC0415 (compiled)

    shape = (values.shape[0], values.shape[1])
    count, sums = (np.empty([-(-length // BLOCK) for length in shape]) for _ in range(2))
    sums_of_kept(values, mask, anchor, BLOCK, count, sums)
    return KeptSums(count, sums, anchor, shape)

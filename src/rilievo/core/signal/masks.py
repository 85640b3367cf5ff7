"""Masks grown: by steps to the four neighbours, or by a square."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Mask = NDArray[np.bool_]


def grown_by_steps(mask: Mask, steps: int, *, beyond: bool = False) -> Mask:
    """Return a mask and what is up to so many steps beside it.

    beyond : whether what is outside the plane is of the mask too.
    """
    for _ in range(steps):
        more = mask.copy()
        more[1:] |= mask[:-1]
        more[:-1] |= mask[1:]
        more[:, 1:] |= mask[:, :-1]
        more[:, :-1] |= mask[:, 1:]
        if beyond:
            more[[0, -1]] = True
            more[:, [0, -1]] = True
        mask = more
    return mask


def grown_by_square(mask: Mask, reach: int) -> Mask:
    """Return a mask and all within the square of so many pixels to each side of its pixels."""
    for axis in (0, 1):
        lines = np.moveaxis(mask, axis, 0).copy()
        reached = 0
        while reached < reach:
            # What is within `reached` already grows by as much again.
            step = min(2 * reached + 1, reach - reached)
            more = lines.copy()
            more[step:] |= lines[:-step]
            more[:-step] |= lines[step:]
            lines, reached = more, reached + step
        mask = np.moveaxis(lines, 0, axis)
    return mask

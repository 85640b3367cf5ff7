"""Closed lines along the pixel edges of masks and regions, for what is drawn as vectors."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Corner = tuple[int, int]
Polygon = list[tuple[float, float]]
_LEAST_CORNERS = 4


def mask_outlines(mask: NDArray[np.bool_], x: float = 0.0, y: float = 0.0) -> list[Polygon]:
    """Return the outlines of a mask as closed polygons; holes are polygons of their own.

    x, y : image position of the mask's first pixel. Corners lie half a pixel off the centres.
    """
    padded = np.pad(mask, 1)
    steps: dict[Corner, list[Corner]] = {}
    # Each edge runs so that the inside lies on its right, rows growing downwards.
    top = padded[1:, :] & ~padded[:-1, :]
    bottom = ~padded[1:, :] & padded[:-1, :]
    left = padded[:, 1:] & ~padded[:, :-1]
    right = ~padded[:, 1:] & padded[:, :-1]
    for edges, start, end in (
        (top, (0, 1), (1, 1)),
        (bottom, (1, 1), (0, 1)),
        (left, (1, 1), (1, 0)),
        (right, (1, 0), (1, 1)),
    ):
        rows, columns = np.nonzero(edges)
        for row, column in zip(rows.tolist(), columns.tolist(), strict=True):
            first = (column + start[0], row + start[1])
            steps.setdefault(first, []).append((column + end[0], row + end[1]))
    return [
        [(corner[0] - 1.5 + x, corner[1] - 1.5 + y) for corner in loop] for loop in _loops(steps)
    ]


def _loops(steps: dict[Corner, list[Corner]]) -> list[list[Corner]]:
    loops = []
    while steps:
        start = next(iter(steps))
        loop: list[Corner] = []
        at, heading = start, (0, 0)
        while True:
            onward = steps[at]
            # Where two pixels touch at a corner, turn so that they stay one shape.
            k = 0
            if len(onward) > 1:
                k = max(range(len(onward)), key=lambda i: _left_turn(heading, at, onward[i]))
            after = onward.pop(k)
            if not onward:
                del steps[at]
            direction = (after[0] - at[0], after[1] - at[1])
            if direction != heading:
                loop.append(at)
            heading, at = direction, after
            if at == start and (at not in steps or len(loop) >= _LEAST_CORNERS):
                break
        loops.append(loop)
    return loops


def _left_turn(heading: Corner, at: Corner, after: Corner) -> int:
    """How far left one turns; rows grow downwards."""
    direction = (after[0] - at[0], after[1] - at[1])
    return heading[1] * direction[0] - heading[0] * direction[1]


def region_outlines(
    labels: NDArray[Any], boxes: NDArray[np.int64], ids: NDArray[np.int64]
) -> dict[int, list[Polygon]]:
    """Return the outlines of regions by their number.

    boxes : left, top, width, height of each of `ids`.
    """
    outlines = {}
    for number, (left, top, width, height) in zip(ids.tolist(), boxes.tolist(), strict=True):
        part = labels[top : top + height, left : left + width] == number
        outlines[number] = mask_outlines(part, left, top)
    return outlines

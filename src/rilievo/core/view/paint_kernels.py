"""The loop that outlines regions in a picture.

Compiled once and kept on disk; each releases the interpreter lock. bench/bench_outline.py has
what they gain.
"""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray


@numba.njit(nogil=True, cache=True)
def paint_edges(
    picture: NDArray[Any], labels: NDArray[Any], colours: NDArray[Any], chosen: NDArray[Any]
) -> None:
    """Outline regions in a picture: their own edge pixels, and a halo in the pixels beside.

    picture : uint32, shape of `labels`. colours : line, halo, left out, selected; 0 paints none.
    chosen : sorted numbers of selected regions; their outline is two pixels wide.
    """
    height, width = labels.shape
    line, halo, left_out, selected = colours
    for y in range(height):
        for x in range(width):
            here = labels[y, x]
            if here == 0 or not _is_edge(labels, y, x, here):
                continue
            if here < 0:
                if left_out:
                    picture[y, x] = left_out
                continue
            picture[y, x] = line
            if halo:
                for v in range(max(y - 1, 0), min(y + 2, height)):
                    for u in range(max(x - 1, 0), min(x + 2, width)):
                        if labels[v, u] == 0:
                            picture[v, u] = halo
    if chosen.shape[0] == 0:
        return
    for y in range(height):
        for x in range(width):
            here = labels[y, x]
            if here <= 0 or not _is_edge(labels, y, x, here) or not _is_in(chosen, here):
                continue
            picture[y, x] = selected
            for v in range(max(y - 1, 0), min(y + 2, height)):
                for u in range(max(x - 1, 0), min(x + 2, width)):
                    if labels[v, u] != here and not _is_in(chosen, labels[v, u]):
                        picture[v, u] = selected


@numba.njit(nogil=True, cache=True)
def _is_edge(labels: NDArray[Any], y: int, x: int, here: int) -> Any:
    """Whether a pixel has another label beside, above or below it."""
    return (
        (y > 0 and labels[y - 1, x] != here)
        or (y < labels.shape[0] - 1 and labels[y + 1, x] != here)
        or (x > 0 and labels[y, x - 1] != here)
        or (x < labels.shape[1] - 1 and labels[y, x + 1] != here)
    )


@numba.njit(nogil=True, cache=True)
def _is_in(ordered: NDArray[Any], value: int) -> Any:
    k = np.searchsorted(ordered, value)
    return k < ordered.shape[0] and ordered[k] == value

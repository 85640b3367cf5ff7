"""The cubic spline that joins the levels of a background mesh, as a matrix from tiles to pixels."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def joining_spline(
    centres: NDArray[np.float64], positions: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return the matrix that takes values at `centres` to those at `positions`.

    Between the centres it is the cubic spline whose third derivative is continuous at the second
    centre and the last but one ("not a knot"); of two or three centres the polynomial through
    them. Beyond the outermost centres it goes on straight.
    centres : rising, shape (tiles,), at least two.
    Returns shape (positions, tiles). Source: de Boor 1978, A Practical Guide to Splines, ch. IV.
    """
    widths = np.diff(centres)
    slopes = _slopes(centres, widths)
    inside = np.clip(positions, centres[0], centres[-1])
    piece = np.clip(np.searchsorted(centres, inside, side="right") - 1, 0, widths.size - 1)
    along = ((inside - centres[piece]) / widths[piece])[:, None]
    width = widths[piece][:, None]
    beyond = (positions - inside)[:, None]

    here, there = np.eye(centres.size)[piece], np.eye(centres.size)[piece + 1]
    # The cubic of a piece, of the values and slopes at its ends, and the slope of that cubic.
    values = (
        (1 + 2 * along) * (1 - along) ** 2 * here
        + along**2 * (3 - 2 * along) * there
        + width * along * (1 - along) ** 2 * slopes[piece]
        - width * along**2 * (1 - along) * slopes[piece + 1]
    )
    rising = (
        6 * along * (1 - along) * (there - here) / width
        + (1 - along) * (1 - 3 * along) * slopes[piece]
        + along * (3 * along - 2) * slopes[piece + 1]
    )
    return values + rising * beyond


def _slopes(centres: NDArray[np.float64], widths: NDArray[np.float64]) -> NDArray[np.float64]:
    """The slope at each centre, a row of weights of the values: shape (tiles, tiles)."""
    tiles = centres.size
    steps = np.diff(np.eye(tiles), axis=0) / widths[:, None]
    if tiles == 2:
        return np.repeat(steps, 2, axis=0)
    if tiles == 3:
        return _parabola(steps, widths)
    system = np.zeros((tiles, tiles))
    right = np.empty((tiles, tiles))
    for k in range(1, tiles - 1):
        before, after = widths[k - 1], widths[k]
        system[k, k - 1 : k + 2] = after, 2 * (before + after), before
        right[k] = 3 * (after * steps[k - 1] + before * steps[k])
    for end, first, second, inner, outer in ((0, 0, 1, 1, 0), (-1, -1, -2, -2, -1)):
        near, far = widths[first], widths[second]
        system[end, outer], system[end, inner] = far, near + far
        right[end] = ((near + 2 * (near + far)) * far * steps[first] + near**2 * steps[second]) / (
            near + far
        )
    return np.asarray(np.linalg.solve(system, right))


def _parabola(steps: NDArray[np.float64], widths: NDArray[np.float64]) -> NDArray[np.float64]:
    """Slopes at three centres of the parabola through them."""
    middle = (widths[1] * steps[0] + widths[0] * steps[1]) / widths.sum()
    return np.stack([2 * steps[0] - middle, middle, 2 * steps[1] - middle])

"""The light over a picture, from pixels of one even surface: a smooth surface through them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.image.image import FloatPixels
from rilievo.core.robust_statistics import median_and_mad_sigma
from rilievo.core.tiled_map import in_pieces

_DEGREE, _ROUNDS, _BEYOND = 2, 8, 3.0
_MOST_PIXELS, _ROWS = 400_000, 64


def light_through(values: NDArray[Any], inside: NDArray[np.bool_]) -> FloatPixels:
    """Return the light everywhere, 1 in the mean over `inside`; shape of `values`.

    The logarithm of the light is a polynomial of second degree in x and y, and the fourth power of
    the distance from the middle, by which lenses darken corners; by least squares. Pixels beyond
    three robust standard deviations are left out by turns, so that writing on the surface does
    not count. inside : pixels of the even surface.
    Raises StepError where it has too few pixels with light.
    """
    height, width = values.shape
    rows, columns = np.nonzero(inside & np.isfinite(values) & (values > 0))
    step = max(1, rows.size // _MOST_PIXELS)
    rows, columns = rows[::step], columns[::step]
    if rows.size < 60:
        raise StepError(
            "Around the card there is too little of an even surface in the picture; mark the card "
            "again, or take the light from a blank sheet."
        )
    x, y = _scaled(columns, width), _scaled(rows, height)
    target = np.log(values[rows, columns].astype(np.float64))
    terms = _terms(x, y)
    used: NDArray[np.bool_] = np.ones(rows.size, np.bool_)
    solved: NDArray[Any] = np.zeros(terms.shape[1])
    for _ in range(_ROUNDS):
        solved, *_ = np.linalg.lstsq(terms[used], target[used], rcond=None)
        away = target - terms @ solved
        middle, sigma = median_and_mad_sigma(away[used])
        near = np.abs(away - middle) <= _BEYOND * sigma
        again = near if sigma > 0 else used
        if (again == used).all() or again.sum() < terms.shape[1] * 4:
            break
        used = again
    level = float(np.mean(np.exp(terms[used] @ solved)))
    across, down = _scaled(np.arange(width), width), _scaled(np.arange(height), height)

    field: FloatPixels = np.empty((height, width))

    def some(top: int) -> None:
        a, b = np.meshgrid(across, down[top : top + _ROWS])
        part = np.exp(_terms(a.ravel(), b.ravel()) @ solved) / level
        field[top : top + _ROWS] = part.reshape(a.shape)

    in_pieces(some, range(0, height, _ROWS), values=field.size)
    return field


def _scaled(places: NDArray[Any], length: int) -> NDArray[np.float64]:
    return np.asarray((places - (length - 1) / 2) / max(length, 2) * 2)


def _terms(x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
    powers = [x**i * y**k for i in range(_DEGREE + 1) for k in range(_DEGREE + 1 - i)]
    return np.stack([*powers, (x**2 + y**2) ** 2], axis=1)

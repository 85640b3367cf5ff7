"""Statistics of the pixels around one: what the read-out says, and exactly what is outlined."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Plane
from rilievo.core.parameters import Rectangle

LARGEST = 501

Form = Literal["square", "disc"]


@dataclass(frozen=True)
class NeighbourhoodStatistics:
    """Of the finite pixels; NaN where there are too few. `sd` has n − 1 in the divisor."""

    count: int
    mean: float
    median: float
    sd: float
    minimum: float
    maximum: float
    total: float


def neighbourhood(x: int, y: int, size: int, shape: tuple[int, int]) -> Rectangle:
    """Return the size × size pixels around (x, y), cut at the border of (height, width).

    size : odd, 1 to LARGEST. (x, y) lies inside the image.
    """
    half = size // 2
    left, top = max(x - half, 0), max(y - half, 0)
    return Rectangle(
        x=left,
        y=top,
        width=min(x + half, shape[1] - 1) - left + 1,
        height=min(y + half, shape[0] - 1) - top + 1,
    )


def covered(
    x: int, y: int, size: int, form: Form, shape: tuple[int, int]
) -> tuple[Rectangle, NDArray[np.bool_] | None]:
    """Return the pixels of a neighbourhood: their box, and which of it; None means all.

    form : a disc has the pixels whose centres lie within size / 2 of the centre of (x, y).
    """
    part = neighbourhood(x, y, size, shape)
    if form == "square":
        return part, None
    rows = np.arange(part.y, part.y + part.height)[:, None] - y
    columns = np.arange(part.x, part.x + part.width)[None, :] - x
    return part, rows * rows + columns * columns <= (size / 2) ** 2


def neighbourhood_statistics(
    plane: Plane, part: Rectangle, inside: NDArray[np.bool_] | None = None
) -> NeighbourhoodStatistics:
    """Return the statistics of a part of a plane, in its units.

    inside : which pixels of the part count; None means all.
    """
    values = plane.pixels[part.slices(plane.shape)]
    values = (values.ravel() if inside is None else values[inside]).astype(np.float64)
    finite = np.isfinite(values)
    if not finite.all():
        values = values[finite]
    if values.size == 0:
        nan = float("nan")
        return NeighbourhoodStatistics(0, nan, nan, nan, nan, nan, nan)
    # About the first value, so that a large offset costs no digits.
    away = values - values[0]
    mean = float(values[0] + away.mean())
    return NeighbourhoodStatistics(
        count=values.size,
        mean=mean,
        median=float(np.median(values)),
        sd=float(away.std(ddof=1)) if values.size > 1 else float("nan"),
        minimum=float(values.min()),
        maximum=float(values.max()),
        total=mean * values.size,
    )

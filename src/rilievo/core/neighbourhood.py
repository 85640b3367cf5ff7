"""Statistics of the pixels around one: what the read-out says, and exactly what is outlined."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rilievo.core.image import Plane
from rilievo.core.parameters import Rectangle

LARGEST = 501


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


def neighbourhood_statistics(plane: Plane, part: Rectangle) -> NeighbourhoodStatistics:
    """Return the statistics of a part of a plane, in its units."""
    values = plane.pixels[part.slices(plane.shape)].astype(np.float64).ravel()
    values = values[np.isfinite(values)]
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

"""What several tests have in common: shapes."""

from __future__ import annotations

import numpy as np

from rilievo.core.regions.pixel_shapes import StencilShape
from rilievo.core.regions.shape import Shape, covered
from rilievo.core.regions.shapes import (
    EllipseShape,
    GridShape,
    LineShape,
    PolygonShape,
    RectangleShape,
    RingShape,
)

SIZE = (40, 50)


def mask_of(shape: Shape, size: tuple[int, int] = SIZE) -> np.ndarray:
    whole = np.zeros(size, bool)
    rows, columns, mask = covered(shape, size)
    whole[rows, columns] = mask
    return whole


SHAPES: list[Shape] = [
    RectangleShape(x=20, y=18, width=11.3, height=6.2, angle=30),
    EllipseShape(x=20, y=18, width=14, height=8, angle=-20),
    PolygonShape(points=((10, 10), (30, 12), (26, 28), (12, 24))),
    PolygonShape(points=((12, 24), (26, 28), (30, 12), (10, 10))),
    LineShape(x0=10, y0=10, x1=30, y1=25, width=4),
    RingShape(x=20, y=20, inner=3, outer=8),
    StencilShape(rows=((18, 15, 25), (19, 14, 24), (20, 16, 27))),
    GridShape(rows=2, columns=3, first=(10, 10), across=(30, 12), down=(9, 25), width=6, height=5),
]

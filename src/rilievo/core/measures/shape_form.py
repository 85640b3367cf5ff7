"""Form of regions: outline, hull, ellipse of equal moments, holes."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from rilievo.core.measures.quantity import Column, Unit, quantity
from rilievo.core.measures.values import RegionIndex, RegionValues


def _form(index: RegionIndex) -> dict[str, Column]:
    """Outline and hull of each region; computed once for all quantities of an index."""
    if index.form is None:
        from rilievo.core.form_kernels import form_of  # noqa: PLC0415 (compiled on first use)

        starts = np.searchsorted(index.group, np.arange(index.count + 1))
        found = form_of(index.x, index.y, starts, index.shape[0], index.shape[1])
        names = ("filled", "holes", "perimeter", "convex", "longest", "narrowest", "edge")
        index.form = dict(zip(names, found.T, strict=True))
    return index.form


def _moments(values: RegionValues) -> tuple[Column, Column, Column]:
    """Major axis, minor axis and orientation of the ellipse with the same second moments.

    Each pixel is a unit square, which adds 1/12 to the variance along each axis. Source: Hu 1962,
    IRE Transactions on Information Theory 8, 179–187, for the moments.
    """
    index = values.index
    n = index.areas.astype(np.float64)
    x, y = index.x.astype(np.float64), index.y.astype(np.float64)

    def mean(column: Column) -> Column:
        return np.asarray(np.bincount(index.group, weights=column, minlength=index.count) / n)

    dx, dy = x - mean(x)[index.group], y - mean(y)[index.group]
    xx, yy, xy = mean(dx**2) + 1 / 12, mean(dy**2) + 1 / 12, mean(dx * dy)
    middle, spread = (xx + yy) / 2, np.sqrt(((xx - yy) / 2) ** 2 + xy**2)
    major, minor = 4 * np.sqrt(middle + spread), 4 * np.sqrt(np.maximum(middle - spread, 0))
    # y grows downwards; seen on screen the angle turns the other way.
    angle = -0.5 * np.degrees(np.arctan2(2 * xy, xx - yy))
    return major, minor, np.where(angle <= -90, angle + 180, angle)


def _shape(
    key: str, title: str, unit: Unit, definition: str, measure: Callable[[RegionValues], Column]
) -> None:
    measure.__doc__ = f"Return {definition}."
    quantity(key, title=title, unit=unit, family="shape", definition=definition)(measure)


def _of_form(name: str) -> Callable[[RegionValues], Column]:
    return lambda values: _form(values.index)[name]


def _circularity(values: RegionValues) -> Column:
    form = _form(values.index)
    return np.asarray(4 * np.pi * form["filled"] / form["perimeter"] ** 2)


def _eccentricity(values: RegionValues) -> Column:
    major, minor, _ = _moments(values)
    return np.sqrt(np.maximum(1 - (minor / major) ** 2, 0))


def _in_unit(name: str) -> Callable[[RegionValues], Column]:
    def measure(values: RegionValues) -> Column:
        size = values.calibration.pixel_size
        return _form(values.index)[name] * (np.nan if size is None else size)

    return measure


_shape("filled_area", "Filled area", "px²", "area with its holes filled", _of_form("filled"))
_shape("hole_count", "Holes", "", "holes, connected by 4 neighbours", _of_form("holes"))
_shape("euler", "Euler number", "", "1 − holes", lambda v: 1 - _form(v.index)["holes"])
_shape(
    "perimeter",
    "Perimeter",
    "px",
    "length of the outer boundary: the chain through the centres of its pixels, weighted 0.980 a "
    "straight and 1.406 a diagonal step and −0.091 a change of direction (Vossepoel & Smeulders "
    "1982, Computer Graphics and Image Processing 20, 347–364), plus π for the half pixel outside",
    _of_form("perimeter"),
)
_shape("perimeter_unit", "Perimeter", "unit", "perimeter × pixel size", _in_unit("perimeter"))
_shape(
    "circularity",
    "Circularity",
    "",
    "4π · filled area / perimeter²; as computed, it can be a little above 1",
    _circularity,
)
_shape(
    "major_axis",
    "Major axis",
    "px",
    "longer axis of the ellipse with the same second moments, each pixel a unit square",
    lambda v: _moments(v)[0],
)
_shape(
    "minor_axis",
    "Minor axis",
    "px",
    "shorter axis of the ellipse with the same second moments",
    lambda v: _moments(v)[1],
)
_shape(
    "orientation",
    "Orientation",
    "°",
    "of the major axis, counter-clockwise from +x as seen on screen, −90 < o ≤ 90",
    lambda v: _moments(v)[2],
)
_shape(
    "eccentricity",
    "Eccentricity",
    "",
    "√(1 − (minor axis / major axis)²)",
    _eccentricity,
)
_shape(
    "aspect_ratio",
    "Aspect ratio",
    "",
    "major axis / minor axis",
    lambda v: _moments(v)[0] / _moments(v)[1],
)
_shape(
    "roundness",
    "Roundness",
    "",
    "4 · area / (π · major axis²)",
    lambda v: 4 * v.index.areas / (np.pi * _moments(v)[0] ** 2),
)
_shape(
    "convex_area",
    "Convex area",
    "px²",
    "area of the convex hull of the pixel squares",
    _of_form("convex"),
)
_shape(
    "solidity",
    "Solidity",
    "",
    "area / convex area",
    lambda v: v.index.areas / _form(v.index)["convex"],
)
_shape(
    "caliper_max", "Largest width", "px", "largest width of the convex hull", _of_form("longest")
)
_shape(
    "caliper_min",
    "Smallest width",
    "px",
    "smallest width of the convex hull",
    _of_form("narrowest"),
)
_shape(
    "equivalent_diameter",
    "Equivalent diameter",
    "px",
    "√(4 · area / π)",
    lambda v: np.sqrt(4 * v.index.areas / np.pi),
)
_shape(
    "touches_edge",
    "Touches the edge",
    "",
    "1 if the region reaches the border of the picture, else 0",
    _of_form("edge"),
)

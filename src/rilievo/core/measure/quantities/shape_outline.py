"""Form of regions: outline, hull, ellipse of equal moments, holes."""

from __future__ import annotations

from functools import partial

import numpy as np

from rilievo.core.measure.quantities.shape import form, with_calibrated
from rilievo.core.measure.quantity import Column, listed
from rilievo.core.measure.region_values import RegionValues

_shape = partial(listed, "shape", order=50)
_calibrated = partial(with_calibrated, order=50)
_MOMENTS = "Hu 1962, IRE Transactions on Information Theory 8, 179–187, for the moments"


def _axes(values: RegionValues) -> tuple[Column, Column]:
    """Major and minor axis of the ellipse with the same second moments."""
    own = values.index.form
    middle = (own["xx"] + own["yy"]) / 2
    spread = np.hypot((own["xx"] - own["yy"]) / 2, own["xy"])
    return 4 * np.sqrt(middle + spread), 4 * np.sqrt(np.maximum(middle - spread, 0))


def _orientation(values: RegionValues) -> Column:
    own = values.index.form
    # y grows downwards; seen on screen the angle turns the other way.
    angle = -0.5 * np.degrees(np.arctan2(2 * own["xy"], own["xx"] - own["yy"]))
    return np.where(angle <= -90, angle + 180, angle)


def _eccentricity(values: RegionValues) -> Column:
    major, minor = _axes(values)
    return np.sqrt(np.maximum(1 - (minor / major) ** 2, 0))


def _circularity(values: RegionValues) -> Column:
    own = values.index.form
    return np.asarray(4 * np.pi * own["filled"] / own["perimeter"] ** 2)


_calibrated("filled_area", "Filled area", "A_f", "px²", "area with its holes filled",
                "A + pixels of its holes", form("filled"), whole=True)  # fmt: skip
_shape("hole_count", "Holes", "h", "", "holes, connected by 4 neighbours", "number of holes",
       form("holes"), whole=True)  # fmt: skip
_shape("euler", "Euler number", "χ", "", "1 − holes", "1 − h",
       lambda v: 1 - v.index.form["holes"], whole=True)  # fmt: skip
_calibrated(
    "perimeter", "Perimeter", "P", "px",
    "length of the outer boundary: the chain through the centres of its pixels, weighted by kind "
    "of step, plus π for the half pixel outside",
    "0.980 · straight steps + 1.406 · diagonal steps − 0.091 · changes of direction + π",
    form("perimeter"),
    source="Vossepoel & Smeulders 1982, Computer Graphics and Image Processing 20, 347–364",
)  # fmt: skip
_shape(
    "circularity", "Circularity", "C", "",
    "4π · filled area / perimeter²; as computed, it can be a little above 1", "4π · A_f / P²",
    _circularity,
)  # fmt: skip
_calibrated(
    "major_axis", "Major axis", "a", "px",
    "longer axis of the ellipse with the same second moments, each pixel a unit square",
    "4 √(m + r), m = (μxx + μyy) / 2, r = √(((μxx − μyy) / 2)² + μxy²)",
    lambda v: _axes(v)[0], source=_MOMENTS,
)  # fmt: skip
_calibrated(
    "minor_axis", "Minor axis", "b", "px",
    "shorter axis of the ellipse with the same second moments", "4 √(m − r)",
    lambda v: _axes(v)[1], source=_MOMENTS,
)  # fmt: skip
_shape(
    "orientation", "Orientation", "θ", "°",
    "of the major axis, counter-clockwise from +x as seen on screen, −90 < o ≤ 90",
    "−½ · atan2(2 μxy, μxx − μyy)", _orientation, source=_MOMENTS,
)  # fmt: skip
_shape("eccentricity", "Eccentricity", "e", "", "√(1 − (minor axis / major axis)²)",
       "√(1 − (b / a)²)", _eccentricity)  # fmt: skip
_shape("aspect_ratio", "Aspect ratio", "a/b", "", "major axis / minor axis", "a / b",
       lambda v: np.divide(*_axes(v)))  # fmt: skip
_shape("roundness", "Roundness", "R", "", "4 · area / (π · major axis²)", "4 A / (π a²)",
       lambda v: 4 * v.index.areas / (np.pi * _axes(v)[0] ** 2))  # fmt: skip
_calibrated("convex_area", "Convex area", "A_c", "px²",
                "area of the convex hull of the pixel squares", "A_c", form("convex"))  # fmt: skip
_shape("solidity", "Solidity", "S", "", "area / convex area", "A / A_c",
       lambda v: v.index.areas / v.index.form["convex"])  # fmt: skip
_calibrated("caliper_max", "Largest width", "F_max", "px",
                "largest width of the convex hull", "max over directions of the width",
                form("longest"))  # fmt: skip
_calibrated("caliper_min", "Smallest width", "F_min", "px",
                "smallest width of the convex hull", "min over directions of the width",
                form("narrowest"))  # fmt: skip
_calibrated("equivalent_diameter", "Equivalent diameter", "d", "px",
                "diameter of the disc of the same area", "√(4 A / π)",
                lambda v: np.sqrt(4 * v.index.areas / np.pi))  # fmt: skip
_shape("touches_edge", "Touches the edge", "edge", "",
       "1 if the region reaches the border of the picture, else 0",
       "1 if min x = 0, min y = 0, max x = width − 1 or max y = height − 1, else 0",
       form("edge"), whole=True)  # fmt: skip

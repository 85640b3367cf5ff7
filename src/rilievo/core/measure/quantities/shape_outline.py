"""Form of regions: outline, hull, ellipse of equal moments, holes."""

from __future__ import annotations

from functools import partial

import numpy as np

from rilievo.core.measure.quantities.shape import form, true_form, with_calibrated
from rilievo.core.measure.quantity import Column, listed
from rilievo.core.measure.region_index import RegionForm
from rilievo.core.measure.region_values import RegionValues, column

_shape = partial(listed, "shape", order=50)
_calibrated = partial(with_calibrated, order=50)
_MOMENTS = "Hu 1962, IRE Transactions on Information Theory 8, 179–187, for the moments"


_OUTLINE = (
    "the smooth outline, half-way between the taut string through the outermost pixels and the "
    "next line of the lattice outside"
)
_TAUT = (
    "Sloboda, Zaťko & Stoer 1998, Advances in Digital and Computational Geometry, 113–160, for the "
    "taut string; docs/accuracy.md for its corners"
)
_PARTS = "of all parts together; in pixels taken as squares"


def _axes(own: RegionForm) -> tuple[Column, Column]:
    """Major and minor axis of the ellipse with the same second moments."""
    middle = (own["xx"] + own["yy"]) / 2
    spread = np.hypot((own["xx"] - own["yy"]) / 2, own["xy"])
    return 4 * np.sqrt(middle + spread), 4 * np.sqrt(np.maximum(middle - spread, 0))


def _orientation(values: RegionValues) -> Column:
    own = values.form
    # y grows downwards; seen on screen the angle turns the other way.
    angle = -0.5 * np.degrees(np.arctan2(2 * own["xy"], own["xx"] - own["yy"]))
    return np.where(angle <= -90, angle + 180, angle)


def _eccentricity(values: RegionValues) -> Column:
    major, minor = _axes(values.form)
    return np.sqrt(np.maximum(1 - (minor / major) ** 2, 0))


def _areas(values: RegionValues) -> Column:
    """Areas in the unit of `RegionValues.form`."""
    return column(values.index.areas) * (values.sides[0] * values.sides[1])


def _circularity(values: RegionValues) -> Column:
    own = values.form
    filled = own["filled"] * (values.sides[0] * values.sides[1])
    return np.asarray(4 * np.pi * filled / own["perimeter"] ** 2)


_calibrated("filled_area", "Filled area", "A_f", "px²", "area with its holes filled",
                "A + pixels of its holes", form("filled"), whole=True)  # fmt: skip
_shape("parts", "Parts", "k", "", "parts of the region, connected by 8 neighbours",
       "number of parts", lambda v: column(v.index.parts), whole=True)  # fmt: skip
_shape("hole_count", "Holes", "h", "", "holes of all parts, connected by 4 neighbours",
       "number of holes", form("holes"), whole=True)  # fmt: skip
_shape("euler", "Euler number", "χ", "", "parts − holes", "k − h",
       lambda v: v.index.parts - v.index.form["holes"], whole=True)  # fmt: skip
_calibrated(
    "perimeter", "Perimeter", "P", "px",
    f"length of {_OUTLINE}, {_PARTS}",
    "Σ edges + 0.41 Σ e·min(m, 1) − 0.53 Σ e·min(m, 0.4), m how much later the edges beside an "
    "edge e would meet",
    form("perimeter"), true_form("perimeter"), source=_TAUT,
)  # fmt: skip
_shape(
    "circularity", "Circularity", "C", "",
    "4π · filled area / perimeter² with the true sides of pixels; as computed, it can be a little "
    "above 1, and is low for a region in several parts", "4π · A_f / P²",
    _circularity,
)  # fmt: skip
_calibrated(
    "major_axis", "Major axis", "a", "px",
    "longer axis of the ellipse with the same second moments, each pixel a unit square",
    "4 √(m + r), m = (μxx + μyy) / 2, r = √(((μxx − μyy) / 2)² + μxy²)",
    lambda v: _axes(v.index.form)[0], lambda v: _axes(v.form)[0], source=_MOMENTS,
)  # fmt: skip
_calibrated(
    "minor_axis", "Minor axis", "b", "px",
    "shorter axis of the ellipse with the same second moments", "4 √(m − r)",
    lambda v: _axes(v.index.form)[1], lambda v: _axes(v.form)[1], source=_MOMENTS,
)  # fmt: skip
_shape(
    "orientation", "Orientation", "θ", "°",
    "of the major axis with the true sides of pixels, counter-clockwise from +x as seen on screen, "
    "−90 < o ≤ 90",
    "−½ · atan2(2 μxy, μxx − μyy)", _orientation, source=_MOMENTS,
)  # fmt: skip
_shape("eccentricity", "Eccentricity", "e", "",
       "√(1 − (minor axis / major axis)²), with the true sides of pixels",
       "√(1 − (b / a)²)", _eccentricity)  # fmt: skip
_shape("aspect_ratio", "Aspect ratio", "a/b", "",
       "major axis / minor axis, with the true sides of pixels", "a / b",
       lambda v: np.divide(*_axes(v.form)))  # fmt: skip
_shape("roundness", "Roundness", "R", "",
       "4 · area / (π · major axis²), with the true sides of pixels", "4 A / (π a²)",
       lambda v: 4 * _areas(v) / (np.pi * _axes(v.form)[0] ** 2))  # fmt: skip
_calibrated("convex_area", "Convex area", "A_c", "px²",
                f"area of the convex hull of {_OUTLINE}, over that within the outline, times the "
                "filled area", "A_f · hull / outline", form("convex"), true_form("convex"),
                source=_TAUT)  # fmt: skip
_shape("solidity", "Solidity", "S", "", "area / convex area, with the true sides of pixels",
       "A / A_c", lambda v: _areas(v) / v.form["convex"])  # fmt: skip
_calibrated("caliper_max", "Largest width", "F_max", "px",
                f"largest width of the convex hull of {_OUTLINE}, freed of what noise adds to the "
                "largest of many", "max over directions of the width",
                form("longest"), true_form("longest"), source=_TAUT)  # fmt: skip
_calibrated("caliper_min", "Smallest width", "F_min", "px",
                f"smallest width of the convex hull of {_OUTLINE}, freed of what noise takes off "
                "the smallest of many", "min over directions of the width",
                form("narrowest"), true_form("narrowest"), source=_TAUT)  # fmt: skip
_calibrated("equivalent_diameter", "Equivalent diameter", "d", "px",
                "diameter of the disc of the same area", "√(4 A / π)",
                lambda v: np.sqrt(4 * v.index.areas / np.pi),
                lambda v: np.sqrt(4 * _areas(v) / np.pi))  # fmt: skip
_shape("touches_edge", "Touches the edge", "edge", "",
       "1 if the region reaches the border of the picture, else 0",
       "1 if min x = 0, min y = 0, max x = width − 1 or max y = height − 1, else 0",
       form("edge"), whole=True)  # fmt: skip

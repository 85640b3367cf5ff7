"""Size and position of regions, from their pixels alone."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Literal, Unpack, cast

import numpy as np

from rilievo.core.measure.quantity import Column, Family, ListedDetails, listed
from rilievo.core.measure.region_values import RegionValues, column

_shape = partial(listed, "shape", order=40)


class LengthDetails(ListedDetails, total=False):
    """What a length or an area may say. family : shape where nothing is said."""

    family: Family


def with_calibrated(
    key: str,
    title: str,
    symbol: str,
    unit: Literal["px", "px²"],
    definition: str,
    formula: str,
    measure: Callable[[RegionValues], Column],
    in_unit: Callable[[RegionValues], Column] | None = None,
    **details: Unpack[LengthDetails],
) -> None:
    """Register a length or an area, and the same in the sample's own unit.

    in_unit : what gives it with the true sides of pixels; without it an area is multiplied by both
    sides, and a length is defined for square pixels only.
    """
    area, needs = unit == "px²", details.get("needs", "")
    family, order = details.pop("family", "shape"), details.setdefault("order", 40)
    listed(
        family, key, title, symbol, unit, definition, formula, measure,
        **cast(ListedDetails, details),
    )  # fmt: skip

    def calibrated(values: RegionValues) -> Column:
        sides = values.calibration.sides
        if sides is None:
            return np.full(values.index.count, np.nan)
        if in_unit is not None:
            return in_unit(values)
        if area:
            return measure(values) * (sides[0] * sides[1])
        return measure(values) * (sides[0] if values.calibration.is_square else np.nan)

    if area and in_unit is None:
        how, written = "times both sides of a pixel", f"{symbol} · side x · side y"
    elif in_unit is None:
        how, written = "times the side of a pixel, which must be square", f"{symbol} · side"
    else:
        how, written = "with the sides of a pixel along x and y", f"{symbol} of true lengths"
    listed(
        family, f"{key}_unit", title, symbol, "unit²" if area else "unit",
        f"{title.lower()}, {how}; undefined without a calibration", written,
        calibrated, needs=f"{needs}; a pixel size" if needs else "a pixel size", order=order,
    )  # fmt: skip


def true_form(name: str) -> Callable[[RegionValues], Column]:
    """Return what gives a column of the form of regions with the true sides of pixels."""
    return lambda values: values.form[name]


def form(name: str) -> Callable[[RegionValues], Column]:
    """Return what gives a column of the form of regions."""
    return lambda values: values.index.form[name]


with_calibrated(
    "area", "Area", "A", "px²", "number of pixels of the region, measured or not", "A",
    lambda v: column(v.index.areas), whole=True,
)  # fmt: skip
_shape("x", "x", "x̄", "px", "column of the centroid; the leftmost pixel's centre is 0", "Σ x / A",
       form("x"))  # fmt: skip
_shape("y", "y", "ȳ", "px", "row of the centroid; the topmost stored pixel's centre is 0",
       "Σ y / A", form("y"))  # fmt: skip
_shape("bbox_x", "Box x", "x₁", "px", "first column of the bounding box", "min x", form("left"),
       whole=True)  # fmt: skip
_shape("bbox_y", "Box y", "y₁", "px", "first row of the bounding box", "min y", form("top"),
       whole=True)  # fmt: skip
with_calibrated(
    "bbox_w", "Box width", "w", "px", "columns that the bounding box covers", "max x − min x + 1",
    lambda v: v.index.form["right"] - v.index.form["left"] + 1,
    lambda v: (v.index.form["right"] - v.index.form["left"] + 1) * v.sides[0], whole=True,
)  # fmt: skip
with_calibrated(
    "bbox_h", "Box height", "h", "px", "rows that the bounding box covers", "max y − min y + 1",
    lambda v: v.index.form["bottom"] - v.index.form["top"] + 1,
    lambda v: (v.index.form["bottom"] - v.index.form["top"] + 1) * v.sides[1], whole=True,
)  # fmt: skip

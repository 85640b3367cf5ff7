"""What a quantity is, and the registry of all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, TypeVar

import numpy as np
from numpy.typing import NDArray

from rilievo.core.measures.values import RegionValues
from rilievo.core.registry import Registry

Column = NDArray[np.float64]
Unit = Literal["", "bit", "px", "px²", "unit", "unit²", "°", "signal", "native"]


@dataclass(frozen=True)
class Quantity:
    """One number per region and channel.

    key : column name in exports. unit : "signal" and "native" are intensities; "unit" and
    "unit²" are the sample's own calibrated unit, and its square; "" is a count or a ratio.
    family : intensity or shape. whole : counts have no decimals.
    measure : values of all regions at once → shape (regions,), NaN where undefined.
    """

    key: str
    title: str
    unit: Unit
    family: Literal["intensity", "shape"]
    definition: str
    measure: Callable[[RegionValues], Column]
    whole: bool

    def unit_text(self, calibrated: str) -> str:
        """Return the unit as it stands in a header; `calibrated` is the sample's own unit."""
        words = {
            "signal": "counts",
            "native": "counts",
            "unit": calibrated,
            "unit²": f"{calibrated}²",
        }
        return words.get(self.unit, self.unit)

    def heading(self, calibrated: str) -> str:
        """Return the title with its unit."""
        unit = self.unit_text(calibrated)
        return f"{self.title} ({unit})" if unit else self.title


QUANTITIES: Registry[Quantity] = Registry("quantity", "rilievo.core.measures", "rilievo.quantities")

# What a new method measures.
STANDARD_QUANTITIES = (
    "pixel_count",
    "area",
    "area_unit",
    "mean",
    "median",
    "sd",
    "min",
    "max",
    "sum",
    "native_mean",
    "background",
    "saturated_count",
    "x",
    "y",
    "bbox_x",
    "bbox_y",
    "bbox_w",
    "bbox_h",
)

Measure = TypeVar("Measure", bound=Callable[[RegionValues], Column])


def quantity(
    key: str,
    *,
    title: str,
    unit: Unit,
    family: Literal["intensity", "shape"],
    definition: str,
    whole: bool = False,
) -> Callable[[Measure], Measure]:
    """Register the decorated function."""

    def register(measure: Measure) -> Measure:
        QUANTITIES.add(key, Quantity(key, title, unit, family, definition, measure, whole))
        return measure

    return register

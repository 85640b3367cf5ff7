"""What a quantity is, and the registry of all of them."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, TypedDict, TypeVar, Unpack

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.number_scale import NumberScale
from rilievo.core.measure.region_values import RegionValues
from rilievo.core.registry import Registry

QUANTITY_FAMILIES = {
    "intensity": "Intensity",
    "shape": "Size, position and form",
    "star": "Stars",
    "pair": "Pairs of classes",
    "derived": "Derived columns",
}

Column = NDArray[np.float64]
Unit = Literal["", "bit", "px", "px²", "unit", "unit²", "°", "mag", "signal", "native"]
Family = Literal["intensity", "shape", "star", "pair", "derived"]
# How a value follows a number scale: with its zero, with its step alone, or not at all.
NumericRole = Literal["level", "difference", "other"]


@dataclass(frozen=True)
class Quantity:
    """One number per region and channel.

    key : column name in exports. unit : "signal" and "native" are intensities; "unit" and
    "unit²" are the sample's own calibrated unit, and its square; "" is a count or a ratio.
    whole : counts have no decimals. measure : values of all regions at once → shape (regions,),
    NaN where undefined. symbol, formula : as they are written. source : where it is published.
    needs : what it cannot be measured without; empty for nothing but pixels.
    numeric_role : a "level" has the zero of the number scale, a "difference" or a spread only its
    step.
    """

    key: str
    title: str
    unit: Unit
    family: Family
    definition: str
    measure: Callable[[RegionValues], Column]
    whole: bool = False
    symbol: str = ""
    formula: str = ""
    source: str = ""
    needs: str = ""
    numeric_role: NumericRole = "other"

    def on_scale(self, scale: NumberScale) -> Callable[[float], float] | None:
        """Return how its values are printed on a number scale; None where they stay native.

        Levels have the scale's zero, differences and spreads only its step; sums, which are of
        many pixels, stay native.
        """
        if scale.kind == "native":
            return None
        if self.numeric_role == "level":
            return scale.value
        return scale.difference if self.numeric_role == "difference" else None

    def unit_text(self, calibrated: str, intensity: str = "counts") -> str:
        """Return the unit as it stands in a header.

        calibrated : the sample's own unit of length. intensity : unit of the signal.
        """
        words = {
            "signal": intensity,
            "native": "counts",
            "unit": calibrated,
            "unit²": f"{calibrated}²",
        }
        return words.get(self.unit, self.unit)

    def heading(self, calibrated: str, intensity: str = "counts") -> str:
        """Return the title with its unit."""
        unit = self.unit_text(calibrated, intensity)
        return f"{self.title} ({unit})" if unit else self.title


class Quantities(Registry[Quantity]):
    """All quantities; a percentile that is not listed is made when it is asked for.

    “p37” is the 37th percentile, “p99_5” the one at 99.5 %.
    """

    PERCENTILE = re.compile(r"^p(\d\d(?:_\d{1,3})?)$")

    @classmethod
    def is_percentile(cls, key: str) -> bool:
        """Whether a key is that of a percentile."""
        return cls.PERCENTILE.fullmatch(key) is not None

    def __contains__(self, key: object) -> bool:
        return super().__contains__(key) or (isinstance(key, str) and self.is_percentile(key))

    def __getitem__(self, key: str) -> Quantity:
        match = self.PERCENTILE.fullmatch(key)
        if match is not None and not super().__contains__(key):
            return percentile(float(match[1].replace("_", ".")))
        return super().__getitem__(key)


def percentile(percent: float) -> Quantity:
    """Return the quantity that is a percentile of the signal, 0 to under 100."""
    whole, _, part = f"{percent:g}".partition(".")
    key = f"p{int(whole):02}" + (f"_{part}" if part else "")
    return Quantity(
        key=key,
        title=f"P{percent:g}",
        unit="signal",
        family="intensity",
        definition=f"{percent:g} % of the pixels are at or below, by linear interpolation",
        measure=lambda values: values.quantile(percent / 100),
        numeric_role="level",
        symbol=f"P{percent:g}",
        formula=f"v₍ₖ₎ + (h − k)·(v₍ₖ₊₁₎ − v₍ₖ₎), h = {percent / 100:g}·(n − 1), k = ⌊h⌋",
        source="Hyndman & Fan 1996, The American Statistician 50, 361–365, type 7",
    )


QUANTITIES = Quantities("quantity", "rilievo.core.measure.quantities", "rilievo.quantities")

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


class Remarks(TypedDict, total=False):
    """What a quantity may say beyond what each must, see `Quantity`."""

    whole: bool
    source: str
    needs: str
    numeric_role: NumericRole


class Details(Remarks, total=False):
    """The same with how it is written."""

    symbol: str
    formula: str


class ListedDetails(Remarks, total=False):
    """The same with where it stands in lists."""

    order: float | None


def quantity(
    key: str,
    *,
    title: str,
    unit: Unit,
    family: Family,
    definition: str,
    order: float | None = None,
    **details: Unpack[Details],
) -> Callable[[Measure], Measure]:
    """Register the decorated function, see `Quantity`. order : where it stands in lists."""

    def register(measure: Measure) -> Measure:
        entry = Quantity(key, title, unit, family, definition, measure, **details)
        QUANTITIES.add(key, entry, order)
        return measure

    return register


def listed(
    family: Family,
    key: str,
    title: str,
    symbol: str,
    unit: Unit,
    definition: str,
    formula: str,
    measure: Callable[[RegionValues], Column],
    **details: Unpack[ListedDetails],
) -> None:
    """Register a quantity whose function is a line of its own."""
    measure.__doc__ = f"Return {formula}."
    quantity(
        key, title=title, unit=unit, family=family, definition=definition, symbol=symbol,
        formula=formula, **details,
    )(measure)  # fmt: skip

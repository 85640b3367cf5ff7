"""Short ways to write region classes and to find regions in an array, for tests."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np

from rilievo.core.image.image import Calibration, Plane, Sample
from rilievo.core.method.class_definition import (
    ClassDefinition,
    CleanUse,
    clean_use,
    hand_threshold,
)
from rilievo.core.method.method import Method, SampleException
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions import RegionSet
from rilievo.core.regions.manual_edits import HandEdit
from rilievo.core.regions.pixel_shapes import StencilShape


def clean_up(
    fill: bool = True, smallest: float | None = None, largest: float | None = None, unit: str = "px"
) -> tuple[CleanUse, ...]:
    """Holes filled, and a range of areas kept."""
    uses = [clean_use("fill_holes")] if fill else []
    if smallest is not None or largest is not None:
        quantity = "area" if unit == "px" else "area_unit"
        uses.append(clean_use("keep", quantity=quantity, lower=smallest, upper=largest))
    return tuple(uses)


def outline(level: float | None = None, **fields: Any) -> ClassDefinition:
    """A class found by a level, or by the automatic threshold."""
    if level is not None:
        fields["threshold"] = hand_threshold(level)
    return ClassDefinition(**fields)


def reject(*pixels: tuple[int, int], region_class: str = "cell") -> tuple[HandEdit, ...]:
    """Rejections of the regions that cover pixels (x, y)."""
    return tuple(
        HandEdit(
            kind="reject",
            region_class=region_class,
            where=(StencilShape(rows=((y, x, x),)),),
        )
        for x, y in pixels
    )


def find_regions(
    values: np.ndarray,
    level: float,
    *,
    keep: Literal["bright", "dark"] = "bright",
    connectivity: Literal[4, 8] = 8,
    fill: bool = True,
    clean: Sequence[CleanUse] = (),
    edits: Sequence[HandEdit] = (),
    pixel_size: float | None = None,
    **fields: Any,
) -> RegionSet:
    """Regions of an array above or below a level, as a method finds them."""
    plane = Plane(np.asarray(values), Calibration(pixel_size, "µm" if pixel_size else "px"))
    one = outline(
        None if "threshold" in fields else level,
        keep=keep,
        connectivity=connectivity,
        clean=(*clean_up(fill), *clean),
        **fields,
    )
    method = Method(outlines=(one,), exceptions={"s": SampleException(edits=tuple(edits))})
    return Analysis(Sample("s", {"gray": plane}), method).regions()

"""Single pixels and small patches replaced by hand."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from pydantic import Field

from rilievo.core.image.image import Plane
from rilievo.core.parameters import Rectangle
from rilievo.core.signal.steps.step import StepContext, StepParameters, step

# How far around a patch the neighbours reach that replace it.
_RING = 2
_LARGEST_SIDE = 51


class Repair(Rectangle):
    """A patch that is replaced; without a value, by the median of the pixels around it."""

    width: int = Field(
        1,
        ge=1,
        le=_LARGEST_SIDE,
        title="Width",
        json_schema_extra={"unit": "px"},
        description="columns that are filled in",
    )
    height: int = Field(
        1,
        ge=1,
        le=_LARGEST_SIDE,
        title="Height",
        json_schema_extra={"unit": "px"},
        description="rows that are filled in",
    )
    value: float | None = Field(
        None, title="Value", description="native units; empty for the median of the neighbours"
    )


class RepairPixels(StepParameters):
    """Replace single pixels or small patches; the file is never changed."""

    in_words: ClassVar[str] = "Single pixels were repaired by hand"

    repairs: tuple[Repair, ...] = Field(
        (),
        max_length=10_000,
        title="Pixels",
        description="clicked with the repair tool, or listed as x, y",
        json_schema_extra={"scales": True},
    )


def _around(plane: Plane, repair: Repair, spoilt: np.ndarray) -> float:
    """The median of the good pixels up to two around a patch; NaN where there is none."""
    rows, columns = Rectangle(
        x=repair.x - _RING,
        y=repair.y - _RING,
        width=repair.width + 2 * _RING,
        height=repair.height + 2 * _RING,
    ).slices(plane.shape)
    values = plane.pixels[rows, columns][~spoilt[rows, columns]]
    values = values[np.isfinite(values)]
    return float(np.median(values.astype(np.float64))) if values.size else float("nan")


def _spoilt(plane: Plane, parameters: RepairPixels) -> np.ndarray:
    mask = np.zeros(plane.shape, np.bool_)
    for repair in parameters.repairs:
        mask[repair.slices(plane.shape)] = True
    return mask


@step(
    "repair.pixels",
    title="Pixel repair",
    family="Pixels",
    parameters=RepairPixels,
    linear=True,
    reach=_LARGEST_SIDE + _RING,
    order=310,
)
def repair_pixels(
    plane: Plane,
    parameters: RepairPixels,
    context: StepContext,
) -> Plane:
    """Return `plane` with patches replaced by a typed value or the median of their neighbours.

    Neighbours are the pixels up to two rows or columns away that are not themselves replaced.
    plane : shape (height, width), native units; never changed; patches outside it do nothing.
    """
    if not parameters.repairs:
        return plane
    spoilt = _spoilt(plane, parameters)
    context.record(replaced=np.count_nonzero(spoilt))
    pixels = plane.as_float().copy()
    for repair in parameters.repairs:
        value = _around(plane, repair, spoilt) if repair.value is None else repair.value
        pixels[repair.slices(plane.shape)] = value
    return plane.with_pixels(pixels, None)

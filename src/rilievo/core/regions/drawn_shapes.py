"""Regions that were drawn: shapes with name, group and attributes, set onto a picture."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import UNMOVED, Placement, Plane, placed
from rilievo.core.parameters import Parameters
from rilievo.core.regions.label_map import Labels, Mask, connected
from rilievo.core.regions.pixel_shapes import FloodShape
from rilievo.core.regions.shape import Shape, covered
from rilievo.core.regions.shapes import AnyShape, GridShape

MOST_DRAWN = 250_000


class DrawnRegion(Parameters):
    """A shape as a region, or a grid of shapes as a region each.

    sample : the only sample it belongs to; None means all.
    frame : whether its positions are those of the file, or of the picture after the steps, which a
    registration has brought into line with the other samples.
    group, attributes : of the region itself, so that specimens in one photograph can be compared
    like samples.
    """

    shape: AnyShape = Field(description="its outline")
    name: str = Field("", max_length=200, description="name of the region, for people")
    group: str = Field(
        "", max_length=200, description="group of the region; empty: that of the sample"
    )
    attributes: dict[str, str] = Field(
        default_factory=dict, description="further facts of the region, name → text"
    )
    sample: str | None = Field(None, description="the sample it is drawn in; null: every sample")
    frame: Literal["file", "picture"] = Field(
        "file", description="what positions refer to: the file, or the picture after the steps"
    )

    def is_in(self, sample: str) -> bool:
        """Whether it belongs to a sample."""
        return self.sample is None or self.sample == sample


def check_number(regions: tuple[DrawnRegion, ...]) -> tuple[DrawnRegion, ...]:
    """Return the regions. Raises ValueError for grids with more cells than one could draw."""
    cells = sum(
        region.shape.rows * region.shape.columns if isinstance(region.shape, GridShape) else 1
        for region in regions
    )
    if cells > MOST_DRAWN:
        raise ValueError(f"has {cells} regions, cells of grids counted; the most are {MOST_DRAWN}")
    return regions


@dataclass(frozen=True)
class Single:
    """One region to be set: where it comes from, its shape, and what is known of it.

    index : of the DrawnRegion in its list. cell : within a grid, else None.
    """

    index: int
    cell: int | None
    shape: Shape
    name: str
    group: str
    attributes: dict[str, str]
    frame: str = "file"


def singles(regions: Sequence[DrawnRegion], sample: str) -> Iterator[Single]:
    """Return the regions of a sample one by one, grids taken apart."""
    for index, region in enumerate(regions):
        if not region.is_in(sample):
            continue
        if isinstance(region.shape, GridShape):
            for cell, shape in enumerate(region.shape.cells()):
                name = region.shape.name_of(cell)
                annotation = name, region.group, region.attributes, region.frame
                yield Single(index, cell, shape, *annotation)
        else:
            annotation = region.name, region.group, region.attributes, region.frame
            yield Single(index, None, region.shape, *annotation)


def numbers_of(regions: Sequence[DrawnRegion], index: int, sample: str) -> list[int]:
    """Return the numbers, from 1, that the region at an index of the list has in a sample."""
    each = singles(regions, sample)
    return [number for number, single in enumerate(each, start=1) if single.index == index]


def for_all_samples(region: DrawnRegion, placement: Placement, *, registered: bool) -> DrawnRegion:
    """Return the region for all samples, at the same position of each file.

    registered : pictures are brought into line by shifting them; the region then keeps its place in
    the picture, where `placement` has put it.
    """
    if not registered or region.frame == "picture":
        return region.model_copy(update={"sample": None})
    moved = region.shape.moved(*placed(placement, 0.0, 0.0))
    return region.model_copy(update={"sample": None, "frame": "picture", "shape": moved})


def usual_tolerance(histogram: Histogram) -> float:
    """Return a tolerance to begin a flood with: a twentieth of the span without the extremes."""
    span = histogram.quantile(0.99) - histogram.quantile(0.01) if histogram.total else 0.0
    return float(f"{span / 20:.2g}")


@dataclass(frozen=True, eq=False)
class Covering:
    """Drawn regions on a picture.

    labels : number in `singles` from 1, or 0. Where regions overlap the later one has the pixels.
    shared : pixels that more than one region covers.
    """

    labels: Labels
    singles: tuple[Single, ...]
    shared: int


def cover(regions: Sequence[DrawnRegion], sample: str, plane: Plane) -> Covering:
    """Set the drawn regions of a sample onto its picture.

    plane : the signal.
    """
    labels = np.zeros(plane.shape, np.int32)
    drawn_singles = tuple(singles(regions, sample))
    shared = 0
    for number, single in enumerate(drawn_singles, start=1):
        placement = plane.placement if single.frame == "file" else UNMOVED
        if isinstance(single.shape, FloodShape):
            at = placed(placement, single.shape.x, single.shape.y)
            mask = flooded(plane.as_float(), single.shape, (round(at[0]), round(at[1])))
            rows, columns = slice(0, plane.shape[0]), slice(0, plane.shape[1])
        else:
            rows, columns, mask = covered(single.shape, plane.shape, placement)
        part = labels[rows, columns]
        shared += int(np.count_nonzero(part[mask]))
        part[mask] = number
    return Covering(labels, drawn_singles, shared)


def flooded(values: NDArray[np.floating], shape: FloodShape, at: tuple[int, int]) -> Mask:
    """Return the pixels within the tolerance of the one at (x, y), both ends included.

    connected : only those that are reached from it through such pixels, by 4 neighbours.
    Nothing where (x, y) lies outside or is undefined.
    """
    height, width = values.shape
    x, y = at
    nothing = np.zeros(values.shape, np.bool_)
    if not (0 <= x < width and 0 <= y < height) or np.isnan(values[y, x]):
        return nothing
    alike = np.abs(values - values[y, x]) <= shape.tolerance
    if not shape.connected:
        return np.asarray(alike)
    labels, _ = connected(alike, 4)
    return np.asarray(labels == labels[y, x])

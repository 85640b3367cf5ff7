"""Where the numbers of regions stand: beside their region on a short leader, never on one.

Pure geometry on screen coordinates.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from rilievo.core.regions import RegionSet, number_in_class
from rilievo.ui.canvas.geometry import Geometry

# Above this many visible regions numbers would hide the picture.
MOST_NUMBERS = 250

_DIRECTIONS = tuple(
    (float(np.cos(a)), float(np.sin(a))) for a in np.deg2rad([-45, -135, 45, 135, -90, 0, 180, 90])
)
_GAP = 10.0
_LONGEST_NAME = 14


@dataclass(frozen=True)
class Position:
    """A number: its leader from (x0, y0) to (x1, y1), and the corner and size of its text."""

    region: int
    x0: float
    y0: float
    x1: float
    y1: float
    left: float
    top: float
    width: float
    height: float
    text: str = ""


def put_numbers(
    ids: Sequence[int],
    boxes: NDArray[np.float64],
    text_sizes: Sequence[tuple[float, float]],
    bounds: tuple[float, float],
) -> list[Position]:
    """Return a place for each number that fits without touching a region or another number.

    boxes : shape (n, 4), left, top, width, height on the screen. bounds : screen width, height.
    A number without a free place is left out.
    """
    taken = np.full((2 * len(ids), 4), -np.inf)
    taken[: len(ids)] = boxes
    positions: list[Position] = []
    for region, box, (width, height) in zip(ids, boxes, text_sizes, strict=True):
        position = _position(region, box, width, height, taken, bounds)
        if position is not None:
            taken[len(ids) + len(positions)] = (
                position.left,
                position.top,
                position.width,
                position.height,
            )
            positions.append(position)
    return positions


def _position(
    region: int,
    box: NDArray[np.float64],
    width: float,
    height: float,
    taken: NDArray[np.float64],
    bounds: tuple[float, float],
) -> Position | None:
    centre_x, centre_y = box[0] + box[2] / 2, box[1] + box[3] / 2
    for dx, dy in _DIRECTIONS:
        # The leader starts on the ellipse inscribed in the box, near the outline.
        x0, y0 = centre_x + dx * box[2] / 2, centre_y + dy * box[3] / 2
        x1, y1 = x0 + dx * _GAP, y0 + dy * _GAP
        left = x1 + 2 if dx > 0.3 else x1 - width - 2 if dx < -0.3 else x1 - width / 2
        top = y1 - height if dy < -0.3 else y1 if dy > 0.3 else y1 - height / 2
        inside = left >= 0 and left + width <= bounds[0] and top >= 0 and top + height <= bounds[1]
        if inside and not _touches(left, top, width, height, taken):
            return Position(region, x0, y0, x1, y1, left, top, width, height)
    return None


def _touches(
    left: float, top: float, width: float, height: float, boxes: NDArray[np.float64]
) -> bool:
    return bool(
        np.any(
            (left < boxes[:, 0] + boxes[:, 2])
            & (boxes[:, 0] < left + width)
            & (top < boxes[:, 1] + boxes[:, 3])
            & (boxes[:, 1] < top + height)
        )
    )


def label_of(regions: RegionSet, region: int) -> str:
    """Return what is written beside a region: its name, or its number."""
    label = regions.label_of(region)
    return label if len(label) <= _LONGEST_NAME else str(number_in_class(region))


class NumberPositions:
    """The positions of all numbers, worked out once for regions that are seen in one way."""

    def __init__(self) -> None:
        self._known: tuple[RegionSet | None, Geometry | None, list[Position]] = (None, None, [])

    def at(self, geometry: Geometry, regions: RegionSet | None) -> list[Position]:
        """Return the positions; none for too many regions."""
        if regions is None:
            return []
        known_regions, known_geometry, positions = self._known
        if known_regions is regions and known_geometry == geometry:
            return positions
        ids, boxes = geometry.boxes_of(regions)
        positions = []
        if ids.size <= MOST_NUMBERS:
            sizes = [(7.5 * len(label_of(regions, int(i))) + 2, 14.0) for i in ids]
            found = put_numbers([int(i) for i in ids], boxes, sizes, geometry.size)
            positions = [replace(one, text=label_of(regions, one.region)) for one in found]
        self._known = (regions, geometry, positions)
        return positions

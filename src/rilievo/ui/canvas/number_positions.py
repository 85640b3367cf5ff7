"""Where the numbers of regions stand: beside their region on a short leader, never on one.

Pure geometry on screen coordinates.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.regions import RegionSet, number_in_class
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.theme.style import scaled

# More numbers than this, or one for less of the picture in square pixels, would hide it.
MOST_NUMBERS = 250
_AREA_EACH = 3_600.0
Box = tuple[float, float, float, float]

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
    bounds: Box,
    covered: Sequence[Box] = (),
) -> list[Position]:
    """Return a place for each number that fits without touching a region or another number.

    boxes : shape (n, 4), left, top, width, height on the screen. bounds : where numbers may stand,
    left, top, width, height. covered : what lies over the picture there.
    A number without a free place is left out.
    """
    taken = np.full((2 * len(ids) + len(covered), 4), -np.inf)
    taken[: len(ids)] = boxes
    if covered:
        taken[-len(covered) :] = covered
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
    bounds: Box,
) -> Position | None:
    centre_x, centre_y = box[0] + box[2] / 2, box[1] + box[3] / 2
    for dx, dy in _DIRECTIONS:
        # The leader starts on the ellipse inscribed in the box, near the outline.
        x0, y0 = centre_x + dx * box[2] / 2, centre_y + dy * box[3] / 2
        x1, y1 = x0 + dx * _GAP, y0 + dy * _GAP
        left = x1 + 2 if dx > 0.3 else x1 - width - 2 if dx < -0.3 else x1 - width / 2
        top = y1 - height if dy < -0.3 else y1 if dy > 0.3 else y1 - height / 2
        right, bottom = bounds[0] + bounds[2], bounds[1] + bounds[3]
        inside = (
            left >= bounds[0] and left + width <= right
            and top >= bounds[1] and top + height <= bottom
        )  # fmt: skip
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
        self._known: tuple[RegionSet | None, Any, list[Position]] = (None, None, [])

    def at(
        self, geometry: Geometry, regions: RegionSet | None, covered: Sequence[Box] = ()
    ) -> list[Position]:
        """Return the positions; of many regions those of some, spread over all."""
        if regions is None:
            return []
        view = (geometry, tuple(covered))
        known_regions, known_view, positions = self._known
        if known_regions is regions and known_view == view:
            return positions
        ids, boxes = geometry.boxes_of(regions)
        image = geometry.image_box
        bounds = (image.left(), image.top(), image.width(), image.height())
        kept = _thinned(ids.size, bounds[2] * bounds[3])
        names = [label_of(regions, int(i)) for i in ids[kept]]
        sizes = [(scaled(15) / 2 * len(name) + 2.0, float(scaled(14))) for name in names]
        # Regions without a number are not covered by those of others either.
        others = np.delete(boxes, kept, axis=0)
        blocked = [*covered, *map(tuple, others.tolist())]
        found = put_numbers(ids[kept].tolist(), boxes[kept], sizes, bounds, blocked)
        texts = dict(zip(ids[kept].tolist(), names, strict=True))
        positions = [replace(one, text=texts[one.region]) for one in found]
        self._known = (regions, view, positions)
        return positions


def _thinned(count: int, area: float) -> NDArray[np.int64]:
    """Which of so many regions have a number: all, or of a crowd every so many-th."""
    room = min(MOST_NUMBERS, max(int(area / _AREA_EACH), 1))
    return np.arange(0, count, max(1, -(-count // room)))

"""The values along a line: what a profile shows, and how steep it is."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image.image import Calibration, Plane
from rilievo.core.parameters import Parameters
from rilievo.core.result_frame import ResultFrame

Floats = NDArray[np.float64]
Across = Literal["mean", "sum"]
WIDEST = 501
_MOST_POINTS = 1_000_000


class Line(Parameters):
    """A line from one place to another; pixel centres have whole coordinates.

    width : pixels across, odd or even; the values across are averaged or added.
    """

    x0: float = Field(ge=-1e7, le=1e7)
    y0: float = Field(ge=-1e7, le=1e7)
    x1: float = Field(ge=-1e7, le=1e7)
    y1: float = Field(ge=-1e7, le=1e7)
    width: int = Field(1, ge=1, le=WIDEST, title="Width")
    across: Across = Field("mean", title="Across")

    @property
    def length(self) -> float:
        """Length in pixels."""
        return math.hypot(self.x1 - self.x0, self.y1 - self.y0)


def row_line(y: int, shape: tuple[int, int]) -> Line:
    """Return the line along a full row of an image of (height, width)."""
    return Line(x0=0, y0=y, x1=shape[1] - 1, y1=y)


def column_line(x: int, shape: tuple[int, int]) -> Line:
    """Return the line along a full column."""
    return Line(x0=x, y0=0, x1=x, y1=shape[0] - 1)


@dataclass(frozen=True, eq=False)
class Profile:
    """Values along a line.

    distance : from its start, pixels, shape (n,). x, y : image positions of the points.
    values : NaN outside the image and where nothing is defined.
    """

    distance: Floats
    x: Floats
    y: Floats
    values: Floats


@dataclass(frozen=True)
class ProfileFacts:
    """Extremes with their distances, and the slope of the best straight line, per pixel."""

    lowest: float
    lowest_at: float
    highest: float
    highest_at: float
    mean: float
    slope: float


def line_profile(plane: Plane, line: Line) -> Profile:
    """Return the values at unit steps along a line.

    Between pixel centres values are interpolated linearly in both directions; on them they are
    the pixels' own. A line of width w is w parallel lines one pixel apart; undefined points are
    left out of the mean or sum across, and a point without any is undefined.
    """
    count = min(math.floor(line.length + 1e-9) + 1, _MOST_POINTS)
    distance = np.arange(count, dtype=np.float64)
    if line.length > 0:
        along = ((line.x1 - line.x0) / line.length, (line.y1 - line.y0) / line.length)
    else:
        along = (1.0, 0.0)
    x = line.x0 + distance * along[0]
    y = line.y0 + distance * along[1]
    aside = np.arange(line.width) - (line.width - 1) / 2
    total, defined = np.zeros(count), np.zeros(count)
    for step in aside:
        values = interpolated(plane, x - step * along[1], y + step * along[0])
        good = np.isfinite(values)
        total[good] += values[good]
        defined[good] += 1
    with np.errstate(invalid="ignore", divide="ignore"):
        result = total / defined if line.across == "mean" else np.where(defined, total, np.nan)
    return Profile(distance, x, y, result)


def interpolated(plane: Plane, x: Floats, y: Floats) -> Floats:
    """Return values at image positions by bilinear interpolation; NaN outside the pixels' area.

    Positions within half a pixel of the border have the value of the border pixels.
    """
    height, width = plane.shape
    inside = (x >= -0.5) & (x <= width - 0.5) & (y >= -0.5) & (y <= height - 0.5)
    x, y = np.clip(x, 0, width - 1), np.clip(y, 0, height - 1)
    left, top = np.floor(x).astype(np.intp), np.floor(y).astype(np.intp)
    right, bottom = np.minimum(left + 1, width - 1), np.minimum(top + 1, height - 1)
    across, down = x - left, y - top
    result = np.zeros(x.shape)
    for rows, columns, weight in (
        (top, left, (1 - across) * (1 - down)),
        (top, right, across * (1 - down)),
        (bottom, left, (1 - across) * down),
        (bottom, right, across * down),
    ):
        values = plane.pixels[rows, columns].astype(np.float64)
        # A pixel that has no part in the point may be undefined.
        result += np.where(weight > 1e-12, values * weight, 0.0)
    return np.where(inside & np.isfinite(result), result, np.nan)


def profile_facts(profile: Profile) -> ProfileFacts:
    """Return extremes, mean and slope of the defined points; NaN for none.

    slope : least-squares straight line, values per pixel.
    """
    good = np.isfinite(profile.values)
    if not good.any():
        return ProfileFacts(*[math.nan] * 6)
    values, distance = profile.values[good], profile.distance[good]
    low, high = int(values.argmin()), int(values.argmax())
    away = distance - distance.mean()
    spread = float((away * away).sum())
    slope = float((away * (values - values.mean())).sum()) / spread if spread > 0 else math.nan
    return ProfileFacts(
        lowest=float(values[low]),
        lowest_at=float(distance[low]),
        highest=float(values[high]),
        highest_at=float(distance[high]),
        mean=float(values.mean()),
        slope=slope,
    )


def profile_frame(profiles: Mapping[str, Profile], calibration: Calibration) -> ResultFrame:
    """Return a row a point: distance in px and, where known, in a unit; x, y; a column a profile.

    profiles : by name, all along the same line.
    """
    first = next(iter(profiles.values()))
    columns: dict[str, Floats] = {"distance_px": first.distance}
    if calibration.sides is not None:
        width, height = calibration.sides
        away = np.hypot((first.x - first.x[0]) * width, (first.y - first.y[0]) * height)
        columns[f"distance_{calibration.unit}"] = away
    columns |= {"x": first.x, "y": first.y}
    columns |= {name: profile.values for name, profile in profiles.items()}
    return ResultFrame(columns)

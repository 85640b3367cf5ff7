"""Gray and colour cards in a picture: what their patches reflect, and where they lie.

The numbers of the two ready layouts are round ones of our own; what a bought card reflects is
typed from its leaflet.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError

CardKind = Literal["neutral_6", "colours_24", "typed"]
Values = NDArray[np.float64]
# Shares of red, green and blue light in brightness, by ITU-R BT.709.
_LUMA = (0.2126, 0.7152, 0.0722)
_COLUMNS = {"red": 0, "green": 1, "blue": 2}
_SAME = 1e-9
# Rows of a picture that are looked at together.
_ROWS = 64


@dataclass(frozen=True, eq=False)
class CardLayout:
    """Patches row by row. reflectances : shape (rows · columns, 3), red, green, blue, 0 to 1."""

    title: str
    rows: int
    columns: int
    reflectances: Values

    def known_for(self, channel: str) -> Values:
        """Return what each patch reflects in a channel, shape (n,); NaN where that is not known.

        A channel that is no colour and no brightness knows the neutral patches alone.
        """
        word = channel.split(" ", maxsplit=1)[0].lower()
        if word in _COLUMNS:
            return self.reflectances[:, _COLUMNS[word]]
        if word == "brightness":
            return np.asarray(self.reflectances @ np.array(_LUMA))
        neutral = np.ptp(self.reflectances, axis=1) <= _SAME
        return np.where(neutral, self.reflectances[:, 0], np.nan)


def _gray(*values: float) -> list[tuple[float, float, float]]:
    return [(v, v, v) for v in values]


_NEUTRAL = _gray(0.88, 0.56, 0.34, 0.19, 0.09, 0.035)
# Red, green, blue: dull colours, strong ones, their mixtures, then the neutral ones.
_COLOURED = [
    (0.30, 0.22, 0.15), (0.52, 0.36, 0.28), (0.20, 0.30, 0.45), (0.24, 0.33, 0.16),
    (0.36, 0.34, 0.52), (0.25, 0.54, 0.48),
    (0.62, 0.30, 0.08), (0.12, 0.16, 0.50), (0.55, 0.15, 0.16), (0.18, 0.10, 0.24),
    (0.45, 0.56, 0.10), (0.66, 0.44, 0.08),
    (0.06, 0.08, 0.36), (0.12, 0.40, 0.14), (0.48, 0.07, 0.08), (0.70, 0.62, 0.07),
    (0.50, 0.16, 0.40), (0.08, 0.36, 0.46),
]  # fmt: skip
CARDS: dict[str, CardLayout] = {
    "neutral_6": CardLayout("Six neutral steps", 1, 6, np.array(_NEUTRAL)),
    "colours_24": CardLayout("24 colours, the last six neutral", 4, 6,
                             np.array([*_COLOURED, *_NEUTRAL])),
}  # fmt: skip


def typed_card(rows: int, columns: int, text: str) -> CardLayout:
    """Return the layout of typed reflectances: one patch a line, one number or red, green, blue.

    Numbers are shares from 0 to 1. Raises StepError that names the line.
    """
    colours: list[tuple[float, float, float]] = []
    for number, line in enumerate(text.splitlines(), start=1):
        words = line.replace(",", " ").replace(";", " ").replace("\t", " ").split()
        if not words:
            continue
        try:
            values = [float(word) for word in words]
        except ValueError:
            values = []
        if len(values) not in (1, 3) or not all(0 < value <= 2 for value in values):
            raise StepError(
                f"Line {number} of the card must be one reflectance, or three for red, green and "
                f"blue, each above 0 and at most 2. Got “{line.strip()}”."
            )
        red, green, blue = values if len(values) == 3 else values * 3
        colours.append((red, green, blue))
    if len(colours) != rows * columns:
        raise StepError(
            f"A card of {rows} × {columns} patches needs {rows * columns} lines. "
            f"Got {len(colours)}."
        )
    return CardLayout("typed", rows, columns, np.array(colours))


@dataclass(frozen=True, eq=False)
class PlacedCard:
    """A card where it lies in a picture.

    corners : of its patches' outline, clockwise from the outer corner of the first patch, shape
    (4, 2) as x, y. A point of the card is (u, v), each from 0 to 1 along rows and columns.
    """

    layout: CardLayout
    corners: Values

    def to_picture(self, u: Values, v: Values) -> tuple[Values, Values]:
        """Return where points of the card lie."""
        return _moved(_plane_map(_SQUARE, self.corners), u, v)

    def to_card(self, x: Values, y: Values) -> tuple[Values, Values]:
        """Return the points of the card at positions of the picture."""
        return _moved(_plane_map(self.corners, _SQUARE), x, y)

    def outline(self, row: int, column: int, inner: float) -> Values:
        """Return the corners of the middle of a patch, shape (4, 2). inner : share of its side."""
        u = (column + 0.5 + inner * (_SQUARE[:, 0] - 0.5)) / self.layout.columns
        v = (row + 0.5 + inner * (_SQUARE[:, 1] - 0.5)) / self.layout.rows
        return np.column_stack(self.to_picture(u, v))

    def patches(self, shape: tuple[int, int], inner: float) -> list[tuple[slice, slice, Any]]:
        """Return rows, columns and mask of each patch's middle inside a picture, row by row."""
        return [
            self._inside(self.outline(row, column, inner), shape, row, column, inner)
            for row in range(self.layout.rows)
            for column in range(self.layout.columns)
        ]

    def _inside(
        self, outline: Values, shape: tuple[int, int], row: int, column: int, inner: float
    ) -> tuple[slice, slice, Any]:
        low = np.maximum(np.floor(outline.min(axis=0)).astype(int), 0)
        high = np.minimum(np.ceil(outline.max(axis=0)).astype(int) + 1, (shape[1], shape[0]))
        high = np.maximum(high, low)
        y, x = np.mgrid[low[1] : high[1], low[0] : high[0]]
        u, v = self.to_card(x.astype(np.float64), y.astype(np.float64))
        away_u = np.abs(u * self.layout.columns - column - 0.5)
        away_v = np.abs(v * self.layout.rows - row - 0.5)
        mask = (away_u <= inner / 2) & (away_v <= inner / 2)
        return slice(low[1], high[1]), slice(low[0], high[0]), mask

    def surround(self, shape: tuple[int, int], gap: float, width: float) -> NDArray[np.bool_]:
        """Return the pixels of a frame around the patches, shape of the picture.

        gap, width : of the frame, in sides of a patch.
        """
        across, down = ((gap + width) / n for n in (self.layout.columns, self.layout.rows))
        u, v = (np.array([-a, 1 + a, 1 + a, -a]) for a in (across, down))
        outer = np.column_stack(self.to_picture(u, np.roll(v, 1)))
        low = np.clip(np.floor(outer.min(axis=0)).astype(int), 0, (shape[1], shape[0]))
        high = np.clip(np.ceil(outer.max(axis=0)).astype(int) + 1, low, (shape[1], shape[0]))
        inside = np.zeros(shape, np.bool_)
        for top in range(int(low[1]), int(high[1]), _ROWS):
            rows = slice(top, min(top + _ROWS, int(high[1])))
            y, x = np.mgrid[rows, low[0] : high[0]].astype(np.float64)
            u, v = self.to_card(x, y)
            beyond = np.maximum(
                np.maximum(-u, u - 1) * self.layout.columns,
                np.maximum(-v, v - 1) * self.layout.rows,
            )
            inside[rows, low[0] : high[0]] = (beyond > gap) & (beyond <= gap + width)
        return inside


_SQUARE = np.array([(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0)])


def place_card(layout: CardLayout, corners: Sequence[tuple[float, float]]) -> PlacedCard:
    """Return the card at four corners. Raises StepError where they are no four-sided outline."""
    points = np.array(corners, np.float64).reshape(-1, 2)
    if len(points) != 4:
        raise StepError(
            "The card is not marked yet; click its four corners, beginning at the first patch and "
            "going along its first row."
        )
    sides = np.roll(points, -1, axis=0) - points
    following = np.roll(sides, -1, axis=0)
    turns = sides[:, 0] * following[:, 1] - sides[:, 1] * following[:, 0]
    if not ((turns > 1).all() or (turns < -1).all()):
        raise StepError(
            "The corners of the card cross each other or lie on a line; click them one after "
            "another around the card."
        )
    return PlacedCard(layout, points)


def _plane_map(source: Values, target: Values) -> Values:
    """The projection that takes four points to four others, shape (3, 3).

    Source: Hartley & Zisserman 2004, Multiple View Geometry, section 4.1.
    """
    rows = []
    for (x, y), (u, v) in zip(source, target, strict=True):
        rows.append([x, y, 1, 0, 0, 0, -u * x, -u * y])
        rows.append([0, 0, 0, x, y, 1, -v * x, -v * y])
    solved = np.linalg.solve(np.array(rows), target.ravel())
    return np.append(solved, 1.0).reshape(3, 3)


def _moved(matrix: Values, x: Values, y: Values) -> tuple[Values, Values]:
    below = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2]
    below = np.where(below == 0, np.nan, below)
    return (
        (matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2]) / below,
        (matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2]) / below,
    )

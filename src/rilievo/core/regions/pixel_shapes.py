"""Shapes of single pixels: painted or kept row by row, and flooded from a clicked one."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from pydantic import Field, field_validator

from rilievo.core.regions.shape import (
    MOST_POINTS,
    Box,
    Floats,
    Mask,
    Shape,
)

_MOST_PIXELS = 1_000_000_000


class StencilShape(Shape):
    """Any set of pixels, row by row: painted with a brush, or a region as it was."""

    kind: Literal["stencil"] = Field("stencil", description="names the shape")
    rows: tuple[tuple[int, int, int], ...] = Field(
        min_length=1, max_length=MOST_POINTS, description="y, first x, last x of each stretch"
    )

    @field_validator("rows")
    @classmethod
    def _not_too_far(
        cls, rows: tuple[tuple[int, int, int], ...]
    ) -> tuple[tuple[int, int, int], ...]:
        if any(first > last for _, first, last in rows):
            raise ValueError("has a stretch that ends before it begins")
        wide = max(row[2] for row in rows) - min(row[1] for row in rows) + 1
        high = max(row[0] for row in rows) - min(row[0] for row in rows) + 1
        if wide * high > _MOST_PIXELS:
            raise ValueError(f"reaches over {wide} × {high} pixels, more than a picture has")
        return rows

    @classmethod
    def of(cls, mask: Mask, x: int = 0, y: int = 0) -> StencilShape:
        """Return the pixels of a mask whose first pixel lies at (x, y); it must have some."""
        padded = np.zeros((mask.shape[0], mask.shape[1] + 2), np.int8)
        padded[:, 1:-1] = mask
        steps = np.diff(padded, axis=1)
        rows, starts = np.nonzero(steps == 1)
        ends = np.nonzero(steps == -1)[1] - 1
        return cls(
            rows=tuple(
                (int(r) + y, int(a) + x, int(b) + x)
                for r, a, b in zip(rows, starts, ends, strict=True)
            )
        )

    def mask(self) -> tuple[Mask, int, int]:
        """Return its pixels as a mask, with the position of the mask's first pixel."""
        left = min(row[1] for row in self.rows)
        top = min(row[0] for row in self.rows)
        wide = max(row[2] for row in self.rows) - left + 1
        mask = np.zeros((max(row[0] for row in self.rows) - top + 1, wide), np.bool_)
        for y, first, last in self.rows:
            mask[y - top, first - left : last - left + 1] = True
        return mask, left, top

    @property
    def area(self) -> int:
        """Number of pixels."""
        return sum(last - first + 1 for _, first, last in self.rows)

    def contains(self, x: Floats, y: Floats) -> Mask:
        mask, left, top = self.mask()
        columns = np.floor(x + 0.5).astype(np.int64) - left
        rows = np.floor(y + 0.5).astype(np.int64) - top
        columns, rows = np.broadcast_arrays(columns, rows)
        within = (columns >= 0) & (rows >= 0)
        within &= (columns < mask.shape[1]) & (rows < mask.shape[0])
        result = np.zeros(columns.shape, np.bool_)
        result[within] = mask[rows[within], columns[within]]
        return result

    def box(self) -> Box:
        rows = np.array(self.rows)
        low, high = rows.min(axis=0), rows.max(axis=0)
        return low[1] - 0.5, low[0] - 0.5, high[2] + 0.5, high[0] + 0.5

    def moved(self, right: float, down: float) -> StencilShape:
        dx, dy = round(right), round(down)
        return StencilShape(rows=tuple((y + dy, a + dx, b + dx) for y, a, b in self.rows))

    def grown(self, by: float) -> StencilShape:
        from rilievo.core.regions.binary_morphology import eroded, grown  # noqa: PLC0415 (imports this)

        mask, left, top = self.mask()
        room = max(1, math.ceil(abs(by)))
        labels = np.pad(mask, room).astype(np.int32)
        changed = grown(labels, by) if by >= 0 else eroded(labels, -by)
        return StencilShape.of(changed > 0, left - room, top - room) if changed.any() else self

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> StencilShape:
        twice = round(2 * middle)
        rows = [
            (y, twice - b, twice - a) if axis == "x" else (twice - y, a, b) for y, a, b in self.rows
        ]
        return StencilShape(rows=tuple(sorted(rows)))


class FloodShape(Shape):
    """Pixels like a clicked one: what it covers depends on the picture, see `drawn_shapes`."""

    kind: Literal["flood"] = Field("flood", description="names the shape")
    x: int = Field(title="x", json_schema_extra={"unit": "px"}, description="first pixel")
    y: int = Field(title="y", json_schema_extra={"unit": "px"}, description="first pixel")
    tolerance: float = Field(
        ge=0,
        title="Tolerance",
        json_schema_extra={"unit": "signal"},
        description="largest difference from the value of the first pixel",
    )
    connected: bool = Field(
        True,
        title="Connected only",
        description="whether only pixels that hang together with the first are taken",
    )

    def contains(self, x: Floats, y: Floats) -> Mask:
        return np.asarray((np.round(x) == self.x) & (np.round(y) == self.y))

    def box(self) -> Box:
        return self.x - 0.5, self.y - 0.5, self.x + 0.5, self.y + 0.5

    def moved(self, right: float, down: float) -> FloodShape:
        return self.model_copy(update={"x": self.x + round(right), "y": self.y + round(down)})

    def grown(self, by: float) -> FloodShape:
        return self.model_copy(update={"tolerance": max(self.tolerance + by, 0.0)})

    def mirrored(self, middle: float, axis: Literal["x", "y"]) -> FloodShape:
        there = {"x": round(2 * middle) - self.x} if axis == "x" else {
            "y": round(2 * middle) - self.y
        }  # fmt: skip
        return self.model_copy(update=there)

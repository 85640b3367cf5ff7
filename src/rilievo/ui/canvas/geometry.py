"""Where an image pixel stands in the widget, and the other way round."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QImage

from rilievo.core.parameters import Rectangle
from rilievo.core.regions import RegionSet
from rilievo.core.sampling import Viewport


@dataclass(frozen=True)
class Geometry:
    """A viewport over an image, seen through a widget.

    shape : height and width of the image. ratio : device pixels per widget pixel.
    """

    view: Viewport
    shape: tuple[int, int]
    ratio: float

    @property
    def scale(self) -> float:
        """Widget pixels per image pixel."""
        return self.view.zoom / self.ratio

    @property
    def size(self) -> tuple[float, float]:
        """Width and height of the widget."""
        return self.view.width / self.ratio, self.view.height / self.ratio

    def to_widget(self, x: float, y: float) -> QPointF:
        """Return the widget position of an image position; (0, 0) is a pixel's centre."""
        row = self.shape[0] - (y + 0.5) if self.view.bottom_up else y + 0.5
        return QPointF((x + 0.5 - self.view.left) * self.scale, (row - self.view.top) * self.scale)

    def to_image(self, at: QPointF) -> QPointF:
        """Return the image position under a widget position, with fractions of a pixel."""
        x = self.view.left + at.x() / self.scale - 0.5
        row = self.view.top + at.y() / self.scale
        return QPointF(x, (self.shape[0] - row if self.view.bottom_up else row) - 0.5)

    def _under(self, at: QPointF) -> tuple[int, int]:
        x = math.floor(self.view.left + at.x() / self.scale)
        row = self.view.top + at.y() / self.scale
        return x, math.floor(self.shape[0] - row if self.view.bottom_up else row)

    def to_pixel(self, at: QPointF) -> tuple[int, int] | None:
        """Return the image pixel under a widget position, or None outside the image."""
        x, y = self._under(at)
        inside = 0 <= x < self.shape[1] and 0 <= y < self.shape[0]
        return (x, y) if inside else None

    def nearest_pixel(self, at: QPointF) -> tuple[int, int]:
        """Return the image pixel nearest to a widget position."""
        x, y = self._under(at)
        return min(max(x, 0), self.shape[1] - 1), min(max(y, 0), self.shape[0] - 1)

    def place_of(self, image: QImage, drawn: Viewport) -> QRectF:
        """Return where an image that was drawn for an earlier viewport belongs now."""
        view, scale = self.view, self.scale / drawn.zoom
        return QRectF(
            (drawn.left - view.left) * self.scale,
            (drawn.top - view.top) * self.scale,
            image.width() * scale,
            image.height() * scale,
        )

    def box_of(self, rectangle: Rectangle) -> QRectF:
        """Return the outline of whole pixels in the widget."""
        first = self.to_widget(rectangle.x - 0.5, rectangle.y - 0.5)
        last = self.to_widget(
            rectangle.x + rectangle.width - 0.5, rectangle.y + rectangle.height - 0.5
        )
        return QRectF(first, last).normalized()

    def boxes_of(self, regions: RegionSet) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Return numbers and boxes (left, top, width, height) of the regions in the widget."""
        boxes = regions.boxes.astype(np.float64)
        if self.view.bottom_up:
            boxes[:, 1] = self.shape[0] - boxes[:, 1] - boxes[:, 3]
        boxes[:, 0] -= self.view.left
        boxes[:, 1] -= self.view.top
        boxes *= self.scale
        width, height = self.size
        seen = (
            (boxes[:, 0] < width)
            & (boxes[:, 1] < height)
            & (boxes[:, 0] + boxes[:, 2] > 0)
            & (boxes[:, 1] + boxes[:, 3] > 0)
        )
        return regions.ids[seen], boxes[seen]


def nice_length(longest: float) -> float:
    """Return the largest of 1, 2, 5 × 10ⁿ that is not above `longest`."""
    if not longest > 0 or not math.isfinite(longest):
        return 1.0
    power = 10.0 ** math.floor(math.log10(longest))
    return max(step * power for step in (1.0, 2.0, 5.0) if step * power <= longest * (1 + 1e-9))

"""Where an image pixel stands in the widget, and the other way round."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QImage

from rilievo.core.parameters import Rectangle
from rilievo.core.regions import RegionSet
from rilievo.core.view.sampling import Viewport

# A tiny image is not blown up further than this to fit.
_MOST_FITTED = 32.0


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

    def position_of(self, image: QImage, drawn: Viewport) -> QRectF:
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

    @property
    def image_box(self) -> QRectF:
        """The part of the widget that the image covers."""
        left, top = -self.view.left * self.scale, -self.view.top * self.scale
        whole = QRectF(left, top, self.shape[1] * self.scale, self.shape[0] * self.scale)
        return whole & QRectF(0, 0, *self.size)

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


def zoomed(view: Viewport, zoom: float, at: QPointF) -> Viewport:
    """Return a view at another zoom about a point of the screen, in device pixels."""
    return replace(
        view,
        zoom=zoom,
        left=view.left + at.x() / view.zoom - at.x() / zoom,
        top=view.top + at.y() / view.zoom - at.y() / zoom,
    )


def panned(view: Viewport, dx: float, dy: float) -> Viewport:
    """Return a view with the picture moved by device pixels."""
    return replace(view, left=view.left - dx / view.zoom, top=view.top - dy / view.zoom)


def fit_zoom(size: tuple[int, int], shape: tuple[int, int], taken: float) -> float:
    """Return the zoom at which a whole image fits.

    size : width and height of the screen area in device pixels. shape : height and width of the
    image. taken : device pixels that are taken on the left and at the top.
    """
    return min(max(size[0] - taken, 1) / shape[1], max(size[1] - taken, 1) / shape[0], _MOST_FITTED)


def fitted(
    size: tuple[int, int],
    shape: tuple[int, int],
    taken: float,
    *,
    bottom_up: bool,
    fill: bool = False,
) -> Viewport:
    """Return the view of a whole image in the middle of what is not taken.

    fill : no ground shows; the longer side of the room is filled, and the image goes beyond it.
    """
    zoom = fit_zoom(size, shape, taken)
    if fill:
        across, down = max(size[0] - taken, 1) / shape[1], max(size[1] - taken, 1) / shape[0]
        zoom = min(max(across, down), _MOST_FITTED)
    return Viewport(
        left=(shape[1] - (size[0] + taken) / zoom) / 2,
        top=(shape[0] - (size[1] + taken) / zoom) / 2,
        zoom=zoom,
        width=size[0],
        height=size[1],
        bottom_up=bottom_up,
    )

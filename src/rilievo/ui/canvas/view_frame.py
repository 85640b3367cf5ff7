"""What part of the image a picture shows: fitted, zoomed, moved."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtWidgets import QWidget

from rilievo.core.view.sampling import Viewport
from rilievo.ui.canvas.canvas_geometry import Geometry, fit_zoom, fitted, panned, zoomed
from rilievo.ui.canvas.rulers import THICK

_MOST_ZOOM = 64.0
_LEAST_SHOWN = 32


class ViewFrame:
    """The part of an image that a widget shows; tells when it has moved.

    shape : height and width of the image; None without one. fitted : whether all of it is shown,
    also when the widget becomes larger or smaller. rulers : whether they take room.
    """

    def __init__(self, widget: QWidget, moved: Callable[[], None], *, rulers: bool) -> None:
        self._widget, self._moved = widget, moved
        self.view: Viewport | None = None
        self.shape: tuple[int, int] | None = None
        self.bottom_up = False
        self.rulers = rulers
        self._fitted = True
        self._fills = False

    # -- what is shown

    @property
    def zoom(self) -> float:
        """Screen pixels per image pixel."""
        return self.view.zoom if self.view else 1.0

    @property
    def geometry(self) -> Geometry | None:
        """Where pixels stand in the widget; None without a picture."""
        if self.view is None or self.shape is None:
            return None
        return Geometry(self.view, self.shape, self._ratio)

    def to_widget(self, x: float, y: float) -> QPointF:
        """Return the widget position of an image position; (0, 0) is a pixel's centre."""
        geometry = self.geometry
        return QPointF() if geometry is None else geometry.to_widget(x, y)

    @property
    def _ratio(self) -> float:
        """Device pixels per pixel of the widget."""
        return self._widget.devicePixelRatioF()

    def _device_size(self) -> tuple[int, int]:
        """Width and height in device pixels."""
        return round(self._widget.width() * self._ratio), round(self._widget.height() * self._ratio)

    @property
    def _ruler(self) -> float:
        """Device pixels that the rulers take on the left and at the top."""
        return THICK * self._ratio if self.rulers else 0.0

    # -- another image

    def clear(self) -> None:
        """Show no image."""
        self.shape = self.view = None

    def take_image(self, shape: tuple[int, int], *, bottom_up: bool) -> bool:
        """Show an image; one of another size is fitted. Return whether it is of another size."""
        flipped = self.view is not None and self.bottom_up != bottom_up
        self.bottom_up = bottom_up
        if shape == self.shape and self.view is not None and not flipped:
            return False
        self.shape, self._fitted = shape, True
        return True

    # -- moving

    def fit(self, *, fill: bool = False) -> None:
        """Show the whole image, or fill the widget with it."""
        self._fitted, self._fills = True, fill
        self.refit()

    def refit(self) -> None:
        """Fit the image anew, if all of it is shown."""
        if self._fitted and self.shape is not None:
            size = self._device_size()
            self.view = fitted(
                size, self.shape, self._ruler, bottom_up=self.bottom_up, fill=self._fills
            )
            self._moved()

    def set_view(self, view: Viewport) -> None:
        """Show a part of the image."""
        self.view = view
        self._fitted = False
        self._moved()

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a point of the widget, by default its middle."""
        if self.view is None or self.shape is None:
            return
        middle = QPointF(self._widget.width() / 2, self._widget.height() / 2)
        fit = fit_zoom(self._device_size(), self.shape, self._ruler)
        least = min(_LEAST_SHOWN / max(self.shape), fit)
        zoom = float(np.clip(self.view.zoom * factor, least, _MOST_ZOOM))
        self.set_view(zoomed(self.view, zoom, (at or middle) * self._ratio))

    def zoom_to_box(self, box: QRectF) -> None:
        """Show a box of image positions as large as it fits."""
        if self.view is None:
            return
        width, height = self._widget.width(), self._widget.height()
        room = min(width / box.width(), height / box.height()) * self._ratio
        self.view = replace(self.view, zoom=float(np.clip(room, 1e-3, _MOST_ZOOM)))
        self.centre_on(box.center().x(), box.center().y())

    def centre_on(self, x: float, y: float) -> None:
        """Bring an image position into the middle."""
        at = self.to_widget(x, y)
        self.pan(self._widget.width() / 2 - at.x(), self._widget.height() / 2 - at.y())

    def pan(self, dx: float, dy: float) -> None:
        """Move the image by widget pixels."""
        if self.view is not None:
            self.set_view(panned(self.view, dx * self._ratio, dy * self._ratio))

    def resize(self) -> None:
        """Follow another size of the widget."""
        if self.view is None:
            return
        width, height = self._device_size()
        self.view = replace(self.view, width=width, height=height)
        if self._fitted:
            self.refit()
        else:
            self._moved()

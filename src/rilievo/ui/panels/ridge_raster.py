"""Ridges of many samples: a picture with a row a sample, stronger where more pixels are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyqtgraph
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QColor

from rilievo.ui.theme.roles import Theme

# How strong the least and the largest share are.
_WEAKEST, _STRONGEST = 10.0, 245.0


@dataclass(frozen=True, eq=False)
class Drawn:
    """What is drawn: heights from 0 to 1, a row a sample, or a picture of them."""

    heights: NDArray[np.float64]
    raster: NDArray[np.uint8] | None


def raster_of(heights: NDArray[np.float64], colours: Sequence[str]) -> NDArray[np.uint8]:
    """Return heights as RGBA, shape (rows, bins, 4): in the sample's colour, opaque where high."""
    picture = np.empty((*heights.shape, 4), np.uint8)
    known = {name: QColor(name) for name in set(colours)}
    tints = np.array([[known[n].red(), known[n].green(), known[n].blue()] for n in colours])
    picture[..., :3] = tints[:, None, :]
    picture[..., 3] = np.where(heights > 0, _WEAKEST + (_STRONGEST - _WEAKEST) * heights, 0)
    return picture


class Raster:
    """The picture in a plot, with a frame around the row in focus."""

    def __init__(self, item: pyqtgraph.PlotItem, theme: Theme) -> None:
        self._item = item
        self.image = pyqtgraph.ImageItem(axisOrder="row-major")
        self.image.setZValue(-10)
        self._frame = pyqtgraph.PlotCurveItem()
        self._theme = theme
        self._dress()
        theme.changed.connect(self._dress)
        self._frame.setZValue(40)

    def _dress(self) -> None:
        self._frame.setPen(pyqtgraph.mkPen(self._theme.colour("ink"), width=1.2))

    def show_rows(
        self, picture: NDArray[np.uint8] | None, extent: tuple[float, float], focused: int | None
    ) -> None:
        """Show a picture over a range of levels; None takes it away. focused : a row of it."""
        if picture is None:
            for one in (self.image, self._frame):
                if one.scene() is not None:
                    self._item.removeItem(one)
            return
        low, high = extent
        count = picture.shape[0]
        # The first row is on top, and values of a plot grow upwards.
        self.image.setImage(picture[::-1], levels=None)
        self.image.setRect(QRectF(low, 0.0, high - low, float(count)))
        if focused is None:
            self._frame.setData([], [])
        else:
            below = float(count - 1 - focused)
            self._frame.setData(
                [low, high, high, low, low], [below, below, below + 1, below + 1, below]
            )
        for one in (self.image, self._frame):
            if one.scene() is None:
                self._item.addItem(one)

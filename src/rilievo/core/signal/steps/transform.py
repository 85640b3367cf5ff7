"""Moving pixels: how they move, so that native values, masks and positions follow the signal."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Placement, Plane, compose

Pixels = NDArray[Any]


@dataclass(frozen=True)
class Transform:
    """A way to move pixels.

    move : pixels (height, width) → pixels; takes integers and floats. move_mask : the same for a
    mask of saturated pixels; a pixel made of several is saturated where any of them is.
    placement : where positions go. pixel_scale : how much wider a pixel becomes. value_scale :
    how much larger a constant becomes (sums).
    """

    move: Callable[[Pixels], Pixels]
    move_mask: Callable[[NDArray[np.bool_]], NDArray[np.bool_]]
    placement: Placement
    pixel_scale: float = 1.0
    value_scale: float = 1.0
    keeps_values: bool = True

    def applied(self, plane: Plane) -> Plane:
        """Return the plane with its pixels moved; what is known of it follows."""
        saturated = plane.saturated()
        clipped = plane.clipped
        if saturated is not None and (not self.keeps_values or clipped is not None):
            clipped = np.asarray(self.move_mask(saturated), dtype=np.bool_)
        factor = self.value_scale
        turned = abs(self.placement[1]) > abs(self.placement[0])
        calibration = plane.calibration.turned() if turned else plane.calibration
        return replace(
            plane,
            pixels=self.move(plane.pixels),
            lattice=plane.lattice if self.keeps_values else None,
            clipped=clipped,
            calibration=calibration.scaled(self.pixel_scale),
            type_range=plane.type_range
            and (plane.type_range[0] * factor, plane.type_range[1] * factor),
            saturation=plane.saturation and plane.saturation * factor,
            empty=plane.empty and plane.empty * factor,
            level_error=plane.level_error and plane.level_error * factor,
            placement=compose(plane.placement, self.placement),
        )

"""What all steps have in common that take a background off.

A step estimates the background; what is done with it is the same for all. It can be smoothed or
scaled by hand, and then it counts as altered by hand.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any, ClassVar, Literal, TypeVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image.image import FloatPixels, Lattice, Plane
from rilievo.core.signal.smoothing import gaussian
from rilievo.core.signal.steps.fields import length
from rilievo.core.signal.steps.step import (
    STEPS,
    Reach,
    Step,
    StepContext,
    StepParameters,
    _explained,
)

Objects = Literal["bright", "dark"]


class BackgroundParameters(StepParameters):
    """What can be done with any background before it is subtracted."""

    scale: float = Field(
        1.0,
        ge=-100,
        le=100,
        title="Scale it by",
        description="1 leaves it as it was estimated; anything else alters it by hand",
        json_schema_extra={"step": 0.05, "further": True},
    )
    smooth_more: float = length(
        0.0,
        "Smooth it further",
        "Gaussian sigma; 0 leaves it as it was estimated, more alters it by hand",
        most=5000,
        step=5,
        further=True,
    )
    result: Literal["subtracted", "background"] = Field(
        "subtracted",
        title="Go on with",
        description="the picture without its background, or the background itself",
        json_schema_extra={"further": True},
    )

    @property
    def altered(self) -> bool:
        """Whether the background is no longer what was estimated."""
        return self.scale != 1.0 or self.smooth_more > 0.0

    @property
    def as_estimated(self) -> BackgroundParameters:
        """The part on which the estimate depends."""
        return self.model_copy(update={"scale": 1.0, "smooth_more": 0.0, "result": "subtracted"})


class OutsideRegions(BackgroundParameters):
    """A background that can be estimated beside regions alone.

    The order that makes this sound: the step without them, the steps after it, the regions, and
    then the step once more with the regions left out.
    """

    regions_field: ClassVar[str] = "outside"

    outside: str = Field(
        "",
        max_length=80,
        title="Outside of",
        description="a region class that is left out: regions are found with this background, "
        "and it is estimated once more beside them",
        json_schema_extra={"region_class": True},
    )
    rim: float = length(
        3.0, "and a rim of", "around each region, which is left out too", most=200, step=1
    )


Estimate = TypeVar("Estimate", bound=Callable[..., FloatPixels])


def background_step(
    key: str,
    *,
    title: str,
    parameters: type[BackgroundParameters],
    reach: Reach = None,
    order: float | None = None,
) -> Callable[[Estimate], Estimate]:
    """Register a step; the decorated function returns the background as floats.

    Its result has the plane's shape; one level for all pixels may be a broadcast view.
    """

    def register(estimate: Estimate) -> Estimate:
        def apply(plane: Plane, parameters: Any, context: StepContext) -> Plane:
            return with_background(plane, estimate(plane, parameters, context), parameters, context)

        apply.__doc__ = estimate.__doc__
        STEPS.add(
            key,
            Step(
                key,
                title,
                "Background",
                _explained(parameters),
                parameters,
                apply,
                linear=True,
                reach=reach,
                estimate=estimate,
            ),
            order,
        )
        return estimate

    return register


def level_of(level: float, plane: Plane) -> FloatPixels:
    """Return one level for all pixels, to all its digits and without using memory for each."""
    return np.broadcast_to(np.asarray(level, np.float64), plane.shape)


def shaped_by_hand(field: FloatPixels, parameters: BackgroundParameters) -> FloatPixels:
    """Return an estimated background as the parameters alter it."""
    if field.strides != (0, 0) and parameters.smooth_more > 0:
        field = gaussian(field, parameters.smooth_more)
    if parameters.scale != 1.0:
        field = field * field.dtype.type(parameters.scale)
    return field


def with_background(
    plane: Plane, field: FloatPixels, parameters: BackgroundParameters, context: StepContext
) -> Plane:
    """Return the plane minus its background, signed, or the background; say what it is like.

    out[y, x] = plane[y, x] − scale · background[y, x]
    """
    level = float(field.flat[0]) if field.strides == (0, 0) else None
    field = shaped_by_hand(field, parameters)
    context.record(**describe(field))
    values = plane.as_float()
    if parameters.result == "background":
        return plane.with_pixels(np.array(field, values.dtype), None)
    error = context.numbers.get("standard_error")
    if error is not None and not math.isnan(error):
        error = math.hypot(plane.level_error or 0.0, parameters.scale * error)
    else:
        error = plane.level_error
    lattice = None
    if level is not None and plane.lattice is not None:
        lattice = Lattice(plane.lattice.origin - level * parameters.scale, plane.lattice.spacing)
    if level is None:
        result = values - field
    else:
        # Taken off in 64 bits, so that the level itself is not rounded to the pixels' type.
        result = np.empty_like(values)
        np.subtract(values, field, out=result, dtype=np.float64, casting="same_kind")
    context.record(negative=float(np.count_nonzero(result < 0)))
    return replace(plane.with_pixels(result, lattice), level_error=error)


def describe(field: NDArray[Any]) -> dict[str, float]:
    """Return how flat a background is.

    level : its mean. range : highest minus lowest. tilt : by how much the least-squares plane
    through it rises over the image, along its steepest way. flatness : range in % of |level|.
    """
    if field.strides == (0, 0):
        return {"level": float(field.flat[0]), "range": 0.0, "tilt": 0.0, "flatness": 0.0}
    finite = field[np.isfinite(field)] if not np.isfinite(field).all() else field
    if finite.size == 0:
        return {}
    level = float(finite.mean(dtype=np.float64))
    spread = float(finite.max()) - float(finite.min())
    return {
        "level": level,
        "range": spread,
        "tilt": _rise(field),
        "flatness": 100 * spread / abs(level) if level else math.nan,
    }


def _rise(field: NDArray[Any]) -> float:
    """The rise of the least-squares plane over the image, from corner to corner at most."""
    height, width = field.shape
    down = np.linspace(-0.5, 0.5, height) if height > 1 else np.zeros(1)
    across = np.linspace(-0.5, 0.5, width) if width > 1 else np.zeros(1)
    values = np.nan_to_num(field, nan=float(np.nanmean(field)))
    # On a whole grid the two slopes are fitted each by itself.
    rows, columns = values.mean(axis=1, dtype=np.float64), values.mean(axis=0, dtype=np.float64)
    slope_y = float(rows @ down / (down @ down)) if height > 1 else 0.0
    slope_x = float(columns @ across / (across @ across)) if width > 1 else 0.0
    return abs(slope_x) + abs(slope_y)

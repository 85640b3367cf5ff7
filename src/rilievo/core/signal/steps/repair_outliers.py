"""Hot and dead pixels: single pixels far from their neighbours."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image.calibration_frames import Frames
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.progress import checkpoint
from rilievo.core.robust_statistics import NORMAL, median_of
from rilievo.core.signal.medians import deviations_around, medians_around, neighbour_medians
from rilievo.core.signal.steps.fields import side, sigmas
from rilievo.core.signal.steps.step import StepContext, StepParameters, step

# So many pixels tell the spread of a plane well enough; they are taken by whole rows, evenly.
_ENOUGH = 1_000_000


class OutlierRepair(StepParameters):
    """Replace hot and dead pixels, which lie far from the median of their neighbours."""

    in_words: ClassVar[str] = (
        "Hot or dead pixels ({which}) more than {sigmas} robust standard deviations from the "
        "median over {size} × {size} px were replaced by it"
    )

    sigmas: float = sigmas(
        6.0,
        "Further than",
        "robust sigmas of what pixels differ from the median around them",
        most=1000,
        step=0.5,
    )
    size: int = side(
        5, "Neighbours", "side of the square of neighbours", least=3, most=15, scales=False
    )
    which: Literal["both", "hot", "dead"] = Field(
        "both", title="Which", description="hot is too bright, dead too dark"
    )


class MaskRepair(StepParameters):
    """Replace the pixels that a mask image marks as bad."""

    in_words: ClassVar[str] = (
        "Bad pixels given by a mask ({mask}) were replaced by the median over {size} × {size} px"
    )

    mask: Frames = Field(
        default_factory=Frames,
        title="Mask",
        description="an image of the camera's bad pixels: all that is not 0 is replaced",
    )
    size: int = side(
        5, "Neighbours", "side of the square of neighbours", least=3, most=15, scales=False
    )


def replaced(values: FloatPixels, bad: NDArray[np.bool_], size: int) -> FloatPixels:
    """Return the plane with bad pixels as the median of good neighbours; NaN where none is."""
    good = np.where(bad, values.dtype.type(np.nan), values)
    result = values.copy()
    result[bad] = medians_around(good, bad, size | 1)
    return result


def _spread(away: FloatPixels) -> float:
    """The robust sigma of what pixels differ from their neighbours; of about a million of them."""
    every = max(1, away.size // _ENOUGH)
    some = np.abs(away[every // 2 :: every].ravel())
    some = some[np.isfinite(some)]
    return NORMAL * median_of(some) if some.size else 0.0


@step(
    "repair.outliers",
    title="Hot and dead pixels",
    family="Pixels",
    parameters=OutlierRepair,
    linear=True,
    reach=None,
    order=290,
)
def repair_outliers(plane: Plane, parameters: OutlierRepair, context: StepContext) -> Plane:
    """Return `plane` with outliers replaced by the median of their good neighbours.

    A pixel is an outlier if |v − m| > sigmas · s: m is the median of the pixels around it without
    itself, and s the larger of two robust sigmas, 1.4826 · median |v − m| over the whole plane and
    1.4826 · median absolute deviation of the pixels around. So the edge of an object, where the
    neighbours differ among themselves, is none.
    plane : shape (height, width); undefined pixels stay undefined.
    """
    values = plane.as_float()
    size = parameters.size | 1
    checkpoint()
    away = values - neighbour_medians(values, size)
    bad = np.zeros(plane.shape, np.bool_)
    sigma = _spread(away)
    # Planes without any noise have no outliers to tell from objects.
    if sigma > 0:
        if parameters.which in ("both", "hot"):
            bad |= away > parameters.sigmas * sigma
        if parameters.which in ("both", "dead"):
            bad |= away < -parameters.sigmas * sigma
        checkpoint()
        # Few are that far off; only for them it matters how their neighbours differ.
        limit = parameters.sigmas * NORMAL * deviations_around(values, bad, size).astype(np.float64)
        bad[bad] = np.abs(away[bad]) > limit
    context.record(replaced=np.count_nonzero(bad))
    if not bad.any():
        return plane.with_pixels(values, plane.lattice)
    return plane.with_pixels(replaced(values, bad, parameters.size), None)


@step(
    "repair.mask",
    title="Bad pixels from a mask",
    family="Pixels",
    parameters=MaskRepair,
    linear=True,
    reach=8,
    order=300,
)
def repair_masked(plane: Plane, parameters: MaskRepair, context: StepContext) -> Plane:
    """Return `plane` with the pixels replaced where the mask is not 0.

    plane : shape (height, width); other pixels keep their values, undefined ones too.
    Raises FramesMissing, FrameMismatch.
    """
    unlimited = Plane(plane.pixels, plane.calibration)
    mask = context.sources.frames(parameters.mask, "mask", unlimited).pixels
    bad = np.nan_to_num(mask, nan=1) != 0
    context.record(replaced=np.count_nonzero(bad))
    values = plane.as_float()
    result = replaced(values, bad, parameters.size)
    return plane.with_pixels(np.where(np.isnan(values), values, result), None)

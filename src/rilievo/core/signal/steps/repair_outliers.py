"""Hot and dead pixels: single pixels far from their neighbours."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.image.calibration_frames import Frames
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.progress import checkpoint
from rilievo.core.robust_statistics import NORMAL
from rilievo.core.signal.smoothing import median_of_good
from rilievo.core.signal.steps.fields import side, sigmas
from rilievo.core.signal.steps.step import StepContext, StepParameters, step
from rilievo.core.tiled_map import in_pieces

_ROWS = 64
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


def replaced(values: FloatPixels, bad: np.ndarray, size: int) -> FloatPixels:
    """Return the plane with bad pixels as the median of good neighbours; NaN where none is."""
    good = np.where(bad, values.dtype.type(np.nan), values)
    return np.where(bad, median_of_good(good, size | 1, with_centre=False), values)


def _spread(values: FloatPixels, size: int) -> float:
    """The robust sigma of what pixels differ from their neighbours; of about a million of them."""
    every = max(1, values.size // _ENOUGH)
    reach = size // 2
    padded = np.pad(values, ((reach, reach), (0, 0)), mode="symmetric")
    found = []
    for row in range(every // 2, values.shape[0], every):
        line = median_of_good(padded[row : row + size], size, with_centre=False)[reach]
        found.append(np.abs(values[row] - line))
    away = np.concatenate(found)
    away = away[np.isfinite(away)]
    return NORMAL * float(np.median(away)) if away.size else 0.0


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
    from rilievo.core.signal.filter_kernels import outlier_rows  # noqa: PLC0415 (slow to import)

    values = plane.as_float()
    size = parameters.size | 1
    bad = np.zeros(plane.shape, np.bool_)
    sigma = _spread(values, size)
    # Planes without any noise have no outliers to tell from objects.
    if sigma > 0:
        signs = parameters.which in ("both", "hot"), parameters.which in ("both", "dead")
        padded = np.pad(values, size // 2, mode="symmetric")

        def work(top: int) -> None:
            part = bad[top : top + _ROWS]
            rows = padded[top : top + part.shape[0] + size - 1]
            outlier_rows(rows, size, sigma, parameters.sigmas, signs, part)

        checkpoint()
        in_pieces(work, range(0, plane.shape[0], _ROWS), values=values.size * size)
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

"""Background from a reference image: an empty field taken like the samples."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.calibration_frames import Frames
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.robust_statistics import median_and_mad_sigma
from rilievo.core.signal.steps.background import BackgroundParameters, Objects, background_step
from rilievo.core.signal.steps.fields import sigmas
from rilievo.core.signal.steps.frames_dark import exposure_ratio
from rilievo.core.signal.steps.step import StepContext

_MOST_ROUNDS = 30
_ENOUGH = 1_000_000


class ReferenceBackground(BackgroundParameters):
    """Subtract an image of the empty field, as it is or fitted to the sample."""

    in_words: ClassVar[str] = (
        "A reference image ({reference}), scaled by {factor}, was taken as background and {result}"
    )

    reference: Frames = Field(
        default_factory=Frames,
        title="Reference images",
        description="images of the background alone, which are fitted and subtracted",
    )
    factor: Literal["one", "exposure", "fit"] = Field(
        "fit",
        title="Factor",
        description="one; the ratio of exposures; or least squares outside objects",
    )
    objects: Objects = Field(
        "bright",
        title="Objects are",
        description="whether objects are brighter or darker than the background",
    )
    clip: float = sigmas(
        3.0, "Leave out beyond", "for the fit: pixels further away count as objects"
    )


@background_step(
    "frames.reference", title="Reference background", parameters=ReferenceBackground, order=220
)
def reference(plane: Plane, parameters: ReferenceBackground, context: StepContext) -> FloatPixels:
    """Return factor · reference.

    The fitted factor f makes Σ (plane − f · reference)² least over the pixels that are no
    objects; they are found by turns, as those too far on the objects' side.
    plane : shape (height, width). Raises FramesMissing, FrameMismatch, StepError.
    """
    values = plane.as_float()
    frame = context.sources.frames(parameters.reference, "reference image", plane).as_float()
    factor = 1.0
    if parameters.factor == "exposure":
        factor = exposure_ratio(context, parameters.reference, "reference image")
    elif parameters.factor == "fit":
        sign = -1.0 if parameters.objects == "dark" else 1.0
        factor = fitted_factor(values, frame, parameters.clip, sign)
    context.record(factor=factor)
    return np.asarray(frame * frame.dtype.type(factor))


def fitted_factor(
    values: NDArray[Any], frame: NDArray[Any], clip: float, sign: float = 1.0
) -> float:
    """Return the least-squares factor between two planes without objects.

    sign : 1 leaves out bright objects, −1 dark ones. Raises StepError for a reference without
    any light.
    """
    step = max(1, int(np.sqrt(values.size / _ENOUGH)))
    y = values[::step, ::step].ravel().astype(np.float64)
    x = frame[::step, ::step].ravel().astype(np.float64)
    good = np.isfinite(x) & np.isfinite(y)
    x, y = x[good], y[good]
    if not np.any(x):
        raise StepError("The reference image is empty; choose another one.")
    # The median of the ratios is a first guess that few objects move.
    factor = float(np.median(y[x != 0] / x[x != 0]))
    for _ in range(_MOST_ROUNDS):
        away = sign * (y - factor * x)
        quiet = away[away < 0]
        _, sigma = median_and_mad_sigma(np.concatenate([quiet, -quiet]))
        used = (away <= clip * sigma) & (away >= -5 * sigma) if sigma > 0 else away <= 0
        if not np.any(x[used]):
            break
        new = float(x[used] @ y[used] / (x[used] @ x[used]))
        if abs(new - factor) <= 1e-12 * abs(new):
            break
        factor = new
    return factor

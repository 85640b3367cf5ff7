"""Registration: shifting a sample so that it lies on another, by phase correlation."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.errors import StepError
from rilievo.core.image.calibration_frames import ImageFile
from rilievo.core.image.image import FloatPixels, Plane, working_dtype
from rilievo.core.progress import checkpoint
from rilievo.core.signal.steps.geometry import whole_shift
from rilievo.core.signal.steps.step import StepContext, StepParameters, moving_step
from rilievo.core.signal.steps.transform import Transform

# Fineness of the search for the peak between pixels.
_FINE = 100


class Registration(StepParameters):
    """Shift each sample so that it lies on a reference sample."""

    in_words: ClassVar[str] = (
        "Pictures were registered to {reference} (parts of pixels: {subpixel})"
    )

    reference: ImageFile | None = Field(
        None,
        title="Reference",
        description="a sample of the same scene; its steps up to here count",
    )
    subpixel: bool = Field(
        False,
        title="Parts of a pixel too",
        description="otherwise by whole pixels, which leaves the values as they are",
    )
    most: int = Field(
        200,
        ge=1,
        le=100_000,
        title="Not further than",
        json_schema_extra={"unit": "px", "step": 10},
        description="largest shift that is looked for",
    )


@moving_step(
    "geometry.register",
    title="Register to a sample",
    parameters=Registration,
    resizes=False,
    order=280,
)
def register(plane: Plane, parameters: Registration, context: StepContext) -> Transform:
    """Return the plane shifted onto the reference; what is uncovered becomes undefined.

    The shift is where the inverse transform of F(reference) · conj(F(plane)) / |…| peaks; between
    pixels it is found by matrix-multiplied transforms around the peak, and the pixels are then
    joined linearly. Channels of a sample are shifted by their own shift.
    Sources: Kuglin & Hines 1975, Proc. IEEE Int. Conf. Cybernetics and Society, 163–165;
    Guizar-Sicairos, Thurman & Fienup 2008, Optics Letters 33, 156–158.
    Raises FramesMissing, StepError for another size.
    """
    other = context.sources.reference(parameters.reference, "reference sample")
    if other.shape != plane.shape:
        raise StepError(
            f"The reference sample is {other.shape[1]}×{other.shape[0]} pixels, but sample "
            f"“{context.sample_name}” is {plane.shape[1]}×{plane.shape[0]}; choose a reference of "
            "the same size."
        )
    down, right, agreement = found_shift(
        other.as_float(), plane.as_float(), parameters.most, parameters.subpixel
    )
    context.record(down=down, right=right, agreement=agreement)
    if not parameters.subpixel:
        return whole_shift(round(down), round(right))
    return part_shift(down, right)


def found_shift(
    reference: FloatPixels, moved: FloatPixels, most: int, subpixel: bool
) -> tuple[float, float, float]:
    """Return by how much `moved` must go down and right to lie on `reference`.

    The third number tells how well they agree: the height of the correlation peak, 0 to 1.
    """
    from scipy import fft  # noqa: PLC0415 (slow to import)

    cross = _cross(reference, moved)
    size = np.abs(cross)
    cross = np.where(size > 1e-12 * size.max(initial=0.0), cross / np.where(size, size, 1), 0)
    shape = reference.shape
    peak = fft.irfft2(cross, s=shape, workers=-1)
    allowed = np.ones(shape, np.bool_)
    for axis, length in enumerate(shape):
        away = np.minimum(np.arange(length), length - np.arange(length))
        allowed &= (away <= most).reshape((-1, 1) if axis == 0 else (1, -1))
    index = np.unravel_index(int(np.where(allowed, peak, -np.inf).argmax()), shape)
    down, right = (float(k) - (n if k > n // 2 else 0) for k, n in zip(index, shape, strict=True))
    agreement = float(peak[index])
    if subpixel:
        # Of what both have in common once they lie on each other to the pixel.
        here, there = _common(reference, moved, round(down), round(right))
        if min(here.shape) >= 8:
            more = _refined(_cross(here, there), here.shape)
            down, right = down + more[0], right + more[1]
    return down, right, agreement


def _cross(reference: FloatPixels, moved: FloatPixels) -> NDArray[Any]:
    from scipy import fft  # noqa: PLC0415 (slow to import)

    spectrum, two = (fft.rfft2(_windowed(p), workers=-1) for p in (reference, moved))
    checkpoint()
    return np.asarray(spectrum * np.conj(two))


def _common(
    reference: FloatPixels, moved: FloatPixels, down: int, right: int
) -> tuple[FloatPixels, FloatPixels]:
    """The parts of both that show the same when `moved` goes down and right."""
    height, width = reference.shape
    rows = slice(max(down, 0), height + min(down, 0))
    columns = slice(max(right, 0), width + min(right, 0))
    from_rows = slice(max(-down, 0), height - max(down, 0))
    from_columns = slice(max(-right, 0), width - max(right, 0))
    return reference[rows, columns], moved[from_rows, from_columns]


def _windowed(values: FloatPixels) -> NDArray[np.float64]:
    """The plane without its mean, faded out towards the borders, undefined pixels as the mean."""
    finite = np.isfinite(values)
    middle = values[finite].mean(dtype=np.float64) if finite.any() else 0.0
    away = np.where(finite, values - middle, 0.0)
    height, width = values.shape
    return np.asarray(away * np.outer(np.hanning(height + 2)[1:-1], np.hanning(width + 2)[1:-1]))


def _refined(cross: NDArray[Any], shape: tuple[int, ...]) -> tuple[float, float]:
    """The peak of the correlation within a pixel, from transforms evaluated finely.

    Frequencies count by their strength here: what is strong is the scene, the rest is noise.
    """
    height, width = shape
    down = right = 0.0
    rows = np.fft.fftfreq(height)
    columns = np.fft.rfftfreq(width)
    keep_rows, keep_columns = np.abs(rows) <= 0.25, columns <= 0.25
    part = cross[keep_rows][:, keep_columns]
    weight = np.where(columns[keep_columns] == 0, 1.0, 2.0)
    for fine in (10, _FINE):
        steps = np.arange(-15, 16) / fine
        ys, xs = down + steps, right + steps
        left = np.exp(2j * np.pi * np.outer(ys, rows[keep_rows]))
        across = np.exp(2j * np.pi * np.outer(columns[keep_columns], xs)) * weight[:, None]
        peak = (left @ part @ across).real
        k = np.unravel_index(int(peak.argmax()), peak.shape)
        down, right = float(ys[k[0]]), float(xs[k[1]])
    return down, right


def part_shift(down: float, right: float) -> Transform:
    """Return a shift by parts of a pixel, joined linearly; undefined where nothing came."""

    def move(pixels: NDArray[Any]) -> NDArray[Any]:
        from scipy import ndimage  # noqa: PLC0415 (slow to import)

        values = pixels.astype(working_dtype(pixels.dtype), copy=False)
        return np.asarray(
            ndimage.shift(values, (down, right), order=1, mode="constant", cval=np.nan)
        )

    def move_mask(mask: NDArray[np.bool_]) -> NDArray[np.bool_]:
        from scipy import ndimage  # noqa: PLC0415 (slow to import)

        # A pixel is saturated if any of the pixels it is joined from is.
        part = ndimage.shift(mask.astype(np.float32), (down, right), order=1)
        return np.asarray(part > 1e-6)

    return Transform(move, move_mask, (1, 0, right, 0, 1, down), keeps_values=False)

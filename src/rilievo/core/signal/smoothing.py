"""Means, Gaussians and medians over a neighbourhood, without the pixels that are undefined.

The border is mirrored. An undefined pixel stays undefined and does not touch its neighbours.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels
from rilievo.core.progress import checkpoint
from rilievo.core.tiled_map import in_pieces

Filter = Callable[[NDArray[Any]], NDArray[Any]]
_ROWS = 64
# So many lines are filtered together.
_LINES = 256


def weighted(values: FloatPixels, blur: Filter) -> FloatPixels:
    """Return a mean with weights, Σ w·v / Σ w over the defined pixels; undefined ones stay NaN.

    blur : a linear filter whose weights add up to 1.
    """
    checkpoint()
    defined = np.isfinite(values)
    if defined.all():
        return np.asarray(blur(values))
    total = blur(np.where(defined, values, values.dtype.type(0)))
    weight = blur(defined.astype(values.dtype))
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(defined, total / weight, values.dtype.type(np.nan))


def summed(values: FloatPixels, blur: Filter, total: float) -> FloatPixels:
    """Return a filter whose weights add up to `total`, undefined pixels taken as their mean.

    blur : a linear filter; undefined pixels stay NaN and weigh nothing.
    """
    defined = np.isfinite(values)
    if defined.all():
        return np.asarray(blur(values))
    middle = values[defined].mean(dtype=np.float64) if defined.any() else 0.0
    away = np.where(defined, values - values.dtype.type(middle), values.dtype.type(0))
    result = blur(away) + values.dtype.type(middle * total)
    return np.where(defined, result, values.dtype.type(np.nan))


def along_both(values: NDArray[Any], along: Callable[[NDArray[Any], int], Any]) -> NDArray[Any]:
    """Return a filter that works on lines, down the columns and then along the rows.

    along : (part, axis) → part. Lines do not touch each other, so parts go to several threads.
    """
    middle, result = np.empty_like(values), np.empty_like(values)

    def down(left: int) -> None:
        middle[:, left : left + _LINES] = along(values[:, left : left + _LINES], 0)

    def across(top: int) -> None:
        result[top : top + _LINES] = along(middle[top : top + _LINES], 1)

    in_pieces(down, range(0, values.shape[1], _LINES), values=values.size)
    checkpoint()
    in_pieces(across, range(0, values.shape[0], _LINES), values=values.size)
    return result


def gaussian(values: FloatPixels, sigma: float) -> FloatPixels:
    """Return the Gaussian-weighted mean; sigma in pixels, cut off at 4 sigma."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    # So narrow that 4 sigma end within the pixel itself.
    if int(4 * sigma + 0.5) == 0:
        return values

    def along(part: NDArray[Any], axis: int) -> Any:
        return ndimage.gaussian_filter1d(part, sigma, axis=axis, mode="reflect")

    return weighted(values, lambda v: along_both(v, along))


def mean(values: FloatPixels, size: int) -> FloatPixels:
    """Return the mean of the size × size pixels around each."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    def along(part: NDArray[Any], axis: int) -> Any:
        return ndimage.uniform_filter1d(part, size, axis=axis, mode="reflect")

    return weighted(values, lambda v: along_both(v, along))


def box_sums(values: NDArray[np.float64], size: int) -> NDArray[np.float64]:
    """Return the sum of the size × size values around each; the border is mirrored.

    size : odd. Sums of whole numbers are exact, so that equal surroundings give equal sums.
    """

    def along(part: NDArray[Any], axis: int) -> Any:
        reach = [(0, 0), (0, 0)]
        reach[axis] = (size // 2 + 1, size // 2)
        lines = np.moveaxis(np.pad(part, reach, mode="symmetric"), axis, 0)
        lines[0] = 0.0
        summed_up = np.cumsum(lines, axis=0)
        return np.moveaxis(summed_up[size:] - summed_up[:-size], 0, axis)

    return along_both(values, along)


def convolved(values: FloatPixels, kernel: NDArray[np.float64]) -> FloatPixels:
    """Return Σ kernel[j, i] · v[y − j, x − i] about the kernel's centre."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    def work(v: NDArray[Any]) -> NDArray[Any]:
        return np.asarray(ndimage.convolve(v, kernel, mode="reflect"))

    return summed(values, work, float(kernel.sum()))


def median(values: FloatPixels, size: int, *, with_centre: bool = True) -> FloatPixels:
    """Return the median of the size × size pixels around each, undefined ones left out.

    size : odd. An undefined pixel stays NaN.
    """
    result = median_of_good(values, size, with_centre=with_centre)
    undefined = ~np.isfinite(values)
    if undefined.any():
        result[undefined] = np.nan
    return result


def median_of_good(values: FloatPixels, size: int, *, with_centre: bool = True) -> FloatPixels:
    """As `median`, but an undefined pixel gets the median of its good neighbours."""
    padded = np.pad(values, size // 2, mode="symmetric")
    return _medians(padded, values, size, with_centre)


def median_going_on(values: FloatPixels, size: int) -> FloatPixels:
    """As `median_of_good`, but beyond the border the plane goes on as it is inside.

    It is turned about the border pixel (odd reflection), so that a tilt does not bend there.
    """
    reach = size // 2
    rows = np.pad(values, ((reach, reach), (0, 0)), mode=_how(values.shape[0]), **_odd(values, 0))
    padded = np.pad(rows, ((0, 0), (reach, reach)), mode=_how(values.shape[1]), **_odd(values, 1))
    return _medians(padded, values, size, with_centre=True)


def _how(length: int) -> Literal["reflect", "symmetric"]:
    return "reflect" if length > 1 else "symmetric"


def _odd(values: FloatPixels, axis: int) -> dict[str, Any]:
    return {"reflect_type": "odd"} if values.shape[axis] > 1 else {}


def _medians(padded: FloatPixels, values: FloatPixels, size: int, with_centre: bool) -> FloatPixels:
    from rilievo.core.signal.filter_kernels import median_rows  # noqa: PLC0415 (slow to import)

    result = np.empty_like(values)

    def work(top: int) -> None:
        part = result[top : top + _ROWS]
        median_rows(padded[top : top + part.shape[0] + size - 1], size, with_centre, part)

    checkpoint()
    in_pieces(work, range(0, values.shape[0], _ROWS), values=values.size * size)
    return result

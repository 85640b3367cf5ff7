"""Means and Gaussians over a neighbourhood, without the pixels that are undefined.

The border is mirrored. An undefined pixel stays undefined and does not touch its neighbours.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels
from rilievo.core.progress import checkpoint
from rilievo.core.signal.line_ends import MIRRORED
from rilievo.core.tiled_map import WORTH_THREADS, in_pieces

Filter = Callable[[NDArray[Any]], NDArray[Any]]
# So many lines are filtered together.
_LINES = 512


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


def along_both(
    values: NDArray[Any], columns: Callable[..., None], rows: Callable[..., None], *given: Any
) -> NDArray[Any]:
    """Return a filter that works on lines, down the columns and then along the rows.

    columns, rows : (plane, size or weights, first, end, …, result) writes lines first … end − 1
    into the result; `given` is what comes after the plane, and after `end`. Lines do not touch
    each other, so parts go to several threads.
    """
    middle, result = np.empty_like(values), np.empty_like(values)
    if values.size < WORTH_THREADS:
        columns(values, given[0], 0, values.shape[1], *given[1:], middle)
        rows(middle, given[0], 0, values.shape[0], *given[1:], result)
        return result
    for axis, work, source, into in ((1, columns, values, middle), (0, rows, middle, result)):
        checkpoint()
        count = values.shape[axis]

        def some(first: int, work: Any = work, source: Any = source, into: Any = into,
                 count: int = count) -> None:  # fmt: skip
            work(source, given[0], first, min(first + _LINES, count), *given[1:], into)

        in_pieces(some, range(0, count, _LINES), values=values.size)
    return result


def weighted_both(
    values: NDArray[Any], weights: NDArray[np.float64], border: int = MIRRORED
) -> NDArray[Any]:
    """Return the mean with weights along both axes; weights[j] is that at distance j.

    border : of `borders`.
    """
    from rilievo.core.signal.line_kernels import weighted_columns, weighted_rows  # noqa: PLC0415

    return along_both(values, weighted_columns, weighted_rows, weights, border)


def weighted_stack(
    planes: NDArray[np.float64], weights: NDArray[np.float64], border: int = MIRRORED
) -> NDArray[np.float64]:
    """Return `weighted_both` of several small planes at once; shape (planes, height, width)."""
    from rilievo.core.signal.line_kernels import weighted_planes  # noqa: PLC0415 (compiled)

    middle, result = np.empty_like(planes), np.empty_like(planes)
    weighted_planes(planes, weights, border, middle, result)
    return result


@lru_cache(maxsize=256)
def gaussian_weights(sigma: float, truncate: float = 4.0) -> NDArray[np.float64]:
    """Return exp(−j² / 2σ²) for j from 0 to truncate · sigma, such that all sides add up to 1."""
    reach = int(truncate * sigma + 0.5)
    # So narrow that they end within the pixel itself.
    weights = np.exp(-0.5 / (sigma * sigma) * np.arange(-reach, reach + 1) ** 2) if reach else None
    half = np.ones(1) if weights is None else np.array((weights / weights.sum())[reach:])
    # The same array is given to all who ask.
    half.flags.writeable = False
    return half


def gaussian(values: FloatPixels, sigma: float) -> FloatPixels:
    """Return the Gaussian-weighted mean; sigma in pixels, cut off at 4 sigma."""
    weights = gaussian_weights(sigma)
    if weights.size == 1:
        return values
    return weighted(values, lambda v: weighted_both(v, weights))


def mean(values: FloatPixels, size: int) -> FloatPixels:
    """Return the mean of the size × size pixels around each."""
    return weighted(values, lambda v: mean_both(v, size))


def mean_both(values: NDArray[Any], size: int, border: int = MIRRORED) -> NDArray[Any]:
    """Return the running mean along both axes; of an even size, one more before than after."""
    from rilievo.core.signal.line_kernels import mean_columns, mean_rows  # noqa: PLC0415 (compiled)

    return along_both(values, mean_columns, mean_rows, size, border)


def lowest_both(values: NDArray[Any], size: int, *, highest: bool = False) -> NDArray[Any]:
    """Return the lowest (or highest) of the size × size values around each; size is odd.

    values : without NaN. Beyond the border the plane goes on with its border.
    """
    from rilievo.core.signal.line_kernels import lowest_columns, lowest_rows  # noqa: PLC0415

    return along_both(values, lowest_columns, lowest_rows, size, -1 if highest else 1)


def box_sums(values: NDArray[np.float64], size: int) -> NDArray[np.float64]:
    """Return the sum of the size × size values around each; the border is mirrored.

    size : odd. Sums of whole numbers are exact, so that equal surroundings give equal sums.
    """
    from rilievo.core.signal.line_kernels import sum_columns, sum_rows  # noqa: PLC0415 (compiled)

    return along_both(values, sum_columns, sum_rows, size)


def convolved(values: FloatPixels, kernel: NDArray[np.float64]) -> FloatPixels:
    """Return Σ kernel[j, i] · v[y − j, x − i] about the kernel's centre."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    def work(v: NDArray[Any]) -> NDArray[Any]:
        return np.asarray(ndimage.convolve(v, kernel, mode="reflect"))

    return summed(values, work, float(kernel.sum()))

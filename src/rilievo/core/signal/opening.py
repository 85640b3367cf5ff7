"""Grayscale opening by a paraboloid, a ball or a disc: what is smaller is cut off.

    erosion   (f ⊖ h)(x) = min over z of f(x + z) − h(z)
    dilation  (f ⊕ h)(x) = max over z of f(x − z) + h(z)
    opening   (f ⊖ h) ⊕ h

Sources: Sternberg 1983, Computer 16(1), 22–34 (ball); van den Boomgaard 1992, Mathematical
Morphology (thesis, Amsterdam; paraboloid).
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels
from rilievo.core.progress import checkpoint
from rilievo.core.signal.resampling import block_lowest, enlarged
from rilievo.core.tiled_map import in_pieces

Form = Literal["paraboloid", "ball", "disc"]

# Up to this radius a ball or disc is exact; above, it works on an image shrunken by blocks, on
# which its radius is between half of this and this.
EXACT_RADIUS = 20
_ROWS = 256


def opened(values: FloatPixels, form: Form, radius: float, height_scale: float) -> FloatPixels:
    """Return the opening of a plane.

    values : shape (height, width); undefined pixels are ignored, the plane has no border beyond
    its edges. radius : pixels; of a paraboloid the radius of curvature at its top.
    height_scale : how many counts high the body is for each pixel of its width.
    """
    if not np.isfinite(values).any():
        return values
    if form == "paraboloid":
        return opened_by_paraboloid(values, radius, height_scale)
    shrink = shrinking(radius)
    if shrink == 1:
        return _opened_exactly(values, form, radius, height_scale)
    low = block_lowest(np.where(np.isfinite(values), values, np.inf), shrink)
    checkpoint()
    small = _opened_exactly(low, form, radius / shrink, height_scale * shrink)
    large = enlarged(_filled(small), (values.shape[0], values.shape[1]), shrink)
    # An opening is nowhere above its image.
    return np.asarray(np.fmin(large, values))


def warm_up() -> None:
    """Load the compiled loops, or build them the first time, before they are needed."""
    from rilievo.core.signal.filter_kernels import clip_sorted  # noqa: PLC0415 (slow to import)
    from rilievo.core.signal.medians import deviations_around, median, medians_around  # noqa: PLC0415

    few = np.arange(64, dtype=np.float32).reshape(8, 8)
    opened(few, "paraboloid", 2.0, 1.0)
    opened(few, "ball", 2.0, 1.0)
    median(few, 3)
    median(few, 9)
    medians_around(few, few > 60, 3)
    deviations_around(few, few > 60, 3)
    clip_sorted(few, 3.0, 1, *np.empty((4, 8)))


def shrinking(radius: float) -> int:
    """Return how many pixels a side are taken together for a ball or disc; 1 is exact."""
    return 1 if radius <= EXACT_RADIUS else int(np.ceil(radius / EXACT_RADIUS))


def _filled(values: FloatPixels) -> FloatPixels:
    finite = np.isfinite(values)
    return values if finite.all() else np.where(finite, values, values[finite].mean())


def opened_by_paraboloid(
    values: FloatPixels, radius: float, height_scale: float = 1.0
) -> FloatPixels:
    """Return the opening by h(x, y) = −height_scale · (x² + y²) / (2 · radius), exactly.

    Rows and columns are worked on one after the other, because h is a sum of both; the time does
    not depend on the radius.
    """
    from rilievo.core.signal.filter_kernels import STRIP, envelope_columns, envelope_rows  # noqa: PLC0415

    rise = height_scale / (2 * radius)
    work = np.where(np.isfinite(values), values, values.dtype.type(np.inf))
    height, width = work.shape

    for sign in (1.0, -1.0):

        def along_rows(top: int, sign: float = sign) -> None:
            envelope_rows(work[top : top + _ROWS], rise, sign)

        def along_columns(left: int, sign: float = sign) -> None:
            envelope_columns(work[:, left : left + 8 * STRIP], rise, sign)

        checkpoint()
        in_pieces(along_rows, range(0, height, _ROWS), values=work.size)
        checkpoint()
        in_pieces(along_columns, range(0, width, 8 * STRIP), values=work.size)
    return work


def body(
    form: Form, radius: float, height_scale: float
) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
    """Return the heights of a ball or disc, shape (2r + 1, 2r + 1), and how wide each row is.

    The top has height 0. A pixel belongs to it if its centre is within the radius.
    """
    whole = int(np.floor(radius))
    along = np.arange(-whole, whole + 1, dtype=np.float64)
    square = along[:, None] ** 2 + along**2
    inside = square <= radius**2
    rise = np.sqrt(np.maximum(radius**2 - square, 0)) - radius
    heights = height_scale * rise if form == "ball" else np.zeros_like(square)
    widths = inside.sum(axis=1) // 2
    return np.where(inside, heights, 0).astype(np.float32), widths.astype(np.int64)


def _opened_exactly(
    values: FloatPixels, form: Form, radius: float, height_scale: float
) -> FloatPixels:
    heights, widths = body(form, radius, height_scale)
    lower = _lowest(np.where(np.isfinite(values), values, np.inf), heights, widths)
    # The body is symmetric, so a dilation is an erosion of the negative.
    return -_lowest(-lower, heights, widths)


def _lowest(
    values: FloatPixels, heights: NDArray[np.float32], widths: NDArray[np.int64]
) -> FloatPixels:
    from rilievo.core.signal.filter_kernels import lowest_under  # noqa: PLC0415 (slow to import)

    radius = heights.shape[0] // 2
    values = np.where(np.isfinite(values), values, values.dtype.type(np.inf))
    padded = np.pad(values, radius, constant_values=np.inf)
    result = np.empty_like(values)
    rows = 64

    def work(top: int) -> None:
        part = result[top : top + rows]
        lowest_under(padded[top : top + part.shape[0] + 2 * radius], heights, widths, part)

    checkpoint()
    in_pieces(work, range(0, values.shape[0], rows), values=values.size * heights.size)
    return result

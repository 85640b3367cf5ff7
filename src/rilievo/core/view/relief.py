"""Intensity as terrain: relief lit from one side, and contours. Of the view; never measured."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.pyramid import Pyramid
from rilievo.core.view.palettes import (
    LEVELS,
    SHADES,
    Colours,
    Equaliser,
    ViewStyle,
    colour_table,
    encode_colour,
    shaded_table,
)
from rilievo.core.view.sampling import Viewport, covered_part, levels_of, sampled

_CONTOUR = encode_colour((60, 34, 18))
# Screen pixels over which relief is smoothed at most.
_WIDEST_MEAN = 128


def hillshade(shares: NDArray[np.floating[Any]], rise: float, light: float) -> NDArray[np.float32]:
    """Return how brightly terrain is lit: 1 on level ground, 0 in full shade.

        n = (−∂z/∂x, −∂z/∂y, 1), lit from `light` degrees clockwise from the top at 45° height:
        shade = max(0, n · l) / (|n| · l_z)

    shares : heights; rise : screen pixels that a height of 1 rises. NaN is level ground.
    """
    z = np.nan_to_num(shares.astype(np.float32, copy=False) * np.float32(rise))
    down = _slope(z, 0)
    across = _slope(z, 1)
    angle = math.radians(light)
    # The light comes from (sin, −cos) on a screen whose rows grow downwards.
    toward_x, toward_y = math.sin(angle), -math.cos(angle)
    lit = 1 - across * np.float32(toward_x)
    lit -= down * np.float32(toward_y)
    np.maximum(lit, 0, out=lit)
    across *= across
    down *= down
    across += down
    across += 1
    lit /= np.sqrt(across, out=across)
    return lit


def _slope(z: NDArray[np.float32], axis: int) -> NDArray[np.float32]:
    """Central differences, one-sided at the ends, as float32."""
    z = z if axis == 0 else z.T
    result = np.zeros_like(z)
    if z.shape[0] > 1:
        np.subtract(z[2:], z[:-2], out=result[1:-1])
        result[1:-1] *= np.float32(0.5)
        result[0], result[-1] = z[1] - z[0], z[-1] - z[-2]
    return result if axis == 0 else result.T


def round_levels(low: float, high: float, about: int = 8) -> tuple[float, ...]:
    """Return about so many round levels strictly between low and high."""
    span = high - low
    if not span > 0 or not math.isfinite(span):
        return ()
    rough = span / about
    power = 10.0 ** math.floor(math.log10(rough))
    step = next(f * power for f in (1, 2, 5, 10) if f * power >= rough * 0.999)
    first = math.floor(low / step) + 1
    count = math.ceil(high / step) - first
    return tuple(
        (first + i) * step for i in range(max(count, 0)) if low < (first + i) * step < high
    )


def contour_levels(style: ViewStyle, display: tuple[float, float]) -> tuple[float, ...]:
    """Return the levels at which a style draws contours."""
    if not style.contours:
        return ()
    return tuple(sorted(style.contour_levels)) or round_levels(*display)


def contour_lines(values: NDArray[np.floating[Any]], levels: Sequence[float]) -> NDArray[np.bool_]:
    """Return the screen pixels where the values pass a level, a line one pixel wide."""
    line = np.zeros(values.shape, np.bool_)
    for level in levels:
        above = values > level
        line[1:] |= above[1:] != above[:-1]
        line[:, 1:] |= above[:, 1:] != above[:, :-1]
    return line


def _smoothed(
    values: NDArray[np.floating[Any]], size: int, limits: tuple[float, float] | None
) -> NDArray[np.floating[Any]]:
    """Return the mean of the mean over size × size screen pixels, which leaves no facets.

    limits : values beyond them count as these, so that a bright object is a hill and no peak that
    bends the ground far around it.
    """
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    defined = np.isfinite(values)
    if not defined.all():
        middle = np.median(values[defined]) if defined.any() else 0
        values = np.where(defined, values, values.dtype.type(middle))
    if limits is not None:
        values = np.clip(values, values.dtype.type(limits[0]), values.dtype.type(limits[1]))
    once = ndimage.uniform_filter(values, size, mode="nearest")
    return np.asarray(ndimage.uniform_filter(once, size, mode="nearest"))


def terrain(
    levels: NDArray[np.uint16],
    pyramid: Pyramid,
    viewport: Viewport,
    display: tuple[float, float],
    style: ViewStyle,
    equal: Equaliser | None,
) -> Colours:
    """Return the picture shaded as terrain, with contours on it.

    levels : of the exact values, which show where only contours are drawn.
    """
    # So much more on all sides that slopes, lines and means pass from strip to strip.
    reach = min(round(2**style.smooth * viewport.zoom), _WIDEST_MEAN) if style.smooth else 0
    room = 1 + reach
    values, rows, columns = sampled(
        pyramid, viewport.widened(room), smooth=max(style.smooth - 2, 0)
    )
    if reach > 1:
        values = _smoothed(values, reach, display if style.relief > 0 else None)
    shape = pyramid.levels[0].shape
    first = covered_part(viewport, (shape[0], shape[1]))
    top, left = first[0].start + room - rows.start, first[1].start + room - columns.start
    inner = slice(top, top + levels.shape[0]), slice(left, left + levels.shape[1])
    span = display[1] - display[0]
    if style.relief > 0 and span > 0:
        longer = max(pyramid.levels[0].shape) * viewport.zoom
        shares = (values - values.dtype.type(display[0])) / values.dtype.type(span)
        # What is beyond the range is a plateau, not a cliff that throws everything into shade.
        np.clip(shares, 0, 1, out=shares)
        lit = hillshade(shares, style.relief / 100 * longer, style.light)[inner]
        # Shades run from 0 (black) over 1 (as it is) to 2 (white).
        np.multiply(lit, np.float32((SHADES - 1) / 2), out=lit)
        steps = np.minimum(lit, SHADES - 1).astype(np.int32)
        # The colours follow the same smooth terrain.
        steps *= LEVELS
        steps += levels_of(values[inner], *display)
        part = shaded_table(style, equal).ravel().take(steps)
    else:
        part = colour_table(style, equal=equal)[levels]
    if style.contours:
        lines = contour_lines(values, contour_levels(style, display))[inner]
        np.copyto(part, _CONTOUR, where=lines)
    return part

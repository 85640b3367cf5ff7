"""From numbers to the picture on screen: display range, flood, outlines. Never measured.

Everything is computed for the pixels of the screen alone, so it costs the same whatever the
size of the image. Outlines run along the edges of the very pixels that are measured.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image import working_dtype
from rilievo.core.palettes import (
    LEVELS,
    SHADES,
    Colours,
    Equaliser,
    ViewStyle,
    colour_table,
    shaded_table,
    stretched,
)
from rilievo.core.pieces import WORTH_THREADS, in_pieces
from rilievo.core.pyramid import Pyramid

Mask = NDArray[np.bool_]
Rgb = tuple[int, int, int]

# From here up the edges of single pixels show; below, pixels are blended.
BLEND_BELOW = 1.0

_CONTOUR = (60, 34, 18)
# Side of the coarse picture that stands for the whole one where only shares matter.
_COARSE = 512
_STRIP = 100
# Screen pixels over which relief is smoothed at most.
_WIDEST_MEAN = 128


@dataclass(frozen=True)
class Viewport:
    """Which part of an image the screen shows, in device pixels.

    left, top : image position of the screen's top-left corner; pixel k covers k … k + 1 here.
    zoom : screen pixels per image pixel. width, height : of the screen area.
    bottom_up : image rows grow upwards on the screen; `top` then counts from the last row.
    """

    left: float
    top: float
    zoom: float
    width: int
    height: int
    bottom_up: bool = False

    def columns(self) -> NDArray[np.float64]:
        """Image position of the centre of each screen column."""
        return np.asarray(self.left + (np.arange(self.width) + 0.5) / self.zoom, dtype=np.float64)

    def rows(self, image_height: int) -> NDArray[np.float64]:
        """Image position of the centre of each screen row."""
        rows = self.top + (np.arange(self.height) + 0.5) / self.zoom
        return np.asarray(image_height - rows if self.bottom_up else rows, dtype=np.float64)


@dataclass(frozen=True)
class Looks:
    """Colours of what is drawn over the picture."""

    ground: Rgb
    flood: Rgb
    flood_strength: float
    line: Rgb
    halo: Rgb
    selected: Rgb
    undefined: Rgb


def _inside(positions: NDArray[np.float64], length: int) -> tuple[slice, NDArray[np.float64]]:
    """Part of the screen that the image covers, and the image positions there."""
    good = np.flatnonzero((positions >= 0) & (positions < length))
    if good.size == 0:
        return slice(0, 0), positions[:0]
    part = slice(int(good[0]), int(good[-1]) + 1)
    return part, positions[part]


def covered_part(viewport: Viewport, shape: tuple[int, int]) -> tuple[slice, slice]:
    """Return the rows and columns of the screen that an image of (height, width) covers."""
    return (
        _inside(viewport.rows(shape[0]), shape[0])[0],
        _inside(viewport.columns(), shape[1])[0],
    )


def _blend_axis(
    values: NDArray[np.floating[Any]], positions: NDArray[np.float64], axis: int
) -> NDArray[np.floating[Any]]:
    length = values.shape[axis]
    centre = np.clip(positions - 0.5, 0, length - 1)
    below = centre.astype(np.intp)
    above = np.minimum(below + 1, length - 1)
    part = (centre - below).astype(values.dtype)
    shape = (-1, 1) if axis == 0 else (1, -1)
    part = part.reshape(shape)
    low = values.take(below, axis=axis)
    high = values.take(above, axis=axis)
    high -= low
    high *= part
    high += low
    return np.asarray(high)


def sampled(
    pyramid: Pyramid, viewport: Viewport, *, smooth: int = 0
) -> tuple[NDArray[np.floating[Any]], slice, slice]:
    """Return the values the screen shows, and the rows and columns of the screen they cover.

    From zoom 1 up each screen pixel takes the value of the image pixel under it; below, the
    nearest coarser level is blended linearly. smooth : blend over at least 2ⁿ image pixels.
    """
    height, width = pyramid.levels[0].shape
    screen_rows, rows = _inside(viewport.rows(height), height)
    screen_columns, columns = _inside(viewport.columns(), width)
    if rows.size == 0 or columns.size == 0:
        return np.zeros((0, 0), np.float32), slice(0, 0), slice(0, 0)
    k = max(pyramid.level_for(viewport.zoom), min(smooth, len(pyramid.levels) - 1))
    if viewport.zoom >= BLEND_BELOW and k == 0:
        values = _taken(pyramid.levels[0], rows.astype(np.intp), columns.astype(np.intp))
        return _as_floats(values), screen_rows, screen_columns
    level = pyramid.levels[k]
    scale = 2.0**k
    first, last = sorted((rows[0] / scale, rows[-1] / scale))
    start = max(int(first) - 1, 0)
    strip = _as_floats(level[start : int(last) + 2])
    values = _blend_axis(strip, rows / scale - start, 0)
    return _blend_axis(values, columns / scale, 1), screen_rows, screen_columns


def _taken(values: NDArray[Any], rows: NDArray[np.intp], columns: NDArray[np.intp]) -> NDArray[Any]:
    """Rows and columns of an array; the columns first cut down, so that rows copy fast."""
    left, right = int(columns.min()), int(columns.max()) + 1
    return np.asarray(values[rows, left:right].take(columns - left, axis=1))


def _as_floats(values: NDArray[Any]) -> NDArray[np.floating[Any]]:
    return np.asarray(values.astype(working_dtype(values.dtype), copy=False))


def sampled_labels(labels: NDArray[Any], viewport: Viewport) -> NDArray[Any]:
    """Return the label under each screen pixel that the image covers."""
    height, width = labels.shape
    _, rows = _inside(viewport.rows(height), height)
    _, columns = _inside(viewport.columns(), width)
    if rows.size == 0 or columns.size == 0:
        return np.zeros((0, 0), labels.dtype)
    return _taken(labels, rows.astype(np.intp), columns.astype(np.intp))


def levels_of(values: NDArray[np.floating[Any]], low: float, high: float) -> NDArray[np.uint16]:
    """Return 0 for values ≤ low up to LEVELS − 1 for values ≥ high, linear between; NaN is 0."""
    span = high - low
    if not np.isfinite(span) or span <= 0:
        return np.where(values > low, LEVELS - 1, 0).astype(np.uint16)
    scaled = (values - values.dtype.type(low)) * values.dtype.type((LEVELS - 1) / span)
    np.clip(scaled, 0, LEVELS - 1, out=scaled)
    return np.asarray(np.nan_to_num(scaled, copy=False, nan=0.0), dtype=np.uint16)


def inner_edges(labels: NDArray[Any]) -> Mask:
    """Return the screen pixels of regions that touch another label or the outside."""
    edge = np.zeros(labels.shape, np.bool_)
    across = labels[1:] != labels[:-1]
    edge[1:] |= across
    edge[:-1] |= across
    along = labels[:, 1:] != labels[:, :-1]
    edge[:, 1:] |= along
    edge[:, :-1] |= along
    return np.asarray(edge & (labels != 0), dtype=np.bool_)


def grown(mask: Mask) -> Mask:
    """Return the mask with all eight neighbours of its pixels added."""
    wide = mask.copy()
    wide[:, 1:] |= mask[:, :-1]
    wide[:, :-1] |= mask[:, 1:]
    tall = wide.copy()
    tall[1:] |= wide[:-1]
    tall[:-1] |= wide[1:]
    return tall


def packed(colour: Rgb) -> np.uint32:
    """Return a colour as 0xFFRRGGBB."""
    red, green, blue = colour
    return np.uint32(0xFF000000 | red << 16 | green << 8 | blue)


def unpacked(picture: Colours) -> NDArray[np.uint8]:
    """Return 0xFFRRGGBB pixels as shape (height, width, 3), red, green, blue."""
    shifts = np.array([16, 8, 0], np.uint32)
    return ((picture[..., None] >> shifts) & 0xFF).astype(np.uint8)


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


def contour_lines(values: NDArray[np.floating[Any]], levels: Sequence[float]) -> Mask:
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


def _terrain(
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
    wider = replace(
        viewport,
        left=viewport.left - room / viewport.zoom,
        top=viewport.top - room / viewport.zoom,
        width=viewport.width + 2 * room,
        height=viewport.height + 2 * room,
    )
    values, rows, columns = sampled(pyramid, wider, smooth=max(style.smooth - 2, 0))
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
        np.copyto(part, packed(_CONTOUR), where=lines)
    return part


@dataclass(frozen=True, eq=False)
class Layer:
    """One channel of a picture of several channels in colours.

    colour : what its highest value adds. An equalised style is linear here: the brightness of all
    layers together is equalised, so that hues stay.
    """

    pyramid: Pyramid
    display: tuple[float, float]
    style: ViewStyle
    colour: Rgb


def overlaid(
    layers: Sequence[Layer],
    viewport: Viewport,
    looks: Looks,
    *,
    equalise: bool = False,
    labels: NDArray[Any] | None = None,
    selected: Collection[int] = (),
) -> Colours:
    """Return channels added up in their colours, shape (height, width), 0xFFRRGGBB.

    equalise : spread the brightness over all shades; the hues stay. labels : regions to outline.
    """
    picture = np.full((viewport.height, viewport.width), packed(looks.ground), np.uint32)
    total: NDArray[np.float32] | None = None
    rows = columns = slice(0, 0)
    for layer in layers:
        values, rows, columns = sampled(layer.pyramid, viewport)
        total = _added(total, values, layer)
    if total is None or total.size == 0:
        return picture
    if equalise:
        total = _equalised_light(total, layers)
    parts = np.minimum(total, 255).astype(np.uint32)
    mixed = np.uint32(0xFF000000) | parts[0] << 16 | parts[1] << 8 | parts[2]
    if labels is not None:
        _outline(mixed, sampled_labels(labels, viewport), selected, looks)
    picture[rows, columns] = mixed
    return picture


def _added(
    total: NDArray[np.float32] | None, values: NDArray[np.floating[Any]], layer: Layer
) -> NDArray[np.float32]:
    table = stretched(np.linspace(0.0, 1.0, LEVELS), layer.style)
    if layer.style.invert:
        table = 1.0 - table
    shares = table.astype(np.float32)[levels_of(values, *layer.display)]
    if total is None:
        total = np.zeros((3, *values.shape), np.float32)
    for i, part in enumerate(layer.colour):
        if part:
            total[i] += shares * np.float32(part)
    return total


_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)


def _equalised_light(total: NDArray[np.float32], layers: Sequence[Layer]) -> NDArray[np.float32]:
    """Give each brightness the share of pixels at or below it, and scale the colours with it."""
    whole: NDArray[np.float32] | None = None
    for layer in layers:
        coarse = next(
            (level for level in layer.pyramid.levels if max(level.shape) <= _COARSE),
            layer.pyramid.levels[-1],
        )
        whole = _added(whole, _as_floats(coarse), layer)
    if whole is None:
        return total
    known = np.sort(np.tensordot(_LUMA, whole, 1).ravel())
    light = np.tensordot(_LUMA, total, 1)
    wanted = 255 * np.interp(light, known, np.linspace(0.0, 1.0, known.size)).astype(np.float32)
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.where(light > 0, wanted / light, 0)
        # A colour too bright for the screen is dimmed as a whole, so that its hue stays.
        peak = total.max(axis=0) * factor
        factor = np.where(peak > 255, factor * 255 / peak, factor)
    return np.asarray(total * factor, dtype=np.float32)


def _outline(
    picture: Colours, labels: NDArray[Any], selected: Collection[int], looks: Looks
) -> None:
    edge = inner_edges(labels)
    np.copyto(picture, packed(looks.halo), where=grown(edge) & (labels == 0))
    np.copyto(picture, packed(looks.line), where=edge)
    if selected:
        chosen = np.isin(labels, list(selected))
        line = edge & chosen
        # One pixel inside and one outside, so that small regions stay visible within.
        np.copyto(picture, packed(looks.selected), where=line | (grown(line) & ~chosen))


def painted(
    pyramid: Pyramid,
    viewport: Viewport,
    display_range: tuple[float, float],
    looks: Looks,
    *,
    labels: NDArray[Any] | None = None,
    preview: tuple[float, str] | None = None,
    outlined: Pyramid | None = None,
    flood: bool = False,
    lines: bool = True,
    selected: Collection[int] = (),
    style: ViewStyle = ViewStyle(),  # noqa: B008 (immutable)
    equal: Equaliser | None = None,
) -> Colours:
    """Return the picture as shape (height, width), 0xFFRRGGBB.

    labels : exact regions at full resolution, drawn with outlines.
    preview : (threshold, "bright" or "dark") to outline what a threshold keeps on the values
    shown, before the exact regions are known; used only without labels. outlined : the channel
    that is thresholded, when it is another one.
    flood : wash over what is outside the regions. equal : for an equalised style.
    lines : whether regions are outlined.
    """
    picture = np.full((viewport.height, viewport.width), packed(looks.ground), np.uint32)
    shape = pyramid.levels[0].shape
    rows, columns = covered_part(viewport, (shape[0], shape[1]))
    whole = rows.stop - rows.start, columns.stop - columns.start
    if min(whole) == 0:
        return picture
    regions = labels is not None or preview is not None
    kept = np.zeros(whole, np.int32 if labels is None else labels.dtype) if regions else None

    def paint(first: int) -> None:
        # Strips fit into the processor's cache, and each processor takes one.
        strip = slice(first, min(first + _STRIP, rows.stop))
        view = replace(
            viewport, top=viewport.top + first / viewport.zoom, height=strip.stop - first
        )
        values = sampled(pyramid, view)[0]
        shown = None
        if labels is not None:
            shown = sampled_labels(labels, view)
        elif preview is not None:
            level, keep = preview
            parted = values if outlined is None else sampled(outlined, view)[0]
            shown = (parted > level if keep == "bright" else parted <= level).view(np.uint8)
        levels = levels_of(values, *display_range)
        if style.relief > 0 or style.contours:
            part = _terrain(levels, pyramid, view, display_range, style, equal)
        else:
            part = colour_table(style, equal=equal)[levels]
        if shown is not None and kept is not None:
            kept[first - rows.start : strip.stop - rows.start] = shown
            if flood:
                washed = colour_table(style, looks.flood, looks.flood_strength, equal)[levels]
                np.copyto(part, washed, where=shown == 0)
        undefined = np.isnan(values)
        if undefined.any():
            down = np.arange(first, strip.stop)
            hatch = (np.add.outer(down, np.arange(part.shape[1])) // 4) % 2 == 0
            np.copyto(part, packed(looks.undefined), where=undefined & hatch)
        picture[strip, columns] = part

    in_pieces(paint, range(rows.start, rows.stop, _STRIP), values=WORTH_THREADS)
    if kept is not None and lines:
        part = picture[rows, columns]
        _outline(part, kept, selected, looks)
    return picture

"""From numbers to the picture on screen: display range, flood, outlines. Never measured.

Everything is computed for the pixels of the screen alone, so it costs the same whatever the
size of the image. Outlines run along the edges of the very pixels that are measured.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.palettes import LEVELS, Colours, ViewStyle, colour_table
from rilievo.core.pyramid import Pyramid

Mask = NDArray[np.bool_]
Rgb = tuple[int, int, int]

# From here up the edges of single pixels show; below, pixels are blended.
BLEND_BELOW = 1.0


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
    return np.asarray(low + part * (high - low))


def sampled(pyramid: Pyramid, viewport: Viewport) -> tuple[NDArray[np.floating[Any]], slice, slice]:
    """Return the values the screen shows, and the rows and columns of the screen they cover.

    From zoom 1 up each screen pixel takes the value of the image pixel under it; below, the
    nearest coarser level is blended linearly.
    """
    height, width = pyramid.levels[0].shape
    screen_rows, rows = _inside(viewport.rows(height), height)
    screen_columns, columns = _inside(viewport.columns(), width)
    if rows.size == 0 or columns.size == 0:
        return np.zeros((0, 0), np.float32), slice(0, 0), slice(0, 0)
    if viewport.zoom >= BLEND_BELOW:
        values = pyramid.levels[0][np.ix_(rows.astype(np.intp), columns.astype(np.intp))]
        return values, screen_rows, screen_columns
    k = pyramid.level_for(viewport.zoom)
    level = pyramid.levels[k]
    scale = 2.0**k
    first, last = sorted((rows[0] / scale, rows[-1] / scale))
    start = max(int(first) - 1, 0)
    strip = level[start : int(last) + 2]
    values = _blend_axis(strip, rows / scale - start, 0)
    return _blend_axis(values, columns / scale, 1), screen_rows, screen_columns


def sampled_labels(labels: NDArray[Any], viewport: Viewport) -> NDArray[Any]:
    """Return the label under each screen pixel that the image covers."""
    height, width = labels.shape
    _, rows = _inside(viewport.rows(height), height)
    _, columns = _inside(viewport.columns(), width)
    return np.asarray(labels[np.ix_(rows.astype(np.intp), columns.astype(np.intp))])


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
    selected: Collection[int] = (),
    style: ViewStyle = ViewStyle(),  # noqa: B008 (immutable)
) -> Colours:
    """Return the picture as shape (height, width), 0xFFRRGGBB.

    labels : exact regions at full resolution, drawn with outlines.
    preview : (threshold, "bright" or "dark") to outline what a threshold keeps on the values
    shown, before the exact regions are known; used only without labels. outlined : the channel
    that is thresholded, when it is another one.
    flood : wash over what is outside the regions.
    """
    picture = np.full((viewport.height, viewport.width), packed(looks.ground), np.uint32)
    values, rows, columns = sampled(pyramid, viewport)
    if values.size == 0:
        return picture
    shown = None
    if labels is not None:
        shown = sampled_labels(labels, viewport)
    elif preview is not None:
        level, keep = preview
        parted = values if outlined is None else sampled(outlined, viewport)[0]
        shown = (parted > level if keep == "bright" else parted <= level).view(np.uint8)
    levels = levels_of(values, *display_range)
    part = colour_table(style)[levels]
    if shown is not None and flood:
        washed = colour_table(style, looks.flood, looks.flood_strength)[levels]
        np.copyto(part, washed, where=shown == 0)
    undefined = np.isnan(values)
    if undefined.any():
        hatch = (np.add.outer(np.arange(part.shape[0]), np.arange(part.shape[1])) // 4) % 2 == 0
        np.copyto(part, packed(looks.undefined), where=undefined & hatch)
    if shown is not None:
        _outline(part, shown, selected, looks)
    picture[rows, columns] = part
    return picture

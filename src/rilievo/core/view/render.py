"""From numbers to the picture on screen: display range, flood, outlines. Never measured.

Everything is computed for the pixels of the screen alone, so it costs the same whatever the
size of the image. Outlines run along the edges of the very pixels that are measured.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.pyramid import Pyramid
from rilievo.core.tiled_map import WORTH_THREADS, in_pieces
from rilievo.core.view.palettes import (
    LEVELS,
    Colours,
    Equaliser,
    Rgb,
    ViewStyle,
    colour_table,
    encode_colour,
    stretched,
)
from rilievo.core.view.relief import terrain
from rilievo.core.view.sampling import (
    Viewport,
    as_floats,
    covered_part,
    levels_of,
    sampled,
    sampled_labels,
)

Mask = NDArray[np.bool_]

# Side of the coarse picture that stands for the whole one where only shares matter.
_COARSE = 512
_STRIP = 100


@dataclass(frozen=True)
class Looks:
    """Colours of what is drawn over the picture."""

    ground: Rgb
    flood: Rgb
    flood_strength: float
    line: Rgb
    halo: Rgb
    left_out: Rgb
    other: Rgb
    selected: Rgb
    undefined: Rgb


def _outline(
    picture: Colours,
    labels: NDArray[Any],
    selected: Collection[int],
    looks: Looks,
    *,
    other: bool = False,
) -> None:
    """Outline regions; other : those of a class that is not in focus, without a halo."""
    from rilievo.core.view.paint_kernels import paint_edges  # noqa: PLC0415 (compiled on first use)

    colours = (looks.other, None, None) if other else (looks.line, looks.halo, looks.left_out)
    packed_colours = [0 if c is None else encode_colour(c) for c in (*colours, looks.selected)]
    whole = labels.view(np.uint8) if labels.dtype == np.bool_ else labels
    # A part of a larger picture is not in one piece; the loop takes it as it is.
    paint_edges(
        picture,
        whole.astype(np.int32, copy=False),
        np.array(packed_colours, np.uint32),
        np.array(sorted(selected), np.int64),
    )


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
    picture = np.full((viewport.height, viewport.width), encode_colour(looks.ground), np.uint32)
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
            (k for k in layer.pyramid.levels[layer.pyramid.finest :] if max(k.shape) <= _COARSE),
            layer.pyramid.levels[-1],
        )
        whole = _added(whole, as_floats(coarse), layer)
    if whole is None:
        return total
    lightness = np.sort(np.tensordot(_LUMA, whole, 1).ravel())
    light = np.tensordot(_LUMA, total, 1)
    target = 255 * np.interp(light, lightness, np.linspace(0.0, 1.0, lightness.size)).astype(
        np.float32
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.where(light > 0, target / light, 0)
        # A colour too bright for the screen is dimmed as a whole, so that its hue stays.
        peak = total.max(axis=0) * factor
        factor = np.where(peak > 255, factor * 255 / peak, factor)
    return np.asarray(total * factor, dtype=np.float32)


@dataclass(frozen=True, eq=False)
class RegionLayer:
    """The regions that are drawn over the values.

    labels : exact regions at full resolution, drawn with outlines; those below 0 were left out and
    are drawn paler. others : regions of other classes, outlined alike in another colour. table :
    label → label that is shown in its place.
    preview : (threshold, "bright" or "dark") to outline what a threshold keeps on the values
    shown, before the exact regions are known; used only without labels. outlined : the channel
    that is thresholded, when it is another one.
    flood : wash over what is outside the regions. lines : whether regions are outlined.
    """

    labels: NDArray[Any] | None = None
    others: Sequence[NDArray[Any]] = ()
    table: NDArray[np.int32] | None = None
    preview: tuple[float, str] | None = None
    outlined: Pyramid | None = None
    flood: bool = False
    lines: bool = True
    selected: Collection[int] = ()

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to draw."""
        return self.labels is None and self.preview is None

    def seen(self, view: Viewport, values: NDArray[np.floating[Any]]) -> NDArray[Any] | None:
        """Return the label under each pixel of the screen; None where there is nothing to draw."""
        if self.labels is not None:
            found = sampled_labels(self.labels, view)
            return found if self.table is None else self.table[found]
        if self.preview is None:
            return None
        level, keep = self.preview
        parted = values if self.outlined is None else sampled(self.outlined, view)[0]
        on_side: NDArray[np.bool_] = parted > level if keep == "bright" else parted <= level
        return on_side.view(np.uint8)


NO_REGIONS = RegionLayer()


@dataclass(frozen=True, eq=False)
class Shading:
    """How values become colours.

    equal : for an equalised style. flat : levels between classes, ascending, and the colour of
    each class; the picture then shows nothing else of the values.
    """

    style: ViewStyle = field(default_factory=ViewStyle)
    equal: Equaliser | None = None
    flat: tuple[NDArray[np.float64], NDArray[np.uint32]] | None = None

    def colours(
        self,
        values: NDArray[np.floating[Any]],
        levels: NDArray[Any],
        pyramid: Pyramid,
        view: Viewport,
        display_range: tuple[float, float],
    ) -> Colours:
        """Return the colours of values; levels : where they lie in the display range."""
        if self.flat is not None:
            cuts, tints = self.flat
            return np.asarray(tints[np.searchsorted(cuts, values, side="left")])
        if self.style.relief > 0 or self.style.contours:
            return terrain(levels, pyramid, view, display_range, self.style, self.equal)
        return np.asarray(colour_table(self.style, equal=self.equal)[levels])

    def washed(self, levels: NDArray[Any], looks: Looks) -> Colours:
        """Return the colours of what is flooded."""
        return np.asarray(
            colour_table(self.style, looks.flood, looks.flood_strength, self.equal)[levels]
        )


PLAIN = Shading()


def painted(
    pyramid: Pyramid,
    viewport: Viewport,
    display_range: tuple[float, float],
    looks: Looks,
    regions: RegionLayer = NO_REGIONS,
    shading: Shading = PLAIN,
) -> Colours:
    """Return the picture as shape (height, width), 0xFFRRGGBB."""
    picture = np.full((viewport.height, viewport.width), encode_colour(looks.ground), np.uint32)
    shape = pyramid.levels[0].shape
    rows, columns = covered_part(viewport, (shape[0], shape[1]))
    whole = rows.stop - rows.start, columns.stop - columns.start
    if min(whole) == 0:
        return picture
    kind = np.int32 if regions.labels is None else regions.labels.dtype
    labels_seen = None if regions.is_empty else np.zeros(whole, kind)

    def paint(first: int) -> None:
        # Strips fit into the processor's cache, and each processor takes one.
        strip = slice(first, min(first + _STRIP, rows.stop))
        view = viewport.strip(strip)
        values = sampled(pyramid, view)[0]
        levels = levels_of(values, *display_range)
        part = shading.colours(values, levels, pyramid, view, display_range)
        seen = regions.seen(view, values)
        if seen is not None and labels_seen is not None:
            labels_seen[first - rows.start : strip.stop - rows.start] = seen
            if regions.flood and shading.flat is None:
                np.copyto(part, shading.washed(levels, looks), where=seen <= 0)
        _hatch_undefined(part, values, first, looks)
        picture[strip, columns] = part

    in_pieces(paint, range(rows.start, rows.stop, _STRIP), values=WORTH_THREADS)
    if labels_seen is not None and regions.lines:
        part = picture[rows, columns]
        for other in regions.others:
            _outline(part, sampled_labels(other, viewport), regions.selected, looks, other=True)
        _outline(part, labels_seen, regions.selected, looks)
    return picture


def _hatch_undefined(
    part: Colours, values: NDArray[np.floating[Any]], first: int, looks: Looks
) -> None:
    """Hatch undefined pixels in a strip whose first row is `first`."""
    undefined = np.isnan(values)
    if undefined.any():
        down = np.arange(first, first + part.shape[0])
        hatch = (np.add.outer(down, np.arange(part.shape[1])) // 4) % 2 == 0
        np.copyto(part, encode_colour(looks.undefined), where=undefined & hatch)

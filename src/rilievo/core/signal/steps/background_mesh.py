"""Background from a mesh of tiles, each estimated without its objects, joined by a spline."""

from __future__ import annotations

import math
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.progress import checkpoint
from rilievo.core.signal.medians import median_going_on
from rilievo.core.signal.mesh_spline import joining_spline
from rilievo.core.signal.steps.background import OutsideRegions, background_step, level_of
from rilievo.core.signal.steps.beside_objects import BesideObjects
from rilievo.core.signal.steps.fields import length, sigmas
from rilievo.core.signal.steps.step import StepContext
from rilievo.core.tiled_map import in_pieces

_MOST_ROUNDS = 12
# A tile with fewer defined pixels than this share tells nothing.
_LEAST_DEFINED = 0.3
# Up to this share of sigma between mean and median the mode follows from both.
_NEAR = 0.3
# An automatic tile in half widths of the objects, the smallest, and that without any objects.
_RADII, _LEAST_TILE, _TILE_WITHOUT = 1.5, 24.0, 64.0


class MeshBackground(OutsideRegions):
    """Subtract a smooth surface through sigma-clipped levels of square tiles."""

    in_words: ClassVar[str] = (
        "Background was estimated on a mesh of tiles of {tile} px as the {statistic} of "
        "values within {clip} robust standard deviations, with a median over {filter_tiles} "
        "tiles, interpolated by a spline, and {result}"
    )

    tile: float | None = length(
        None,
        "Tile side",
        "empty follows from the objects, which are left out; else several times their size and "
        "smaller than the unevenness",
        least=2,
        most=4096,
        step=8,
    )
    clip: float = sigmas(
        3.0, "Clip at", "pixels further from the tile's median than this are objects"
    )
    statistic: Literal["median", "mode", "mean"] = Field(
        "mode",
        title="Level of a tile",
        description="of the clipped pixels; mode is 3 · median − 2 · mean while these are near",
    )
    filter_tiles: int = Field(
        3,
        ge=1,
        le=15,
        title="Median over",
        description="so many tiles a side, which removes tiles that an object fills",
        json_schema_extra={"unit": "tiles", "step": 2, "odd": True},
    )


@background_step("background.mesh", title="Background mesh", parameters=MeshBackground, order=100)
def mesh(plane: Plane, parameters: MeshBackground, context: StepContext) -> FloatPixels:
    """Return the surface through the levels of tiles, at every pixel.

    Of each tile pixels over `clip` sigma from the median are left out until none is, sigma taken
    from the side of the distribution that has no objects. The levels are median-filtered, the
    mesh continued beyond its border as it is inside, and joined by a cubic spline, which goes on
    straight beyond the centres of the outermost tiles. Without a typed tile objects are found
    first, and the background beside them stands in their place.
    Source of the clipped mode 3 · median − 2 · mean: Pearson 1895, Phil. Trans. A 186, 343–414.
    plane : shape (height, width); undefined pixels are left out.
    """
    beside = BesideObjects(plane.as_float(), context, "either", automatic=parameters.tile is None)
    values = beside.values
    tile = beside.length(parameters.tile, _RADII, _LEAST_TILE, _TILE_WITHOUT)
    levels = tile_levels(values, parameters, tile)
    finite = np.isfinite(levels)
    context.record(tiles=levels.size)
    if not finite.any():
        return level_of(math.nan, plane)
    # Where a tile tells nothing its neighbours do, and where they do not, all others.
    size = parameters.filter_tiles | 1
    smooth = median_going_on(levels, size) if size > 1 or not finite.all() else levels
    smooth = np.where(np.isfinite(smooth), smooth, np.median(levels[finite]))
    height, width = plane.shape
    down = _spline(height, levels.shape[0]).astype(values.dtype)
    across = _spline(width, levels.shape[1]).astype(values.dtype)
    return beside.told(np.asarray((down @ smooth.astype(values.dtype)) @ across.T))


def _ends(length: int, tile: float) -> list[int]:
    """Where tiles begin and end: as many as fit, stretched a little to cover the whole."""
    count = max(1, round(length / tile))
    return [round(length * k / count) for k in range(count + 1)]


def tile_levels(
    values: FloatPixels, parameters: MeshBackground, tile: float
) -> NDArray[np.float64]:
    """Return the clipped level of each tile, shape (rows, columns) of tiles; NaN for too few."""
    rows = _ends(values.shape[0], tile)
    columns = _ends(values.shape[1], tile)
    levels = np.empty((len(rows) - 1, len(columns) - 1))

    def work(k: int) -> None:
        checkpoint()
        strip = values[rows[k] : rows[k + 1]]
        levels[k] = _strip_levels(strip, columns, parameters)

    in_pieces(work, range(len(rows) - 1), values=values.size)
    return levels


def _strip_levels(
    strip: FloatPixels, columns: list[int], parameters: MeshBackground
) -> NDArray[np.float64]:
    """The levels of a row of tiles; tiles of one width are sorted together."""
    widths = np.diff(columns)
    result = np.empty(widths.size)
    for width in np.unique(widths):
        chosen = np.flatnonzero(widths == width)
        tiles = np.stack([strip[:, columns[k] : columns[k] + width].ravel() for k in chosen])
        # NaN is sorted to the end.
        tiles.sort(axis=1)
        result[chosen] = clipped_levels(tiles, parameters.clip, parameters.statistic)
    return result


def clipped_levels(ordered: NDArray[Any], clip: float, statistic: str) -> NDArray[np.float64]:
    """Return the sigma-clipped level of each row of sorted values, NaN last; NaN for too few."""
    from rilievo.core.signal.filter_kernels import clip_sorted  # noqa: PLC0415 (slow to import)

    middle, mean, sigma, defined = np.empty((4, len(ordered)))
    clip_sorted(ordered, clip, _MOST_ROUNDS, middle, mean, sigma, defined)
    # Where objects pull the mean far away, the mode is no better than a guess.
    near = np.abs(mean - middle) <= _NEAR * sigma
    mode = np.where(near, 3 * middle - 2 * mean, middle)
    level = {"median": middle, "mean": mean, "mode": mode}[statistic]
    return np.where(defined >= max(1, _LEAST_DEFINED * ordered.shape[1]), level, np.nan)


def _spline(length: int, tiles: int) -> NDArray[np.float64]:
    """The matrix that takes levels at the centres of tiles to every pixel."""
    if tiles == 1:
        return np.ones((length, 1))
    ends = np.array(_ends(length, length / tiles), dtype=np.float64)
    centres = (ends[:-1] + ends[1:]) / 2 - 0.5
    return joining_spline(centres, np.arange(length, dtype=np.float64))

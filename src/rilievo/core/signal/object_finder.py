"""Which pixels belong to objects, before any background is known.

The size of the objects shows where openings of growing width stop cutting more off. What rises
above the opening of that width is left out, the background is estimated from the rest by local
planes, and the objects are found anew above it, until they stay. All of it works on a picture of
at most about half a thousand pixels a side.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import FloatPixels
from rilievo.core.progress import checkpoint
from rilievo.core.robust_statistics import equal_bins, median_and_mad_sigma, median_of
from rilievo.core.signal.local_planes import BLOCK, kept_sums, sums_about
from rilievo.core.signal.masks import grown_by_steps
from rilievo.core.signal.resampling import block_means, enlarged
from rilievo.core.signal.smoothing import gaussian_weights, lowest_both, mean_both, weighted_both

Floats = NDArray[np.float64]
Side = Literal["bright", "dark", "either"]

# Pixels a side of the picture that is worked on: where objects are left out, and to judge alone.
DETAILED, ROUGH = 512, 320
# Half widths of the openings that are tried, pixels of the small picture.
_NARROW = 7
_WIDTHS = (3, 5, 7, 10, 14, 20, 28, 40, 56, 80, 110)
_BEFORE = 1.5
# An opening is wide enough when the next one cuts hardly more off, and its objects are clear.
_HARDLY_MORE, _CLEAR, _AS_CLEAR = 1.10, 6.0, 0.6
# Objects rise so many sigmas above the background, and at least by a share of their contrast.
_SIGMAS, _SMOOTH_SIGMAS, _LEAST_SHARE = 3.0, 4.0, 0.15
_ROUNDS, _GROWN, _LEAST_FREE = 6, 3, 0.03
# Where bright objects cover more than the one share, dark ones that cover less than the other are
# the objects, and the bright is their background.
_MOST_BRIGHT, _LITTLE_DARK = 0.6, 0.3
# Widths of the local planes that are compared, as shares of the first one.
_SCALES, _NARROWEST = (1.0, 0.6, 0.35), 5.0


@dataclass(frozen=True, eq=False)
class ObjectsFound:
    """Objects of a picture and the background beside them.

    mask : shape of the picture, with a rim around each. background : shape of the picture. radius
    : half the width of the objects, pixels; 0 where there are none. coverage : their share of the
    picture, without the rim. contrast : how far they rise above the background. unsure : by what
    share of the contrast the background at the objects depends on how wide its estimate is.
    """

    mask: NDArray[np.bool_]
    background: FloatPixels
    radius: float
    coverage: float
    contrast: float
    unsure: float

    def filled(self, values: FloatPixels) -> FloatPixels:
        """Return the values with the background in place of objects."""
        return np.where(self.mask, self.background, values)


def find_objects(
    values: FloatPixels, side: Side = "either", most: int = DETAILED
) -> ObjectsFound | None:
    """Return the objects of a plane; None where none stands clear of the noise.

    values : shape (height, width); undefined pixels count as background that is not known.
    side : on which side of the background objects are; “either” takes bright ones where there
    are any, unless they would be most of the picture and dark ones little of it. most : pixels a
    side of the picture that is worked on.
    """
    factor = max(1, int(np.ceil(np.sqrt(values.size) / most)))
    small = block_means(values, factor) if factor > 1 else values
    if min(small.shape) < 4 * _WIDTHS[0] or not np.isfinite(small).any():
        return None
    whole = np.asarray(small, np.float64)
    found = None if side == "dark" else _found(whole)
    if side == "dark" or (side == "either" and (found is None or found.coverage > _MOST_BRIGHT)):
        dark = _found(-whole)
        if dark is not None and (found is None or dark.coverage < _LITTLE_DARK):
            found = replace(dark, background=-dark.background)
    if found is None:
        return None
    shape = (values.shape[0], values.shape[1])
    return replace(
        found,
        mask=_spread(found.mask, factor, shape),
        background=_at_full_size(found.background, factor, shape).astype(values.dtype),
        radius=found.radius * factor,
    )


def _found(small: Floats) -> ObjectsFound | None:
    """The bright objects of the small picture, in its own pixels."""
    defined = np.isfinite(small)
    whole = small if defined.all() else np.where(defined, small, median_of(small[defined]))
    smooth = weighted_both(whole, gaussian_weights(_BEFORE))
    noise_of_pixels = _noise(small)
    noise = noise_of_pixels / (2 * np.sqrt(np.pi) * _BEFORE)
    width, level, contrast = _half_width(smooth, noise)
    if width == 0:
        return None
    mask = smooth - _lowest_around(smooth, width) > level
    scale = max(8.0, 0.8 * width)
    # The background, and the pixels that it was estimated from: those of the round before, where
    # the last one leaves too few.
    background, beside, free = None, defined, defined
    for _ in range(_ROUNDS):
        checkpoint()
        free = defined & ~grown_by_steps(mask, _GROWN)
        if free.mean() < _LEAST_FREE:
            break
        background, beside = kept_sums(whole, free).planes(scale), free
        away = smooth - background
        _, spread = median_and_mad_sigma(away[free])
        least = max(_SMOOTH_SIGMAS * noise, _SIGMAS * spread, _LEAST_SHARE * contrast)
        new = grown_by_steps(~grown_by_steps(~(away > least), 1, beyond=True), 1)
        changed = float((new != mask).mean())
        mask = new
        if changed < 1e-3:
            break
    if background is None or not mask.any():
        return None
    best, off = _best_scale(whole, free, scale, width, noise_of_pixels)
    if best != scale or beside is not free:
        background = kept_sums(whole, free).planes(best)
    contrast = float(np.median((smooth - background)[mask]))
    covered = float((smooth - background > contrast / 2).mean())
    return ObjectsFound(
        ~free & defined, background, float(width), covered, contrast, off / max(contrast, 1e-12)
    )


def _best_scale(
    whole: Floats, free: NDArray[np.bool_], scale: float, width: int, noise: float
) -> tuple[float, float]:
    """The width of local planes that tells best what lies under hidden squares as large as objects,
    and by how much it is off there, beyond the noise.

    Validated on the black squares of a board, from the white ones.
    Source: Stone 1974, Journal of the Royal Statistical Society B 36, 111–147.
    """
    rows, columns = (np.arange(n) // (2 * width) for n in whole.shape)
    board = (rows[:, None] + columns[None, :]) % 2 == 0
    seen, outside = free & board, kept_sums(whole, free & ~board)
    errors = []
    scales = [max(scale * share, _NARROWEST) for share in _SCALES]
    for scale_tried in scales:
        away = sums_about(whole - outside.planes(scale_tried), seen, 0.0)
        enough = away.count > 0.7 * BLOCK**2
        count = away.count[enough]
        squares = (away.sums[enough] / count) ** 2 - noise**2 / count
        errors.append(float(squares.mean()) if squares.size else 0.0)
    # The widest of those that are as good: it is the least noisy one.
    least = min(errors)
    slack = 0.02 * abs(least) + 0.001 * noise**2
    best = next(k for k, error in enumerate(errors) if error <= least + slack)
    return scales[best], float(np.sqrt(max(errors[best], 0.0)))


def _noise(values: Floats) -> float:
    """The standard deviation of pixels about their neighbours, by mixed second differences."""
    twice = values[1:, 1:] - values[:-1, 1:] - values[1:, :-1] + values[:-1, :-1]
    twice = twice[np.isfinite(twice)]
    return median_and_mad_sigma(twice)[1] / 2 if twice.size else 0.0


def _lowest_around(smooth: Floats, width: int) -> Floats:
    """The opening by a square of half a width, its steps smoothed."""
    side = 2 * width + 1
    return mean_both(lowest_both(lowest_both(smooth, side), side, highest=True), width)


def _half_width(smooth: Floats, noise: float) -> tuple[int, float, float]:
    """Half the width at which openings cut all objects off, the level that parts them above it,
    and their contrast; 0 where nothing stands clear of the noise.
    """
    tried = []
    half = np.asarray(block_means(smooth, 2), np.float64)
    for width in _WIDTHS:
        if 2 * width + 1 > min(smooth.shape) / 2:
            break
        checkpoint()
        # Wide openings show as well on a picture of half the size.
        above = (
            half - _lowest_around(half, width // 2)
            if width > _NARROW
            else (smooth - _lowest_around(smooth, width))[::2, ::2]
        )
        level, low, high = _two_classes(above)
        tried.append((width, level, high - low, float((above > level).mean()) * (high - low)))
    enough = [
        trial
        for trial, following in itertools.pairwise(tried)
        if trial[2] > _CLEAR * noise and following[3] < _HARDLY_MORE * trial[3]
    ]
    if not enough and tried and tried[-1][2] > _CLEAR * noise:
        enough = tried[-1:]
    # Edges within clusters are cut off by narrow openings too; whole objects stand out more.
    clearest = max((trial[2] for trial in enough), default=0.0)
    for width, level, contrast, _ in enough:
        if contrast >= _AS_CLEAR * clearest:
            return width, level, contrast
    return 0, 0.0, 0.0


def _two_classes(values: Floats) -> tuple[float, float, float]:
    """The level of largest between-class variance (Otsu 1979), and the means on both sides."""
    counts, edges = equal_bins(values, 512)
    centres = (edges[1:] + edges[:-1]) / 2
    below, first = np.cumsum(counts), np.cumsum(counts * centres)
    total, whole = float(below[-1]), float(first[-1])
    with np.errstate(invalid="ignore", divide="ignore"):
        between = (first * total - whole * below) ** 2 / (below * (total - below))
    k = int(np.nanargmax(between[:-1])) if np.isfinite(between[:-1]).any() else 0
    low = float(first[k] / max(below[k], 1))
    high = float((whole - first[k]) / max(total - below[k], 1))
    return float(edges[k + 1]), low, high


def _spread(mask: NDArray[np.bool_], factor: int, shape: tuple[int, int]) -> NDArray[np.bool_]:
    """A mask of blocks at every pixel; beyond the last whole block as on it."""
    if factor == 1:
        return mask
    rows = np.minimum(np.arange(shape[0]) // factor, mask.shape[0] - 1)
    columns = np.minimum(np.arange(shape[1]) // factor, mask.shape[1] - 1)
    return np.asarray(mask[:, columns][rows])


def _at_full_size(field: FloatPixels, factor: int, shape: tuple[int, int]) -> FloatPixels:
    return field if factor == 1 else enlarged(field, shape, factor)

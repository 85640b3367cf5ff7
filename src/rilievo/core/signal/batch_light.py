"""The light that all pictures of a batch have in common, from the pictures themselves."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.image.image import FloatPixels
from rilievo.core.robust_statistics import block_quantiles, median_and_mad_sigma, median_of

LightKind = Literal["flat", "offset"]

# Pictures are looked at in so many tiles along their longer side, and the light is a cubic spline
# of so many pieces.
_TILES, _PIECES = 64, 6
_ROUNDS = 12
# Tiles beyond these many robust standard deviations hold objects, which are brighter mostly.
_ABOVE, _BELOW = 2.5, 4.0
_FEWEST, _WANTED = 4, 0.01
_ROUNDING = 1e-9
# So many pictures at least must show the ground at each place.
_LEAST_SEEN = 5


@dataclass(frozen=True, eq=False)
class BatchLight:
    """What was found.

    field : shape (height, width): "flat", 1 in the mean; "offset", counts, 0 in the mean.
    samples : how many pictures it is from. error : of the field, from both halves of the batch
    apart; a share of the light, or counts. hidden : the largest share of pictures in which one
    place was covered. needed : pictures for an error of 1 % (of the mean level, for an offset).
    """

    kind: LightKind
    field: FloatPixels
    samples: int
    error: float
    hidden: float
    needed: int

    def sentence(self) -> str:
        """Return what was found, and whether the batch was large enough."""
        unit = " of the light" if self.kind == "flat" else " counts"
        size = f"{100 * self.error:.2g} %" if self.kind == "flat" else f"{self.error:.3g}"
        said = (
            f"From {self.samples} pictures; the two halves of them give it within {size}{unit}. "
            f"The most covered place was seen in {100 * (1 - self.hidden):.0f} % of them."
        )
        if self.samples < self.needed:
            return f"{said} For 1 % it takes some {self.needed} pictures: use more."
        return f"{said} Some {self.needed} would do for 1 %."


def batch_light(
    pictures: Iterable[NDArray[Any]], kind: LightKind = "flat", dark: float = 0.0
) -> BatchLight:
    """Return the light, or the offset, that pictures share.

        flat:   picture_k(x) − dark = level_k · light(x) + objects
        offset: picture_k(x) = level_k + offset(x) + objects

    Tiles are summed up by their medians; levels and light follow from each other by turns (rank one
    by weighted least squares, Gabriel & Zamir 1979, Technometrics 21, 489), without the tiles that
    stand out in their picture, so that no object leaves its ghost; a cubic spline through them
    gives each pixel. pictures : all of one size, undefined pixels NaN; one is held at a time.
    dark : counts without light. Raises StepError for too few pictures, other sizes, no light.
    """
    tiles, shape = _tiles_of(pictures)
    if len(tiles) < _FEWEST:
        raise StepError(
            f"The light of a batch needs {_FEWEST} pictures at least, better 20; there are "
            f"{len(tiles)}."
        )
    values = np.stack(tiles) - (dark if kind == "flat" else 0.0)
    if kind == "flat" and not (_levels(values) > 0).all():
        raise StepError(
            "A picture has no light above the dark level; correct the level, or leave it out."
        )
    bases = _bases(values.shape[1:], shape)
    coarse, seen = _common(values, kind, bases)
    halves = [_common(values[k::2], kind, bases)[0] for k in (0, 1)]
    scale = 1.0 if kind == "flat" else max(float(np.median(_levels(values))), 1e-300)
    error = float(np.sqrt(np.mean((halves[0] - halves[1]) ** 2))) / 2
    hidden = float(1 - seen.min() / len(values))
    needed = math.ceil(len(values) * (error / scale / _WANTED) ** 2)
    covered = math.ceil(_LEAST_SEEN / max(1 - hidden, 1 / len(values)))
    fine = _fine(coarse, bases, shape)
    fine = fine / fine.mean() if kind == "flat" else fine - fine.mean()
    if kind == "flat" and not fine.min() > 0:
        raise StepError("The pictures have no common light: it would be 0 somewhere.")
    return BatchLight(
        kind, fine.astype(np.float32), len(values), error, hidden, max(needed, covered, _FEWEST)
    )


def _tiles_of(
    pictures: Iterable[NDArray[Any]],
) -> tuple[list[NDArray[np.float64]], tuple[int, int]]:
    """The medians of the tiles of each picture, and the size of all."""
    medians: list[NDArray[np.float64]] = []
    shape: tuple[int, int] = (0, 0)
    for picture in pictures:
        picture_shape = (int(picture.shape[0]), int(picture.shape[1]))
        if not medians:
            shape = picture_shape
        elif picture_shape != shape:
            raise StepError(
                f"The pictures differ in size ({shape[1]} × {shape[0]} and {picture_shape[1]} × "
                f"{picture_shape[0]} pixels), so that they have no light in common; take those of "
                "one size."
            )
        rows, columns = (_cuts(side, max(shape)) for side in shape)
        medians.append(block_quantiles(picture, rows, columns, 0.5))
    return medians, shape


def _cuts(side: int, longest: int) -> NDArray[np.intp]:
    count = min(max(round(_TILES * side / longest), 1), side)
    return np.linspace(0, side, count + 1).round().astype(np.intp)


Bases = tuple[NDArray[np.float64], NDArray[np.float64]]


def _bases(tiles: tuple[int, ...], shape: tuple[int, int]) -> Bases:
    """The splines down and across, at the middles of the tiles."""
    longest = max(shape)
    splines = []
    for side, count in zip(shape, tiles, strict=True):
        cuts = _cuts(side, longest)
        middles = (cuts[:-1] + cuts[1:] - 1) / 2
        splines.append(_spline(middles, side, count))
    return splines[0], splines[1]


def _spline(at: NDArray[np.float64], side: int, tiles: int) -> NDArray[np.float64]:
    """A cubic spline over a side, of fewer and straighter pieces where there are few tiles."""
    from scipy.interpolate import BSpline  # noqa: PLC0415 (slow to import)

    degree = min(3, max(tiles - 1, 0))
    pieces = max(1, min(_PIECES, (tiles - degree) // 2))
    inner = np.linspace(-0.5, side - 0.5, pieces + 1)
    knots = np.concatenate([[inner[0]] * degree, inner, [inner[-1]] * degree])
    matrix = BSpline.design_matrix(np.asarray(at, np.float64), knots, degree)
    return np.asarray(matrix.toarray(), np.float64)


def _fine(coarse: NDArray[np.float64], bases: Bases, shape: tuple[int, int]) -> FloatPixels:
    """The spline through the tiles, at every pixel."""
    down, across = bases
    weights = np.linalg.pinv(down) @ coarse @ np.linalg.pinv(across).T
    fine = [
        _spline(np.arange(side, dtype=np.float64), side, len(base))
        for side, base in zip(shape, bases, strict=True)
    ]
    return np.asarray(fine[0] @ weights @ fine[1].T, np.float64)


def _common(
    values: NDArray[np.float64], kind: LightKind, bases: Bases
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """The light of the tiles as the spline has it, and in how many pictures each was seen."""
    levels = _levels(values)
    relative = kind == "flat"
    level = levels[:, None, None]
    light = _smooth(_median_of_known(values / level if relative else values - level), bases)
    used = np.isfinite(values)
    for _ in range(_ROUNDS):
        away = values / (level * light) - 1 if relative else values - level - light
        # What rounding leaves is no object.
        scale = 1.0 if relative else float(np.abs(levels).max())
        sigma = max(median_and_mad_sigma(away[np.isfinite(away)])[1], _ROUNDING * scale)
        again = np.isfinite(away) & (away < _ABOVE * sigma) & (away > -_BELOW * sigma)
        with np.errstate(invalid="ignore", divide="ignore"):
            if relative:
                weight = np.where(again, level, 0.0)
                raw = np.nansum(weight * np.where(again, values, 0), 0) / (weight**2).sum(0)
            else:
                raw = np.where(again, values - level, 0).sum(0) / again.sum(0)
        light = _smooth(raw, bases)
        light = light / light.mean() if relative else light - light.mean()
        shown = np.where(again, values, 0.0)
        if relative:
            lit = np.where(again, light, 0.0)
            levels = (shown * lit).sum((1, 2)) / (lit**2).sum((1, 2))
        else:
            levels = np.where(again, values - light, 0).sum((1, 2)) / again.sum((1, 2))
        level = levels[:, None, None]
        if (again == used).all():
            break
        used = again
    return light, used.sum(axis=0)


def _levels(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """The median over the tiles of each picture; NaN of one without any value."""
    finite = (picture[np.isfinite(picture)] for picture in values)
    return np.array([median_of(picture) for picture in finite], np.float64)


def _median_of_known(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """The median over pictures of each tile; NaN where none knows it."""
    has_value = np.isfinite(values).any(axis=0)
    medians = np.full(values.shape[1:], np.nan)
    medians[has_value] = np.nanmedian(values[:, has_value], axis=0)
    return medians


def _smooth(raw: NDArray[np.float64], bases: Bases) -> NDArray[np.float64]:
    """The spline nearest to the tiles that are known, by least squares."""
    down, across = bases
    finite = np.isfinite(raw)
    if finite.all():
        inner = np.linalg.pinv(down) @ raw @ np.linalg.pinv(across).T
        return np.asarray(down @ inner @ across.T)
    if not finite.any():
        raise StepError("No place of the pictures shows the ground.")
    rows, columns = np.nonzero(finite)
    terms = (down[rows][:, :, None] * across[columns][:, None, :]).reshape(rows.size, -1)
    solved = np.linalg.lstsq(terms, raw[finite], rcond=None)[0]
    inner = solved.reshape(down.shape[1], across.shape[1])
    return np.asarray(down @ inner @ across.T)

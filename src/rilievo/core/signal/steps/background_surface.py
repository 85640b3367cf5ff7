"""Background as a smooth polynomial surface through the pixels outside objects."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.progress import checkpoint
from rilievo.core.robust_statistics import NORMAL, median_of, quantile_of, some_of
from rilievo.core.signal.masks import grown_by_square
from rilievo.core.signal.object_finder import Side
from rilievo.core.signal.resampling import block_means
from rilievo.core.signal.steps.background import OutsideRegions, background_step, level_of
from rilievo.core.signal.steps.beside_objects import BesideObjects
from rilievo.core.signal.steps.fields import length, sigmas
from rilievo.core.signal.steps.step import StepContext

_MOST_ROUNDS = 30
# On the side where no objects are, only what is far off is left out.
_FAR = 5.0
# The first guess goes through the darker (brighter) part of so many tiles a side.
_FIRST_TILES, _FIRST_SHARE = 12, 0.25
# A larger image is fitted on the means of its blocks.
_ENOUGH = 250_000


class SurfaceBackground(OutsideRegions):
    """Subtract a polynomial surface fitted to the pixels outside objects."""

    in_words: ClassVar[str] = (
        "Background was estimated as a polynomial surface of order {order}, fitted to pixels "
        "outside {objects} objects (beyond {clip} robust standard deviations, grown by {grow}"
        " px), and {result}"
    )

    order: Literal[1, 2, 3] = Field(
        2, title="Order", description="1 is a plane, 2 also bends, 3 also twists"
    )
    objects: Literal["automatic", "bright", "dark", "both"] = Field(
        "automatic",
        title="Objects are",
        description="automatic finds them first; else which side is left out of the fit",
    )
    clip: float = sigmas(
        2.5, "Leave out beyond", "pixels further from the surface count as objects"
    )
    grow: float = length(
        2.0,
        "Around objects",
        "pixels beside those that are left out, for faint outskirts",
        most=100,
        step=1,
    )


@background_step(
    "background.surface", title="Background surface", parameters=SurfaceBackground, order=140
)
def surface(plane: Plane, parameters: SurfaceBackground, context: StepContext) -> FloatPixels:
    """Return the polynomial surface at every pixel.

        b(x, y) = Σ c_jk · x^j · y^k with j + k ≤ order

    by least squares over the pixels that are no objects. They are found by turns: fit, leave out
    what is over `clip` robust sigmas on the objects' side and all within `grow` pixels of it, fit
    again, until nothing changes.
    plane : shape (height, width); undefined pixels are left out.
    """
    # Blocks of a large image tell as much as its pixels, and objects stand out of their noise.
    factor = max(1, int(np.sqrt(plane.pixels.size / _ENOUGH)))
    automatic = parameters.objects == "automatic"
    side: Side = {"bright": "bright", "dark": "dark"}.get(parameters.objects, "either")  # type: ignore[assignment]
    beside = BesideObjects(plane.as_float(), context, side, automatic=automatic)
    if automatic:
        # Objects have given way to the background beside them; what is left is noise.
        parameters = parameters.model_copy(update={"objects": "both"})
    values = block_means(beside.values, factor) if factor > 1 else beside.values
    parameters = parameters.shrunk(factor)
    fit = _Fit(values, parameters.order, factor, plane.shape)
    if not fit.defined.any():
        return level_of(float("nan"), plane)
    coefficients = fit.through(*_first_guess(values, parameters))
    used = fit.defined
    for rounds in range(1, _MOST_ROUNDS + 1):
        checkpoint()
        away = values - fit.field(coefficients)
        new = fit.defined & ~_objects(away, parameters)
        if new.sum() < len(fit.terms):
            break
        coefficients = fit.of(new)
        done = np.count_nonzero(new != used) <= 1e-5 * new.size
        used = new
        context.record(rounds=rounds)
        if done:
            break
    context.record(objects=100 * (1 - np.count_nonzero(used) / max(fit.defined.sum(), 1)))
    return beside.told(fit.whole_field(coefficients))


def _objects(away: FloatPixels, parameters: SurfaceBackground) -> NDArray[np.bool_]:
    """Which pixels are too far from the surface, and those beside them."""
    sign = -1.0 if parameters.objects == "dark" else 1.0
    few = some_of(away) * sign
    # The side without objects tells the noise; with objects on both it is the middle that does.
    lower = few[few < 0]
    if parameters.objects == "both" or lower.size < 0.1 * few.size:
        sigma = NORMAL * median_of(np.abs(few))
    else:
        sigma = NORMAL * median_of(-lower)
    far = parameters.clip if parameters.objects == "both" else _FAR
    if sigma == 0:
        return np.zeros(away.shape, np.bool_)
    with np.errstate(invalid="ignore"):
        high = away * sign > parameters.clip * sigma
        low = away * sign < -far * sigma
    reach = round(parameters.grow)
    if reach:
        # Single bright pixels of the noise are no objects; an object fills its surroundings.
        high |= grown_by_square(high & (_of_nine(high) > 0.4 * 9), reach)
    return np.asarray(high | low)


def _of_nine(mask: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """How many of the 3 × 3 pixels around each are in a mask, which goes on beyond its border."""
    wide = np.pad(mask.astype(np.uint8), 1, mode="edge")
    rows = wide[:-2] + wide[1:-1] + wide[2:]
    return np.asarray(rows[:, :-2] + rows[:, 1:-1] + rows[:, 2:])


def _first_guess(
    values: FloatPixels, parameters: SurfaceBackground
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Places (−1 … 1) and low (high, middle) levels of a few tiles over the image."""
    share = {"bright": _FIRST_SHARE, "dark": 1 - _FIRST_SHARE, "both": 0.5}[parameters.objects]
    height, width = values.shape
    xs, ys, levels = [], [], []
    for rows in np.array_split(np.arange(height), min(height, _FIRST_TILES)):
        for columns in np.array_split(np.arange(width), min(width, _FIRST_TILES)):
            tile = values[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
            few = some_of(tile)
            if few.size:
                ys.append(rows.mean())
                xs.append(columns.mean())
                levels.append(quantile_of(few, share))
    x = 2 * np.array(xs) / max(width - 1, 1) - 1
    y = 2 * np.array(ys) / max(height - 1, 1) - 1
    return x, y, np.array(levels)


def _positions(count: int, length: int, factor: int) -> NDArray[np.float64]:
    """Where blocks have their centres, from −1 for the first pixel to 1 for the last."""
    if length == 1:
        return np.zeros(count)
    centres = np.arange(count) * factor + (factor - 1) / 2
    return np.asarray(2 * centres / (length - 1) - 1)


class _Fit:
    """Least squares of a polynomial on a grid, from sums along rows and columns alone."""

    def __init__(
        self, values: FloatPixels, order: int, factor: int, shape: tuple[int, int]
    ) -> None:
        """values : blocks of factor × factor pixels of a plane of `shape`."""
        self.defined = np.isfinite(values)
        self.anchor = float(values[self.defined].mean()) if self.defined.any() else 0.0
        self.away = np.where(self.defined, values - values.dtype.type(self.anchor), 0)
        self.dtype = values.dtype
        height, width = values.shape
        usable = min(order, max(height, width) - 1)
        # Over 1 pixel across there is no slope, and no bend over 2.
        self.terms = [
            (j, k)
            for j in range(usable + 1)
            for k in range(usable + 1 - j)
            if j < width and k < height
        ]
        self.whole = _positions(shape[0], shape[0], 1), _positions(shape[1], shape[1], 1)
        self.y, self.x = _positions(height, shape[0], factor), _positions(width, shape[1], factor)
        self.order = order

    def of(self, used: NDArray[np.bool_]) -> NDArray[np.float64]:
        """Return the coefficients from the pixels that are kept."""
        powers = 2 * self.order + 1
        x = np.stack([self.x**k for k in range(powers)], axis=1)
        y = np.stack([self.y**k for k in range(powers)], axis=1)
        weights = used.astype(np.float32)
        # Sums of x^j y^k over the kept pixels: a product of matrices.
        sums = y.T @ (weights @ x.astype(np.float32)).astype(np.float64)
        seen = np.where(used, self.away, self.away.dtype.type(0))
        right = y.T @ (seen @ x.astype(seen.dtype)).astype(np.float64)
        matrix = np.array([[sums[k + m, j + i] for i, m in self.terms] for j, k in self.terms])
        vector = np.array([right[k, j] for j, k in self.terms])
        return self._solved(matrix, vector)

    def through(
        self, x: NDArray[np.float64], y: NDArray[np.float64], levels: NDArray[np.float64]
    ) -> NDArray[np.float64]:
        """Return the coefficients through scattered points."""
        design = np.stack([x**j * y**k for j, k in self.terms], axis=1)
        return np.asarray(np.linalg.lstsq(design, levels - self.anchor, rcond=None)[0])

    @staticmethod
    def _solved(matrix: NDArray[Any], vector: NDArray[Any]) -> NDArray[np.float64]:
        return np.asarray(np.linalg.lstsq(matrix, vector, rcond=None)[0])

    def field(self, coefficients: NDArray[np.float64]) -> FloatPixels:
        """Return the surface at every block."""
        return self._at(coefficients, self.y, self.x)

    def whole_field(self, coefficients: NDArray[np.float64]) -> FloatPixels:
        """Return the surface at every pixel of the plane."""
        return self._at(coefficients, *self.whole)

    def _at(
        self,
        coefficients: NDArray[np.float64],
        down: NDArray[np.float64],
        across: NDArray[np.float64],
    ) -> FloatPixels:
        table = np.zeros((self.order + 1, self.order + 1))
        for (j, k), value in zip(self.terms, coefficients, strict=True):
            table[k, j] = value
        x = np.stack([across**k for k in range(self.order + 1)])
        y = np.stack([down**k for k in range(self.order + 1)], axis=1)
        table[0, 0] += self.anchor
        return np.asarray((y @ table).astype(self.dtype) @ x.astype(self.dtype))

"""Smoothing, sharpening, and what is finer or coarser than a size."""

from __future__ import annotations

from typing import ClassVar, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from rilievo.core.image.image import FloatPixels
from rilievo.core.signal.medians import median
from rilievo.core.signal.smoothing import convolved, gaussian, mean, weighted, weighted_both
from rilievo.core.signal.steps.fields import length, side
from rilievo.core.signal.steps.step import StepParameters, nearest_odd, on_values, step

_MOST_SIDE = 15


class GaussianSmoothing(StepParameters):
    """Smooth by a Gaussian."""

    in_words: ClassVar[str] = "Pictures were smoothed by a Gaussian of σ = {sigma} px"

    sigma: float = length(1.0, "Sigma", most=500, description="standard deviation of the Gaussian")


class SquareOfPixels(StepParameters):
    """A square of pixels."""

    size: int = side(3, most=501)


class MedianSmoothing(SquareOfPixels):
    """Replace each pixel by the median around it, which keeps edges."""

    in_words: ClassVar[str] = "Pictures were smoothed by a median over {size} × {size} px"

    size: int = side(3, most=51)


class MeanSmoothing(SquareOfPixels):
    """Replace each pixel by the mean around it."""

    in_words: ClassVar[str] = "Pictures were smoothed by a mean over {size} × {size} px"


class Unsharp(StepParameters):
    """Sharpen by adding what a Gaussian takes away."""

    in_words: ClassVar[str] = "Pictures were sharpened (σ = {sigma} px, amount {amount})"

    sigma: float = Field(
        2.0,
        gt=0,
        le=500,
        title="Sigma",
        json_schema_extra={"unit": "px", "step": 0.5, "scales": True},
        description="standard deviation of the Gaussian that is taken off",
    )
    amount: float = Field(
        0.6,
        ge=0,
        le=20,
        title="Amount",
        json_schema_extra={"step": 0.1},
        description="how much of the detail is added",
    )


class LowPass(SquareOfPixels):
    """Keep what is coarser than a kernel of binomial weights."""

    in_words: ClassVar[str] = "A low-pass filter over {size} px was applied"

    def shrunk(self, factor: float) -> Self:
        """Binomial weights are as wide as the root of their side."""
        return self.model_copy(update={"size": nearest_odd(1 + (self.size - 1) / factor**2)})


class HighPass(LowPass):
    """Keep what is finer than a kernel of binomial weights; the level becomes 0."""

    in_words: ClassVar[str] = "A high-pass filter over {size} px was applied"


class Kernel(StepParameters):
    """Convolve with a small matrix that you type."""

    in_words: ClassVar[str] = "Pictures were convolved with the kernel {matrix}"

    matrix: str = Field(
        "0 -1 0; -1 5 -1; 0 -1 0",
        max_length=4000,
        title="Matrix",
        description="numbers of a row separated by spaces, rows by ; or new lines; odd sides",
        json_schema_extra={"lines": 3},
    )
    normalised: bool = Field(
        True, title="Make the sum 1", description="when the sum of the matrix is not 0"
    )

    @field_validator("matrix")
    @classmethod
    def _readable(cls, text: str) -> str:
        parsed_matrix(text)
        return text

    def shrunk(self, factor: float) -> Self:
        """On a coarse picture a small matrix does what its sum does."""
        if factor <= 1:
            return self
        total = float(self.weights.sum())
        return self.model_copy(update={"matrix": f"{total:.17g}", "normalised": False})

    @property
    def weights(self) -> NDArray[np.float64]:
        """The matrix as it is applied."""
        matrix = parsed_matrix(self.matrix)
        total = float(matrix.sum())
        return matrix / total if self.normalised and total else matrix


def parsed_matrix(text: str) -> NDArray[np.float64]:
    """Return a typed matrix; ValueError says what is wrong with it."""
    rows = [row.replace(",", " ").split() for row in text.replace("\n", ";").split(";")]
    rows = [row for row in rows if row]
    if not rows:
        raise ValueError("must hold at least one number")
    if len({len(row) for row in rows}) > 1:
        raise ValueError("must have rows of one length")
    if len(rows) % 2 == 0 or len(rows[0]) % 2 == 0 or max(len(rows), len(rows[0])) > _MOST_SIDE:
        raise ValueError(f"must have an odd number of rows and columns, up to {_MOST_SIDE}")
    try:
        matrix = np.array([[float(word.replace("−", "-")) for word in row] for row in rows])
    except ValueError as exc:
        wrong = next(word for row in rows for word in row if not _is_number(word))
        raise ValueError(f"holds “{wrong}”, which is not a number") from exc
    if not np.isfinite(matrix).all():
        raise ValueError("must hold finite numbers")
    return matrix


def _is_number(word: str) -> bool:
    try:
        float(word.replace("−", "-"))
    except ValueError:
        return False
    return True


class GaussianDifference(StepParameters):
    """Keep what is of a size between two Gaussians; the level becomes 0."""

    in_words: ClassVar[str] = (
        "The difference of Gaussians of σ = {inner} px and {outer} px was taken"
    )

    inner: float = length(
        1.0, "Inner sigma", most=500, description="sigma of the narrower Gaussian"
    )
    outer: float = length(
        3.0, "Outer sigma", most=500, description="sigma of the wider Gaussian, which is subtracted"
    )


def _half(parameters: SquareOfPixels) -> int:
    """How far a square reaches from its middle."""
    return parameters.size // 2 + 1


def binomial(values: FloatPixels, size: int) -> FloatPixels:
    """Return the mean with binomial weights over size × size pixels (size made odd)."""
    half = _binomial_weights(size | 1)[: (size | 1) // 2 + 1][::-1].copy()
    return weighted(values, lambda v: weighted_both(v, half))


def _binomial_weights(size: int) -> NDArray[np.float64]:
    from scipy.special import gammaln  # noqa: PLC0415 (slow to import)

    n, k = size - 1, np.arange(size)
    logarithm = gammaln(n + 1) - gammaln(k + 1) - gammaln(n - k + 1) - n * np.log(2.0)
    weights = np.exp(logarithm)
    return np.asarray(weights / weights.sum())


@step(
    "smooth.gaussian",
    title="Gaussian smoothing",
    family="Smoothing",
    parameters=GaussianSmoothing,
    linear=True,
    reach=lambda p: int(4 * p.sigma + 1),
    order=320,
)
@on_values
def smooth_gaussian(values: FloatPixels, parameters: GaussianSmoothing) -> FloatPixels:
    """Return the mean with weights exp(−d² / 2σ²), cut off at 4σ, undefined pixels left out."""
    return gaussian(values, parameters.sigma)


@step(
    "smooth.median",
    title="Median smoothing",
    family="Smoothing",
    parameters=MedianSmoothing,
    linear=True,
    reach=_half,
    order=330,
)
@on_values
def smooth_median(values: FloatPixels, parameters: MedianSmoothing) -> FloatPixels:
    """Return the median of the square around each pixel, undefined pixels left out."""
    return median(values, parameters.size | 1)


@step(
    "smooth.mean",
    title="Mean smoothing",
    family="Smoothing",
    parameters=MeanSmoothing,
    linear=True,
    reach=_half,
    order=340,
)
@on_values
def smooth_mean(values: FloatPixels, parameters: MeanSmoothing) -> FloatPixels:
    """Return the mean of the square around each pixel, undefined pixels left out."""
    return mean(values, parameters.size | 1)


@step(
    "sharpen.unsharp",
    title="Sharpening",
    family="Smoothing",
    parameters=Unsharp,
    linear=True,
    reach=lambda p: int(4 * p.sigma + 1),
    order=350,
)
@on_values
def unsharp(values: FloatPixels, parameters: Unsharp) -> FloatPixels:
    """Return v + amount · (v − Gaussian(v))."""
    away = values - gaussian(values, parameters.sigma)
    return values + values.dtype.type(parameters.amount) * away


@step(
    "filter.low_pass",
    title="Low-pass",
    family="Smoothing",
    parameters=LowPass,
    linear=True,
    reach=_half,
    order=360,
)
@on_values
def low_pass(values: FloatPixels, parameters: LowPass) -> FloatPixels:
    """Return the mean with binomial weights C(n, j) · C(n, i) / 4ⁿ, n = side − 1."""
    return binomial(values, parameters.size)


@step(
    "filter.high_pass",
    title="High-pass",
    family="Smoothing",
    parameters=HighPass,
    linear=True,
    reach=_half,
    constant=0.0,
    order=370,
)
@on_values
def high_pass(values: FloatPixels, parameters: HighPass) -> FloatPixels:
    """Return v minus its low-pass."""
    return values - binomial(values, parameters.size)


@step(
    "filter.kernel",
    title="Own kernel",
    family="Smoothing",
    parameters=Kernel,
    linear=True,
    reach=_MOST_SIDE // 2 + 1,
    constant=lambda p: float(p.weights.sum()),
    order=380,
)
@on_values
def own_kernel(values: FloatPixels, parameters: Kernel) -> FloatPixels:
    """Return the convolution Σ k[j, i] · v[y − j, x − i]; undefined pixels count as the mean."""
    return convolved(values, parameters.weights)


@step(
    "filter.difference",
    title="Difference of Gaussians",
    family="Smoothing",
    parameters=GaussianDifference,
    linear=True,
    reach=lambda p: int(4 * max(p.inner, p.outer) + 1),
    constant=0.0,
    order=390,
)
@on_values
def gaussian_difference(values: FloatPixels, parameters: GaussianDifference) -> FloatPixels:
    """Return Gaussian(v, inner) − Gaussian(v, outer)."""
    return gaussian(values, parameters.inner) - gaussian(values, parameters.outer)

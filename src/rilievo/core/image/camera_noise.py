"""The noise of a camera, and how it follows from pairs of flat and dark frames."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError

Numbers = NDArray[np.float64]
# Pairs beyond so many standard deviations, and such a share, are left out.
_BEYOND, _STEADY = 4.0, 0.03
_SAME_LEVEL = 0.05


@dataclass(frozen=True)
class CameraNoise:
    """gain : electrons a count. read_noise : electrons (root mean square). dark : counts without
    light. A pixel of v counts has a variance of (v − dark)/gain + (read_noise/gain)² counts².
    """

    gain: float
    read_noise: float = 0.0
    dark: float = 0.0

    def variance(self, counts: NDArray[Any]) -> Numbers:
        """Return the variance of pixels in counts²; below the dark level only the readout's."""
        light = np.maximum(np.asarray(counts, np.float64) - self.dark, 0.0)
        return np.asarray(light / self.gain + (self.read_noise / self.gain) ** 2, np.float64)

    def drawn(self, counts: NDArray[Any], rng: np.random.Generator) -> Numbers:
        """Return pixels with noise as the camera would add it, from a normal distribution."""
        noise = rng.standard_normal(counts.shape) * np.sqrt(self.variance(counts))
        return np.asarray(counts, np.float64) + noise


@dataclass(frozen=True, eq=False)
class PhotonTransfer:
    """A camera's noise with errors, and what it is from.

    level, variance : of each pair of flats, above the dark level, counts and counts². used : which
    pairs lie on the line; others are saturated or not of even light. spread : how far those lie
    from it, as a share of the slope.
    """

    noise: CameraNoise
    gain_error: float
    read_noise_error: float
    level: Numbers
    variance: Numbers
    used: NDArray[np.bool_]
    spread: float

    def sentence(self) -> str:
        """Return what was found."""
        noise = self.noise
        out = int((~self.used).sum())
        left = f" {out} pairs do not lie on the line and are left out." if out else ""
        return (
            f"Gain {noise.gain:.4g} ± {self.gain_error:.2g} electrons a count, read noise "
            f"{noise.read_noise:.3g} ± {self.read_noise_error:.2g} electrons, dark level "
            f"{noise.dark:.4g} counts, from {self.level.size} pairs of flats.{left}"
        )


def paired_by_level(frames: Sequence[NDArray[Any]]) -> list[tuple[NDArray[Any], NDArray[Any]]]:
    """Return frames in pairs of about the same level, from dim to bright; one over is left out.

    Two frames are a pair where their levels differ by less than a twentieth.
    """
    ordered = sorted(frames, key=lambda frame: float(np.mean(frame)))
    pairs, k = [], 0
    while k + 1 < len(ordered):
        below, other = float(np.mean(ordered[k])), float(np.mean(ordered[k + 1]))
        if abs(other - below) <= _SAME_LEVEL * max(abs(other), 1e-300):
            pairs.append((ordered[k], ordered[k + 1]))
            k += 2
        else:
            k += 1
    return pairs


def photon_transfer(
    flats: Sequence[tuple[NDArray[Any], NDArray[Any]]],
    darks: Sequence[tuple[NDArray[Any], NDArray[Any]]],
) -> PhotonTransfer:
    """Return gain and read noise from pairs of frames of the same light.

    The variance of half the difference of a pair is free of what is the same in both, such as
    uneven light and pixels of other sensitivity:

        var(A − B)/2 = level/gain + (read noise/gain)²

    read noise and dark level from the darks; gain by weighted least squares through them. Pairs
    that stand apart from the middle one, such as saturated ones, are left out.
    flats, darks : at least two pairs of flats and one of darks, all of one size.
    Raises StepError for too few, other sizes or no light. Source: Janesick 2007, Photon Transfer.
    """
    if len(flats) < 2 or not darks:
        raise StepError("Photon transfer needs two pairs of flats and one pair of darks at least.")
    shapes = {frame.shape for pair in (*flats, *darks) for frame in pair}
    if len(shapes) > 1:
        raise StepError("The frames differ in size; take them all with the same settings.")
    dark = float(np.mean([np.mean(frame) for pair in darks for frame in pair]))
    floor = float(np.mean([_half_variance(*pair) for pair in darks]))
    count = float(next(iter(flats))[0].size)
    floor_error = floor * math.sqrt(2 / (count * len(darks)))
    level = np.array([(np.mean(a) + np.mean(b)) / 2 - dark for a, b in flats], np.float64)
    variance = np.array([_half_variance(a, b) for a, b in flats], np.float64)
    if not (level > 0).any():
        raise StepError("The flats have no light above the darks; check which files are which.")
    lit = level > 0
    slopes = np.divide(variance - floor, level, out=np.zeros(level.size), where=lit)
    middle = float(np.median(slopes[lit]))
    if not middle > 0:
        raise StepError("The noise of the flats does not grow with their light; check them.")
    # What the number of pixels allows; light is never steadier than some parts in a hundred.
    sure = math.sqrt(2 / count) * variance / np.where(lit, level * middle, 1.0)
    used = lit & (np.abs(slopes / middle - 1) <= np.maximum(_BEYOND * sure, _STEADY))
    if used.sum() < 2:
        raise StepError("The pairs of flats do not agree on a gain; take them of steady light.")
    slope = _slope(level[used], variance[used] - floor, variance[used])
    gain = 1 / slope
    spread = float(np.sqrt(np.mean((slopes[used] / slope - 1) ** 2)))
    weights = level[used] ** 2 / variance[used] ** 2
    slope_error = math.sqrt(
        2 / count / float(weights.sum()) + (floor_error / level[used].max()) ** 2
    )
    read = math.sqrt(floor)
    return PhotonTransfer(
        CameraNoise(gain, read * gain, dark),
        gain_error=slope_error * gain**2,
        read_noise_error=gain * floor_error / (2 * read) if read else 0.0,
        level=level,
        variance=variance,
        used=used,
        spread=spread,
    )


def _half_variance(first: NDArray[Any], second: NDArray[Any]) -> float:
    away = np.asarray(first, np.float64) - np.asarray(second, np.float64)
    return float(np.var(away, ddof=1)) / 2


def _slope(level: Numbers, variance: Numbers, weight_of: Numbers) -> float:
    """Through the origin; a variance is as uncertain as it is large."""
    weights = 1 / weight_of**2
    return float((weights * level * variance).sum() / (weights * level**2).sum())

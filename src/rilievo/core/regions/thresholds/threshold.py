"""What a threshold is, and the registry of all of them.

Most give one level; pixels equal to it are background for bright objects and belong to dark
ones. Others (a band, local ones, classes, colours) say by themselves which pixels they keep.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Calibration, FloatPixels
from rilievo.core.parameters import Parameters
from rilievo.core.registry import Registry

Mask = NDArray[np.bool_]
Kind = Literal["Threshold", "Local", "Classes", "Colour"]
Live = Literal["", "level", "band"]


class ThresholdParameters(Parameters):
    """Base of the parameters of a threshold."""

    def channels_read(self) -> tuple[str, ...]:
        """Return the names of other channels that decide which pixels are kept."""
        return ()

    def on_side(self, level: float, keep: Literal["bright", "dark"]) -> float:  # noqa: ARG002
        """Return the level at which pixels of the side that is kept are parted; the same here."""
        return level


class Pixels(Protocol):
    """What a threshold that keeps pixels by itself may look at."""

    keep: Literal["bright", "dark"]
    # Of the sample.
    name: str

    @property
    def values(self) -> FloatPixels:
        """Signal of the channel, shape (height, width); NaN where undefined."""

    @property
    def calibration(self) -> Calibration:
        """Size of a pixel."""

    def histogram(self) -> Histogram:
        """Return the full histogram of the signal."""

    def channel(self, name: str) -> FloatPixels:
        """Return the signal of another channel. Raises StepError when there is none."""


@dataclass(frozen=True)
class Threshold:
    """One way to part pixels.

    find : (full histogram of the signal, parameters) → level in signal units, or NaN when the
    histogram holds no two levels to part; None for ways that are not one level.
    mask : (pixels, parameters) → which pixels are kept; None where a level says so.
    automatic : the level follows from the data of each sample.
    live : what is dragged on the histogram and shown at once: one level, the two ends of a band,
    or nothing. short_title : where room is short, as on the histogram; the title for "".
    """

    key: str
    title: str
    explanation: str
    parameters: type[ThresholdParameters]
    find: Callable[[Histogram, Any], float] | None
    mask: Callable[[Pixels, Any], Mask] | None
    automatic: bool
    kind: Kind
    live: Live = ""
    short_title: str = ""

    @property
    def has_side(self) -> bool:
        """Whether it keeps what is brighter or what is darker, as one chooses."""
        return self.kind in ("Threshold", "Local") and self.live != "band"


THRESHOLDS: Registry[Threshold] = Registry(
    "threshold", "rilievo.core.regions.thresholds", "rilievo.thresholds"
)

Find = TypeVar("Find", bound=Callable[..., float])
Masked = TypeVar("Masked", bound=Callable[..., Mask])


def _explained(parameters: type[ThresholdParameters]) -> str:
    return (parameters.__doc__ or "").strip().splitlines()[0]


def threshold(
    key: str,
    *,
    title: str,
    parameters: type[ThresholdParameters],
    automatic: bool,
    live: Live = "",
    short_title: str = "",
    order: float | None = None,
) -> Callable[[Find], Find]:
    """Register a function that finds a level; its parameters' first docstring line explains it.

    automatic, live : see `Threshold`. order : where it stands in lists; None comes last.
    """

    def register(find: Find) -> Find:
        explanation = _explained(parameters)
        entry = Threshold(
            key,
            title,
            explanation,
            parameters,
            find,
            None,
            automatic,
            kind="Threshold",
            live=live,
            short_title=short_title,
        )
        THRESHOLDS.add(key, entry, order)
        return find

    return register


def pixel_threshold(
    key: str,
    *,
    title: str,
    parameters: type[ThresholdParameters],
    kind: Kind,
    live: Live = "",
    order: float | None = None,
) -> Callable[[Masked], Masked]:
    """Register a function that says which pixels are kept."""

    def register(mask: Masked) -> Masked:
        explanation = _explained(parameters)
        THRESHOLDS.add(
            key,
            Threshold(
                key,
                title,
                explanation,
                parameters,
                None,
                mask,
                automatic=False,
                kind=kind,
                live=live,
            ),
            order,
        )
        return mask

    return register


def automatic_levels(histogram: Histogram) -> dict[str, float]:
    """Return the level of every automatic threshold with its own defaults, by key."""
    return {
        key: entry.find(histogram, entry.parameters())
        for key in THRESHOLDS
        if (entry := THRESHOLDS[key]).automatic and entry.find is not None
    }


@dataclass(frozen=True, eq=False)
class Parted:
    """A histogram cut after each of its bins: what lies below the cut and above it.

    positions : of the bins that hold a pixel, in steps between levels that can occur. counts :
    per bin, float. weight, first : pixels and sum of positions at or below each cut. total,
    whole : those of all bins.
    """

    positions: NDArray[np.float64]
    counts: NDArray[np.float64]
    weight: NDArray[np.float64]
    first: NDArray[np.float64]
    total: float
    whole: float

    @property
    def below(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Pixels, and their sum of positions, at or below each cut with pixels on both sides."""
        return self.weight[:-1], self.first[:-1]

    @property
    def above(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Pixels, and their sum of positions, above each cut with pixels on both sides."""
        weight, first = self.below
        return self.total - weight, self.whole - first

    @classmethod
    def of(cls, histogram: Histogram, start: float = 0.0) -> Parted:
        """Return the cuts of a histogram; `start` is the position of its lowest bin."""
        counts = histogram.counts.astype(np.float64)
        positions = (histogram.bins - histogram.bins[0]) / histogram.step + start
        weight, first = np.cumsum(counts), np.cumsum(counts * positions)
        return cls(positions, counts, weight, first, float(weight[-1]), float(first[-1]))


def best_cut(
    histogram: Histogram,
    start: float,
    score: Callable[[Parted], NDArray[np.float64]],
) -> float:
    """Return the level of the cut with the highest score; NaN when all values are equal.

    start : position of the lowest bin. score : a number for each cut with pixels on both sides.
    The level lies in the middle of the stretch of cuts that are alike (up to the next bin that
    holds a pixel), so that it leans on no class.
    """
    if not has_two_levels(histogram):
        return math.nan
    scores = score(Parted.of(histogram, start))
    best = np.flatnonzero(scores >= scores.max() - 1e-12 * max(abs(float(scores.max())), 1e-300))
    # Only the first unbroken stretch: two equal peaks have nothing good between them.
    breaks = np.flatnonzero(np.diff(best) > 1)
    last = best[breaks[0]] if breaks.size else best[-1]
    return level_between(histogram, int(best[0]), int(last) + 1)


def level_between(histogram: Histogram, low: int, high: int) -> float:
    """Return the level in the middle between two of the bins that hold a pixel, by their index.

    Between levels it is on their lattice, the lower of two in the middle.
    """
    below, above = int(histogram.bins[low]), int(histogram.bins[high])
    if not histogram.levels:
        return histogram.first + (below + 1 + above) / 2 * histogram.width
    # Any cut from `below` to one level before `above` parts the same pixels.
    return histogram.level_above((below + above - 1) // 2)


def has_two_levels(histogram: Histogram) -> bool:
    """Return whether there is anything to part."""
    return histogram.bins.size >= 2

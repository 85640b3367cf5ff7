"""What stands at one place of all planes of a stack: a profile along its depth or time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.curve_fits import Fit, fit_curve
from rilievo.core.compare.question import FitKind
from rilievo.core.errors import ComparisonError
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.progress import checkpoint
from rilievo.core.study.study import SampleEntry


@dataclass(frozen=True)
class Place:
    """A channel and a pixel, with so many neighbours to each side.

    channel, x, y, reach : of the square that is averaged. corrected : whether the corrections of
    the method are in the values.
    """

    channel: str
    x: int
    y: int
    reach: int = 0
    corrected: bool = False


@dataclass(frozen=True, eq=False)
class AlongStack:
    """Values at a place of each plane, where the planes stand, and the curve through them.

    refusal : why there is no curve, where one was asked for.
    """

    positions: NDArray[np.float64]
    values: NDArray[np.float64]
    fit: Fit | None = None
    refusal: str = ""


def profile_along(
    cache: AnalysisCache,
    entries: Sequence[SampleEntry],
    positions: NDArray[np.float64],
    method: Method,
    place: Place,
    kind: FitKind = "none",
) -> AlongStack:
    """Return the values at a place of planes that stand at positions, with a curve of a kind.

    Raises what `values_along` raises.
    """
    values = values_along(cache, entries, method, place)
    if kind == "none":
        return AlongStack(positions, values)
    try:
        return AlongStack(positions, values, fit_curve(kind, positions, values))
    except ComparisonError as exc:
        return AlongStack(positions, values, refusal=str(exc))


def values_along(
    cache: AnalysisCache, entries: Sequence[SampleEntry], method: Method, place: Place
) -> NDArray[np.float64]:
    """Return the mean about a pixel in each plane, shape (planes,); undefined pixels are left out.

    NaN for a plane that lacks the channel or the pixel. Planes are read one after another; what is
    computed of them is kept as always. Raises Cancelled, FileError, StepError.
    """
    found = np.full(len(entries), np.nan)
    for k, entry in enumerate(entries):
        checkpoint()
        read = cache.sample(entry.sources, entry.name)
        analysis = Analysis(read, method, cache, entry.overrides)
        sample = analysis.sample
        if place.channel not in sample.channels:
            continue
        plane = sample.channels[place.channel]
        if place.corrected:
            plane = analysis.signal(place.channel)
        rows = slice(max(place.y - place.reach, 0), place.y + place.reach + 1)
        columns = slice(max(place.x - place.reach, 0), place.x + place.reach + 1)
        values = plane.pixels[rows, columns].astype(np.float64)
        defined = np.isfinite(values)
        if defined.any():
            found[k] = float(values[defined].mean())
    return found

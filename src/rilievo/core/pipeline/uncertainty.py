"""Standard errors of measured numbers from the noise of the camera, carried through the method.

The picture is drawn again many times with the noise that the camera would add, and measured each
time: with what was estimated held still, with backgrounds estimated anew, and with regions found
anew. So every step and quantity has its error, linear or not, and the parts stand apart.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import Cancelled, RilievoError, StepError
from rilievo.core.image.camera_noise import CameraNoise
from rilievo.core.image.image import Plane, Sample
from rilievo.core.image.metadata import stated_number
from rilievo.core.measure import QUANTITIES
from rilievo.core.measure.region_index import RegionIndex
from rilievo.core.measure.region_values import RegionValues
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.progress import no_report
from rilievo.core.regions.overlap import match_regions
from rilievo.core.signal.steps import STEPS

Column = NDArray[np.float64]

DRAWS = 24
_SEED = 40_961
_BUDGET = 400_000_000
# The slope of a step at a pixel is taken over this part of the noise.
_PART = 0.5


@dataclass(frozen=True)
class NumberErrors:
    """Standard errors of a quantity, one a region; NaN where it is not known.

    pixels : from photons and readout. background : from estimating it, and the light. found : from
    finding the regions, which is threshold and split. total : of all.
    """

    total: Column
    pixels: Column
    background: Column
    found: Column


def camera_of(sample: Sample, noise: CameraNoise | None = None) -> CameraNoise:
    """Return the noise of a sample's camera: as given, or as its file states gain and read noise.

    Raises StepError where the gain is not known.
    """
    if noise is not None:
        return noise
    gain, read = (stated_number(sample.attributes, name) for name in ("gain", "read noise"))
    if not gain:
        raise StepError(
            f"The gain of the camera of “{sample.name}” is not known: type it, or find it from "
            "flat and dark frames."
        )
    dark = stated_number(sample.attributes, "dark level")
    return CameraNoise(gain, read, dark)


def errors_of_numbers(
    analysis: Analysis,
    position: int,
    channel: str,
    quantities: Sequence[str],
    noise: CameraNoise,
    *,
    draws: int = DRAWS,
    report: Callable[[float], None] = no_report,
) -> dict[str, NumberErrors]:
    """Return the standard errors of quantities of the regions of a class, by key.

    analysis : of the sample as its file gives it, to which the noise belongs. position : of the
    class. draws : how often the
    picture is drawn; an error from 24 is itself good to a seventh. The parts of pixels and
    background are parted where a channel of the file goes through steps that work on single pixels
    or take a background off; elsewhere they are NaN, and the total holds.
    Raises errors as measuring does; draws in which it fails are left out.
    """
    read, method = analysis.given, analysis.method
    regions = analysis.regions(position)
    index = RegionIndex.of(regions)
    base = analysis.signal(channel)
    native = analysis.aligned_raw(channel)
    measured = _measuring(method, quantities)
    measured_values = measured(index, base, native)
    parted = _is_parted(read, method, channel)
    slopes = _slopes(analysis, channel, noise) if parted else None
    kinds: dict[str, dict[str, list[Column]]] = {
        kind: {key: [] for key in quantities} for kind in ("still", "fixed", "found")
    }
    rng = np.random.default_rng(_SEED)
    for draw in range(draws):
        report(draw / draws)
        drawn = _drawn(read, noise, rng, f"draw {draw}")
        noisy = Analysis(drawn, method, AnalysisCache(_BUDGET), analysis.overrides)
        try:
            signal, moved = noisy.signal(channel), noisy.aligned_raw(channel)
            again = noisy.regions(position)
        except Cancelled:
            raise
        except RilievoError:
            continue
        fixed = measured(index, signal, moved)
        if slopes is not None:
            away = moved.as_float() - native.as_float()
            still = base.with_pixels(base.as_float() + slopes * away, None)
            _add(kinds["still"], measured(index, still, moved))
        _add(kinds["fixed"], fixed)
        measured_again = measured(RegionIndex.of(again), signal, moved)
        _add(
            kinds["found"],
            _matched(measured_again, again.labels, again.ids, regions.labels, regions.ids),
        )
    return {key: _errors(key, kinds, measured_values) for key in quantities}


def _measuring(
    method: Method, quantities: Sequence[str]
) -> Callable[[RegionIndex, Plane, Plane], dict[str, Column]]:
    measure = method.measure

    def values(index: RegionIndex, signal: Plane, native: Plane) -> dict[str, Column]:
        region_values = RegionValues(
            index,
            signal,
            native,
            exclude_saturated=measure.exclude_saturated,
            exclude_empty=measure.exclude_empty,
            ring=(measure.ring_gap, measure.ring_width),
        )
        return {
            key: np.asarray(QUANTITIES[key].measure(region_values), np.float64)
            for key in quantities
        }

    return values


def _drawn(sample: Sample, noise: CameraNoise, rng: np.random.Generator, name: str) -> Sample:
    """The sample with further noise in all channels."""
    channels = {
        key: plane.with_pixels(noise.drawn(plane.as_float(), rng), None)
        for key, plane in sample.channels.items()
    }
    return replace(sample, channels=channels, checksum=f"{sample.checksum} {name}", identity="")


def _is_parted(sample: Sample, method: Method, channel: str) -> bool:
    """Whether a channel is of the file, and each step acts on single pixels, or takes off what it
    estimates.
    """
    if channel not in sample.channels or method.reading.undo_srgb:
        return False
    steps = [(use, STEPS[use.step]) for use in method.steps_for(sample.name, channel)]
    return all(
        step.reach_of(use.parameters) == 0 or step.estimate is not None for use, step in steps
    )


def _slopes(analysis: Analysis, channel: str, noise: CameraNoise) -> Any:
    """How much a pixel of the signal moves with that of the file, backgrounds held still.

    Pixels are moved up and down in a fine random pattern, which no background follows.
    """
    sample = analysis.sample
    rng = np.random.default_rng(_SEED + 1)
    plane = sample.channels[channel]
    native = plane.as_float()
    step = _PART * np.sqrt(noise.variance(native)) + 1e-9
    signs = np.where(rng.integers(0, 2, native.shape) > 0, 1.0, -1.0)
    ends = []
    for way in (1.0, -1.0):
        moved = plane.with_pixels(native + way * signs * step, None)
        changed = replace(
            sample,
            channels={**sample.channels, channel: moved},
            checksum=f"{sample.checksum} moved {way}",
            identity="",
        )
        ends.append(
            Analysis(changed, analysis.method, AnalysisCache(_BUDGET)).signal(channel).as_float()
        )
    with np.errstate(invalid="ignore", divide="ignore"):
        return (ends[0] - ends[1]) * signs / (2 * step)


def _matched(
    values: Mapping[str, Column],
    labels: NDArray[np.int32],
    ids: NDArray[np.int64],
    first: NDArray[np.int32],
    first_ids: NDArray[np.int64],
) -> dict[str, Column]:
    """Values of regions that were found anew, in the order of the first; NaN of lost ones."""
    pairs = match_regions(first, labels)
    rows = np.searchsorted(first_ids, pairs.first)
    columns = np.searchsorted(ids, pairs.second)
    matched = {}
    for key, column in values.items():
        placed = np.full(first_ids.size, math.nan)
        placed[rows] = column[columns]
        matched[key] = placed
    return matched


def _add(columns_of: dict[str, list[Column]], values: Mapping[str, Column]) -> None:
    for key, column in values.items():
        columns_of[key].append(column)


def _errors(
    key: str, kinds: Mapping[str, Mapping[str, list[Column]]], measured_values: Mapping[str, Column]
) -> NumberErrors:
    nothing = np.full(measured_values[key].shape, math.nan)
    fixed, of_regions, still = (kinds[kind][key] for kind in ("fixed", "found", "still"))
    if len(fixed) < 3:
        return NumberErrors(nothing, nothing, nothing, nothing)
    of_fixed, of_found = np.stack(fixed), np.stack(of_regions)
    again = _spread(of_found)
    total = np.where(np.isfinite(again), again, _spread(of_fixed))
    lost = _spread(of_found - of_fixed)
    if not still:
        return NumberErrors(total, nothing, nothing, lost)
    of_still = np.stack(still)
    return NumberErrors(total, _spread(of_still), _spread(of_fixed - of_still), lost)


def _spread(values: Column) -> Column:
    """Standard deviation over draws; NaN of fewer than three."""
    finite = np.isfinite(values)
    count = finite.sum(axis=0)
    total = np.where(finite, values, 0.0).sum(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = total / count
        squares = np.where(finite, (values - mean) ** 2, 0.0).sum(axis=0)
        return np.where(count >= 3, np.sqrt(squares / (count - 1)), math.nan)

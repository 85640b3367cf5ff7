"""How much the regions depend on the threshold: count, area and mean signal against the level.

All levels cost one pass: pixels join their neighbours as the level falls (a disjoint-set forest),
so that 64 levels are not 64 runs. Limits of area of the clean-up are applied; its other steps,
which would need a run a level, are not, and the change around the present level is measured by
whole runs (`change_of_result`).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.cleaning.region_filter import KeepRange
from rilievo.core.errors import StepError
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import FloatPixels
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.node import Node
from rilievo.core.pipeline.shared_threshold import joined
from rilievo.core.pipeline.step_chain import channel_of

Floats = NDArray[np.float64]
LEVELS = 64
# Counts within this share of each other, or of one region, are alike.
_ALIKE = 0.05


@dataclass(frozen=True, eq=False)
class Stability:
    """Count, total area and mean signal of the regions at each level; shape (n,) each.

    mean : NaN where there is no region.
    """

    levels: Floats
    count: Floats
    area: Floats
    mean: Floats

    def flattest(self) -> tuple[float, float] | None:
        """Return the longest stretch of levels over which the count hardly changes.

        From the first to the last level of it; None when no region is found over any stretch. Of
        the levels with at least one region, the stretch is taken whose counts differ by at most
        5 % (or one region), longest in levels, and at its like the one with more regions.
        """
        best: tuple[int, float, int, int] | None = None
        start = 0
        for end in range(self.levels.size):
            if self.count[end] < 1:
                start = end + 1
                continue
            while start < end and not _alike(self.count[start : end + 1]):
                start += 1
            plateau = (end - start, float(self.count[end]), start, end)
            if end > start and (best is None or plateau[:2] > best[:2]):
                best = plateau
        if best is None:
            return None
        return float(self.levels[best[2]]), float(self.levels[best[3]])


def _alike(counts: Floats) -> bool:
    low, high = float(counts.min()), float(counts.max())
    return high - low <= max(_ALIKE * high, 1.0 if high >= 10 else 0.0)


def levels_for(histogram: Histogram, count: int = LEVELS) -> Floats:
    """Return levels over the range of a histogram, closer where its lower values crowd.

    Half the levels are spread evenly, half by share of the pixels, from the median up and down.
    """
    if histogram.total == 0:
        return np.zeros(0)
    low, high = histogram.quantile(0.001), histogram.highest
    even = np.linspace(low, high, count - count // 2 + 1)[:-1]
    shares = 1 - np.geomspace(1 - 0.02, 1e-5, count // 2)
    by_share = np.array([histogram.quantile(share) for share in shares])
    return np.unique(np.concatenate([even, by_share]))


def area_range(outline: ClassDefinition, area_factor: float | None) -> tuple[float, float]:
    """Return the range of areas in pixels that the clean-up keeps; all where it has no limit."""
    low, high = 0.0, math.inf
    for use in outline.clean:
        if not use.on or not isinstance(use.parameters, KeepRange):
            continue
        limits = use.parameters.model_dump()
        factor = {"area": 1.0, "area_unit": area_factor}.get(limits["quantity"])
        if factor:
            if limits["lower"] is not None:
                low = max(low, limits["lower"] / factor)
            if limits["upper"] is not None:
                high = min(high, limits["upper"] / factor)
    return low, high


def stability_of(
    values: FloatPixels,
    levels: Floats,
    *,
    keep: str = "bright",
    connectivity: int = 8,
    smallest: float = 0.0,
    largest: float = math.inf,
) -> Stability:
    """Return the regions' count, area and mean at each level, ascending; NaN belongs to none.

    values : shape (height, width). smallest, largest : pixels of the regions that count.
    """
    from rilievo.core.regions.region_kernels import count_by_level  # noqa: PLC0415 (compiled on first use)

    if levels.size == 0 or values.size == 0:
        return Stability(levels, *(np.zeros(levels.size) for _ in range(3)))
    bright = keep == "bright"
    # Thresholds in the order in which they keep fewer pixels.
    ordered = levels if bright else levels[::-1]
    flat = values.ravel()
    if bright:
        positions = np.searchsorted(ordered, flat, side="left")
    else:
        positions = levels.size - np.searchsorted(levels, flat, side="left")
    positions = np.where(np.isnan(flat), 0, positions).astype(np.int16)
    defined = np.flatnonzero(positions)
    order = defined[np.argsort(-positions[defined], kind="stable")]
    clean = np.where(np.isnan(values), 0, values).astype(np.float64)
    counted = count_by_level(
        positions, order, clean, levels.size, connectivity == 8, smallest, largest
    )
    if not bright:
        counted = counted[::-1]
    count, area, total = counted.T
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.where(area > 0, total / area, np.nan)
    return Stability(levels, count, area, mean)


def stability(analysis: Analysis, index: int, levels: Floats) -> Stability:
    """Return the stability of a class in a sample. Raises StepError where there is no level."""
    outline = analysis.method.outlines[index]
    if outline.source != "threshold" or outline.threshold.entry.find is None:
        raise StepError(f"“{outline.region_class}” is not found by one level.")
    channel = channel_of(analysis.sample, outline.channel)
    signal = analysis.signal(channel)
    smallest, largest = area_range(outline, signal.calibration.area_factor)

    def compute() -> Stability:
        return stability_of(
            signal.as_float(),
            levels,
            keep=outline.keep,
            connectivity=outline.connectivity,
            smallest=smallest,
            largest=largest,
        )

    # Of the class only this matters: other steps of the clean-up and edits move no curve.
    settings = (levels.tobytes(), outline.keep, outline.connectivity, smallest, largest)
    return Node(
        analysis.cache,
        "stability",
        compute,
        analysis.signal_node(channel),
        *settings,
        size=lambda curve: 4 * curve.levels.nbytes,
    ).get()


def stabilities(analyses: Sequence[Analysis], index: int) -> dict[str, Stability]:
    """Return the stability of a class in samples of one method, by name, over common levels.

    Raises StepError where there is no level, or when a step cannot be applied.
    """
    levels = levels_for(joined([analysis.of_class(index).histogram() for analysis in analyses]))
    return {analysis.sample.name: stability(analysis, index, levels) for analysis in analyses}


@dataclass(frozen=True)
class Change:
    """What whole runs of the method find at a level: regions, their area and mean signal."""

    level: float
    count: int
    area: float
    mean: float


def change_of_result(
    analysis: Analysis,
    index: int = 0,
    share: float = 0.1,
    report: Callable[[], None] = lambda: None,
) -> tuple[Change, ...]:
    """Return the result at 90, 100 and 110 % of the threshold, by whole runs of the method.

    report : called before each run. Empty for a class that is not found by one level.
    """
    method = analysis.method
    outline = method.outlines[index]
    if outline.source != "threshold" or outline.threshold.entry.find is None:
        return ()
    level = analysis.regions(index).threshold
    if math.isnan(level):
        return ()
    signal = analysis.of_class(index).signal.pixels
    changes = []
    for factor in (1 - share, 1.0, 1 + share):
        report()
        changed_analysis = analysis
        if factor != 1.0:
            changed = outline.model_copy(update={"threshold": hand_threshold(level * factor)})
            outlines = [*method.outlines]
            outlines[index] = changed
            # Only a level differs, so that nothing needs to be checked again.
            changed_analysis = analysis.with_method(
                method.model_copy(update={"outlines": tuple(outlines)})
            )
        if factor == 1.0 or method.exception_for(analysis.sample.name).edits:
            regions = changed_analysis.regions(index)
            labels, count = regions.labels, regions.count
        else:
            # What is described of regions beside is not needed of these.
            label_map = changed_analysis.of_class(index).cleaned()[0]
            labels, count = label_map.labels, label_map.count
        inside_mask = labels > 0
        inside = signal[inside_mask]
        finite = inside[np.isfinite(inside)] if inside.dtype.kind == "f" else inside
        mean = float(finite.mean(dtype=np.float64)) if finite.size else math.nan
        changes.append(Change(level * factor, count, float(np.count_nonzero(inside_mask)), mean))
    return tuple(changes)

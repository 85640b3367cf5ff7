"""What is known of a sample under a method, gathered in one go for whoever shows it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from rilievo.core.errors import Cancelled, RilievoError
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Sample, ValueSource
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions import RegionSet
from rilievo.core.regions.region_set import described

# Shares of pixels below the ends of the automatic display range.
_SHOWN = (0.002, 0.998)
_QUICK_SIDE = 256

Ends = dict[tuple[str, ValueSource], tuple[float, float]]


@dataclass(frozen=True, eq=False)
class SampleSummary:
    """What is known of a sample under a method.

    method : the one it was computed with. native : histograms of all channels. signal : of the
    channels that are looked at.
    ends : (channel, source) → values with 0.2 and 99.8 % of the pixels at or below.
    reports : step id → channel → numbers of its card. regions : of each class, in order; empty
    while they are not known. error : why regions are missing, or those of a class.
    """

    method: Method
    native: dict[str, Histogram] = field(default_factory=dict)
    signal: dict[str, Histogram] = field(default_factory=dict)
    ends: Ends = field(default_factory=dict)
    reports: dict[str, dict[str, dict[str, float]]] = field(default_factory=dict)
    regions: tuple[RegionSet, ...] = ()
    error: str | None = None


def summarise(
    analysis: Analysis, channels: list[str], *, with_regions: bool = True
) -> SampleSummary:
    """Compute the facts of a sample; an error meant for the user becomes `error`.

    with_regions : False leaves regions and level out, for a large sample whose regions are not
    shown yet.
    """
    sample, method = analysis.sample, analysis.method
    native = {name: analysis.native_histogram(name) for name in sample.channel_names}
    facts = SampleSummary(method, native=native, ends=_ends(native, "native"))
    reports: dict[str, dict[str, dict[str, float]]] = {}
    try:
        for use in method.steps:
            for name in sample.channel_names:
                if use.applies_to(name) and name in channels:
                    report = analysis.step_numbers(name, use.id)
                    reports.setdefault(use.id, {})[name] = report
        signal = {name: analysis.histogram(name) for name in channels}
        facts = replace(
            facts, reports=reports, signal=signal, ends={**facts.ends, **_ends(signal, "signal")}
        )
        if not with_regions:
            return facts
        results = [_regions(analysis, k) for k in range(len(method.outlines))]
        errors = [error for _, error in results if error is not None]
        return replace(
            facts, regions=tuple(r for r, _ in results), error=errors[0] if errors else None
        )
    except Cancelled:
        raise
    except RilievoError as exc:
        return replace(facts, reports=reports, error=str(exc))


def _regions(analysis: Analysis, index: int) -> tuple[RegionSet, str | None]:
    """The regions of a class, or none and why; the other classes are not touched by that."""
    try:
        return analysis.regions(index), None
    except Cancelled:
        raise
    except RilievoError as exc:
        shape = analysis.signal(analysis.sample.channel_names[0]).shape
        return described(np.zeros(shape, np.int32)), str(exc)


def quick_ends(sample: Sample) -> Ends:
    """Return about what `ends` will be, from a few thousand pixels, for the first picture."""
    limits: Ends = {}
    for name, plane in sample.channels.items():
        step = max(1, max(plane.shape) // _QUICK_SIDE)
        few = plane.pixels[step // 2 :: step, step // 2 :: step].astype(np.float64)
        few = few[np.isfinite(few)]
        if few.size:
            low, high = np.quantile(few, _SHOWN)
            limits[name, "native"] = limits[name, "signal"] = (float(low), float(high))
    return limits


def _ends(histograms: dict[str, Histogram], source: ValueSource) -> Ends:
    return {
        (name, source): (histogram.quantile(_SHOWN[0]), histogram.quantile(_SHOWN[1]))
        for name, histogram in histograms.items()
        if histogram.total
    }

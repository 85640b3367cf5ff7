"""The threshold, or the ranges of several channels, that part pixels picked inside and outside."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Plane, placed
from rilievo.core.method.class_definition import ClassDefinition, OutlinePick
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.step_chain import channel_of
from rilievo.core.regions.thresholds.colour import (
    HSV,
    RGB,
    ChannelRange,
    ColourRanges,
    hue_saturation_value,
    within,
)

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Proposal:
    """A level with the side that is kept, and the share of picks on the right side."""

    level: float
    keep: str
    right: float


def level_between(inside: Floats, outside: Floats) -> Proposal | None:
    """Return the level that parts the values of two kinds of picks best; None without both.

    It has most picks on the right side, each kind weighing as much as the other; of a stretch of
    levels alike the middle. NaN is left out.
    """
    inside, outside = inside[np.isfinite(inside)], outside[np.isfinite(outside)]
    if inside.size == 0 or outside.size == 0:
        return None
    values = np.unique(np.concatenate([inside, outside]))
    if values.size == 1:
        return Proposal(float(values[0]), "bright", outside.size / (inside.size + outside.size))
    cuts = (values[:-1] + values[1:]) / 2
    best: tuple[float, str, NDArray[np.intp]] | None = None
    for keep in ("bright", "dark"):
        above = np.array([[(v > cut).mean() for cut in cuts] for v in (inside, outside)])
        score = above[0] + 1 - above[1] if keep == "bright" else 1 - above[0] + above[1]
        top = float(score.max())
        if best is None or top > best[0] + 1e-12:
            best = (top, keep, np.flatnonzero(score >= top - 1e-12))
    if best is None:
        return None
    _, keep, alike = best
    # The widest gap between picks leaves most room on both sides.
    gaps = values[alike + 1] - values[alike]
    level = float(cuts[alike[int(gaps.argmax())]])
    right = (inside > level).sum() + (outside <= level).sum()
    if keep == "dark":
        right = (inside <= level).sum() + (outside > level).sum()
    return Proposal(level, keep, float(right) / (inside.size + outside.size))


@dataclass(frozen=True)
class ColourProposal:
    """Ranges of channels, and the share of picks on the right side."""

    ranges: tuple[ChannelRange, ...]
    right: float


def ranges_around(
    inside: Mapping[str, Floats], outside: Mapping[str, Floats]
) -> ColourProposal | None:
    """Return a range for each channel that holds the picks inside and as few others as it can.

    inside, outside : channel → one value a pick. Each range reaches from the lowest to the highest
    pick inside, and half way on to the next pick outside, at most half its own width (or a tenth
    of the largest value, for a single pick). Hue goes around the circle. None without picks
    inside.
    """
    ranges = []
    for name, values in inside.items():
        finite = values[np.isfinite(values)]
        others = outside.get(name, np.zeros(0))
        if finite.size:
            ends = _around(finite, others[np.isfinite(others)], circle=name == "hue")
            ranges.append(ChannelRange(channel=name, lower=ends[0], upper=ends[1]))
    if not ranges:
        return None
    return ColourProposal(tuple(ranges), share_right(ranges, inside, outside))


def share_right(
    ranges: Sequence[ChannelRange], inside: Mapping[str, Floats], outside: Mapping[str, Floats]
) -> float:
    """Return the share of picks that the ranges put on the right side."""
    right = total = 0
    for picks, expected in ((inside, True), (outside, False)):
        size = next((v.size for v in picks.values()), 0)
        held = np.ones(size, np.bool_)
        for channel_range in ranges:
            if channel_range.channel in picks:
                held &= within(picks[channel_range.channel], channel_range)
        right += int(np.count_nonzero(held == expected))
        total += size
    return right / total if total else 0.0


def _around(values: Floats, others: Floats, *, circle: bool) -> tuple[float, float]:
    turn = 0.0
    if circle:
        # Begin behind the widest gap, so that reds on both sides of 0 stay together.
        ordered = np.sort(values % 360)
        gaps = np.diff(np.append(ordered, ordered[0] + 360))
        turn = float(ordered[(int(gaps.argmax()) + 1) % ordered.size])
        values, others = (values - turn) % 360, (others - turn) % 360
    low, high = float(values.min()), float(values.max())
    room = (high - low) / 2 or max(abs(high) / 10, 1e-9)
    below, above = others[others < low], others[others > high]
    lower = low - min(room, (low - float(below.max())) / 2 if below.size else room)
    upper = high + min(room, (float(above.min()) - high) / 2 if above.size else room)
    if circle:
        return (lower + turn) % 360, (upper + turn) % 360
    return lower, upper


def proposed(
    analyses: Mapping[str, Analysis], outline: ClassDefinition
) -> Proposal | ColourProposal | None:
    """Return what parts the picks of a class best: ranges for one found by colour, else a level.

    analyses : samples by name; picks of others are left out. Raises StepError when a step cannot
    be applied.
    """
    read = {
        inside: _values_at(
            analyses,
            outline,
            [p for p in outline.picks if p.inside == inside and p.sample in analyses],
        )
        for inside in (True, False)
    }
    if isinstance(outline.threshold.parameters, ColourRanges):
        return ranges_around(read[True], read[False])
    none = np.zeros(0)
    return level_between(*(next(iter(read[inside].values()), none) for inside in (True, False)))


def _values_at(
    analyses: Mapping[str, Analysis],
    outline: ClassDefinition,
    picks: Sequence[OutlinePick],
) -> dict[str, Floats]:
    """Signal at picks, one value a pick, by channel, or by hue, saturation and value.

    NaN where a pick lies outside of the picture.
    """
    parameters = outline.threshold.parameters
    values_of: dict[str, list[float]] = {}
    for pick in picks:
        analysis = analyses[pick.sample]
        sample = analysis.sample
        if not isinstance(parameters, ColourRanges):
            names: Sequence[str] = (channel_of(sample, outline.channel),)
        else:
            names = RGB if parameters.space == "hsv" else sample.channel_names
        read = [_value_at(analysis.signal(name), pick) for name in names]
        if isinstance(parameters, ColourRanges) and parameters.space == "hsv":
            three = hue_saturation_value(*(np.array([value]) for value in read))
            names, read = HSV, [float(values[0]) for values in three]
        elif not isinstance(parameters, ColourRanges):
            names = ("signal",)
        for name, value in zip(names, read, strict=True):
            values_of.setdefault(name, []).append(value)
    return {name: np.array(values) for name, values in values_of.items()}


def _value_at(plane: Plane, pick: OutlinePick) -> float:
    x, y = (round(v) for v in placed(plane.placement, pick.x, pick.y))
    inside = 0 <= x < plane.shape[1] and 0 <= y < plane.shape[0]
    return float(plane.pixels[y, x]) if inside else float("nan")

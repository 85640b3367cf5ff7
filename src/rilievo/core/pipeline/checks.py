"""Warnings about a sample or a batch: what was found, how bad it is, what to do."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.files.channel_preparation import MetadataOverrides
from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Plane, Sample
from rilievo.core.image.pyramid import halved
from rilievo.core.robust_statistics import block_quantiles, median_and_mad_sigma
from rilievo.core.signal.medians import median
from rilievo.core.wording.numbers import percent_of

Severity = Literal["note", "caution", "serious"]

# Fewer levels than this make steps in a histogram that no correction smooths.
_FEW_LEVELS = 64
# A background that rises by this share of its level over the image moves any threshold.
_STRONG_TILT = 0.15
# A sample with less than this share of the batch's usual fine detail is out of focus.
_BLURRED = 0.6
# Detail is judged from so many pixels a side in the middle, and not from fewer than these.
_DETAIL_SIDE, _LEAST_SIDE = 512, 64
# What is left of white noise in what each halving removes, after a 3×3 median; by simulation.
_NOISE_LEFT = (1.0, 0.948, 0.732, 0.425)
_WORK_SIDE = 512


@dataclass(frozen=True)
class Check:
    """One warning; `text` is a sentence with the remedy.

    severity : note (good to know), caution (may change results), serious (does change them).
    """

    sample: str
    kind: str
    channel: str
    text: str
    severity: Severity = "caution"


@dataclass(frozen=True, eq=False)
class _Facts:
    """A plane with what several checks want of it."""

    plane: Plane
    histogram: Histogram
    ground: tuple[float, float]


_Finding = tuple[Severity, str] | None


def _saturated(facts: _Facts) -> _Finding:
    plane, histogram = facts.plane, facts.histogram
    if plane.clipped is not None:
        count = int(np.count_nonzero(plane.clipped))
        where = "are made of saturated pixels"
    elif plane.saturation is None:
        return None
    else:
        at = histogram.values >= plane.saturation
        count = int(histogram.counts[at].sum())
        where = f"are at or above the saturation level {plane.saturation:g}"
    if not count:
        return None
    total = plane.pixels.size
    severity: Severity = "serious" if count > total / 1000 else "caution"
    return severity, (
        f"{count} pixels ({percent_of(count, total)}) {where}; their true values are higher. "
        "Expose shorter, or leave saturated pixels out in Measure."
    )


def _piled_up(facts: _Facts) -> _Finding:
    """A pile of pixels at the very top that nobody declared as saturated."""
    level = proposed_saturation(facts.plane, facts.histogram)
    if level is None:
        return None
    return "caution", (
        f"Many pixels share the highest value {level:g}; the recording seems saturated there. "
        f"Declare {level:g} as the saturation level under Levels."
    )


def proposed_saturation(plane: Plane, histogram: Histogram) -> float | None:
    """Return the highest value if pixels pile up there below the declared saturation level."""
    if not histogram.levels or not histogram.total or histogram.bins[-1] < 15:
        return None
    if plane.clipped is not None:
        return None
    if plane.saturation is not None and histogram.highest >= plane.saturation:
        return None
    near = histogram.bins[:-1] >= histogram.bins[-1] - 5
    top, below = int(histogram.counts[-1]), float(histogram.counts[:-1][near].sum()) / 5
    piled = top >= 20 and top > 5 * max(below, 1.0)
    return histogram.highest if piled and histogram.highest > histogram.quantile(0.5) else None


def proposed_empty(plane: Plane) -> float | None:
    """Return 0 when the image has a border of exact zeros, as stacking leaves it."""
    return 0.0 if _zero_border(plane) else None


def _zero_border(plane: Plane) -> int:
    """How many whole rows and columns at the border hold nothing but 0."""
    pixels = plane.pixels
    if not pixels.any():
        return 0
    count = 0
    for lines in (pixels, pixels[::-1], pixels.T, pixels.T[::-1]):
        for line in lines:
            if line.any():
                break
            count += 1
    return count


def _empty_border(facts: _Facts) -> _Finding:
    plane = facts.plane
    if plane.empty is not None:
        return None
    lines = _zero_border(plane)
    if not lines:
        return None
    return "caution", (
        f"{lines} rows and columns at the border hold exact zeros, as stacking leaves them; they "
        "pull statistics down. Declare 0 as the empty level under Levels, and leave empty pixels "
        "out in Measure."
    )


def _undefined(facts: _Facts) -> _Finding:
    count = facts.histogram.undefined
    if not count:
        return None
    total = facts.plane.pixels.size
    return "caution" if count < total / 10 else "serious", (
        f"{count} pixels ({percent_of(count, total)}) have no value; they are left out of every "
        "measurement."
    )


def _constant(facts: _Facts) -> _Finding:
    if facts.histogram.bins.size != 1:
        return None
    return "serious", (
        f"All pixels have the value {facts.histogram.lowest:g}; no threshold can "
        "part them. Check that this is the file you meant."
    )


def _few_levels(facts: _Facts) -> _Finding:
    plane, histogram = facts.plane, facts.histogram
    levels = histogram.bins.size
    if plane.file_dtype.kind not in "iu" or not 1 < levels < _FEW_LEVELS:
        return None
    if plane.pixels.size < 4096:
        return None
    return "caution", (
        f"The pixels take only {levels} different values; differences smaller than a step are "
        "lost. Look for the original recording, or record with more depth."
    )


def _eight_bits(facts: _Facts) -> _Finding:
    if facts.plane.file_dtype != np.uint8:
        return None
    return "note", (
        "8-bit data have at most 256 levels; small differences are rounded away. Where the camera "
        "records 12 or 16 bits, measure that file."
    )


def background_tilt(coarse: NDArray[Any]) -> float:
    """Return by how much a plane through the background rises over the image, as share of it."""
    return _share_of(*background_plane(coarse))


def _share_of(level: float, rise: float) -> float:
    return rise / abs(level) if level else math.nan


def background_plane(coarse: NDArray[Any]) -> tuple[float, float]:
    """Return level and rise of a plane through the background; NaN for a picture too small.

    coarse : a coarse level of the image. The background of a block is its lower quartile.
    """
    blocks = 8
    height, width = coarse.shape
    if height < 2 * blocks or width < 2 * blocks:
        return math.nan, math.nan
    low = block_quantiles(coarse, _starts(height, blocks), _starts(width, blocks), 0.25)
    defined = np.isfinite(low)
    values = low[defined]
    down, across = np.nonzero(defined) - np.array((blocks - 1) / 2)
    positions = np.stack([np.ones(values.size), down, across], axis=1)
    if values.size < 3 * blocks:
        return math.nan, math.nan
    level, tilt_down, tilt_across = _robust_plane(positions, values)
    return float(level), float((abs(tilt_down) + abs(tilt_across)) * blocks)


def _starts(length: int, blocks: int) -> NDArray[np.intp]:
    """Where blocks begin that are as equal as they can be, and where the last ends."""
    return np.array([0, *np.cumsum([p.size for p in np.array_split(np.arange(length), blocks)])])


def _robust_plane(
    positions: NDArray[np.float64], values: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Least squares, thrice without the blocks that objects or empty borders fill."""
    used = np.ones(values.size, np.bool_)
    plane: NDArray[Any] = np.zeros(3)
    for _ in range(4):
        plane = np.linalg.lstsq(positions[used], values[used], rcond=None)[0]
        rest = values - positions @ plane
        middle, sigma = median_and_mad_sigma(rest[used])
        away = np.abs(rest - middle)
        better = away <= 2.5 * sigma + 1e-9 * abs(float(plane[0]))
        if better.sum() < values.size // 3 or (better == used).all():
            break
        used = better
    return np.asarray(plane, dtype=np.float64)


def _tilted(facts: _Facts) -> _Finding:
    tilt = _share_of(*facts.ground)
    if not tilt > _STRONG_TILT:
        return None
    return "caution" if tilt < 3 * _STRONG_TILT else "serious", (
        f"The background rises by {100 * tilt:.0f} % of its level from one side to the other; one "
        "threshold cannot fit both. Subtract the background in Correct."
    )


_CHECKS: tuple[tuple[str, Callable[[_Facts], _Finding]], ...] = (
    ("saturation", _saturated),
    ("saturation level", _piled_up),
    ("empty border", _empty_border),
    ("undefined pixels", _undefined),
    ("one value", _constant),
    ("few levels", _few_levels),
    ("tilted background", _tilted),
    ("depth", _eight_bits),
)

# Said once for a sample, of its first channel: what they tell holds for the others as well.
_ONCE = frozenset({"depth", "tilted background", "few levels"})


def _coarse(plane: Plane) -> NDArray[Any]:
    """A level of at most some hundred pixels a side; a very large plane is thinned out first."""
    step = max(1, max(plane.shape) // (8 * _WORK_SIDE))
    level: NDArray[Any] = plane.pixels[::step, ::step]
    while max(level.shape) > _WORK_SIDE:
        level = halved(level)
    return level


HistogramOf = Callable[[str], Histogram]


def check_sample(sample: Sample, histogram: HistogramOf | None = None) -> list[Check]:
    """Return the warnings about the native pixels of a sample, and the reader's notes.

    histogram : channel → its native histogram, where somebody has them already.
    """
    return checks_and_properties(sample, histogram)[0]


def checks_and_properties(
    sample: Sample, histogram: HistogramOf | None = None
) -> tuple[list[Check], BatchProperties]:
    """Return `check_sample` and `batch_properties_of`, of what both look at once."""
    grounds = {name: background_plane(_coarse(p)) for name, p in sample.channels.items()}
    checks = _checks(sample, histogram, grounds)
    return checks, _properties(sample, next(iter(grounds.values())))


def _checks(
    sample: Sample, histogram: HistogramOf | None, grounds: Mapping[str, tuple[float, float]]
) -> list[Check]:
    checks = []
    for i, (channel, plane) in enumerate(sample.channels.items()):
        counted = histogram(channel) if histogram else histogram_of(plane)
        facts = _Facts(plane, counted, grounds[channel])
        for kind, look in _CHECKS:
            if i and kind in _ONCE:
                continue
            result = look(facts)
            if result is not None:
                named = "" if kind in _ONCE else channel
                checks.append(Check(sample.name, kind, named, result[1], result[0]))
    checks += [
        Check(sample.name, defect.kind, defect.channel, defect.text, "serious")
        for defect in sample.defects
    ]
    checks += [Check(sample.name, "file", "", note, "note") for note in sample.notes]
    return checks


def proposed_levels(sample: Sample, histogram: HistogramOf | None = None) -> MetadataOverrides:
    """Return the saturation and empty level that a sample's own pixels suggest; None for none.

    histogram : as for `check_sample`.
    """
    saturation = empty = None
    for channel, plane in sample.channels.items():
        counted = histogram(channel) if histogram else histogram_of(plane)
        saturation = saturation or proposed_saturation(plane, counted)
        empty = proposed_empty(plane) if empty is None else empty
    return MetadataOverrides(saturation=saturation, empty=empty)


@dataclass(frozen=True)
class BatchProperties:
    """What a sample has in common with the others of its batch, or has not.

    detail : fine structure over coarse structure; falls when the picture is out of focus.
    saturated : share of the pixels, of the channel with most. background, tilt : level of the
    first channel's background, and by how much it rises over the picture, as share of it.
    """

    depth: str
    size: tuple[int, int]
    pixel_size: str
    exposure: str
    detail: float
    saturated: float = 0.0
    background: float = math.nan
    tilt: float = math.nan


def batch_properties_of(sample: Sample) -> BatchProperties:
    """Return the properties of a sample."""
    return _properties(sample, background_plane(_coarse(sample.first)))


def _properties(sample: Sample, ground: tuple[float, float]) -> BatchProperties:
    first = sample.first
    calibration = first.calibration
    return BatchProperties(
        depth=str(first.file_dtype),
        size=(first.shape[1], first.shape[0]),
        pixel_size="none" if calibration.sides is None else calibration.text,
        exposure=sample.attributes.get("exposure", ""),
        detail=fine_detail(first),
        saturated=max(_saturated_share(plane) for plane in sample.channels.values()),
        background=ground[0],
        tilt=_share_of(*ground),
    )


def _saturated_share(plane: Plane) -> float:
    at = plane.saturated()
    return 0.0 if at is None else float(np.count_nonzero(at)) / at.size


def fine_detail(plane: Plane) -> float:
    """Return the ratio of structure over 2–4 pixels to structure over 8–16 pixels; NaN if none.

    Structure of a size is the variance of what halving the picture once more removes, less what
    noise alone would give there; the noise is judged from the finest size, where a well sampled
    picture has little else. Single bad pixels are first replaced by the median around them.
    """
    values = _middle(plane).astype(np.float32)
    if min(values.shape) < _LEAST_SIDE or not np.isfinite(values).all():
        return math.nan
    levels = [median(values, 3)]
    for _ in _NOISE_LEFT:
        levels.append(halved(levels[-1]))
    removed = [_removed(levels[k], levels[k + 1]) for k in range(len(_NOISE_LEFT))]
    noise = median_and_mad_sigma(removed[0])[1]
    structure = [
        max(float(part.var()) - (left * noise) ** 2, 0.0)
        for part, left in zip(removed, _NOISE_LEFT, strict=True)
    ]
    return math.sqrt(structure[1] / structure[3]) if structure[3] > 0 else math.nan


def _middle(plane: Plane) -> NDArray[Any]:
    height, width = plane.shape
    half = _DETAIL_SIDE // 2
    top, left = max(height // 2 - half, 0), max(width // 2 - half, 0)
    return plane.pixels[top : top + _DETAIL_SIDE, left : left + _DETAIL_SIDE]


def _removed(level: NDArray[Any], next_one: NDArray[Any]) -> NDArray[Any]:
    rows, columns = next_one.shape
    again = np.repeat(np.repeat(next_one, 2, axis=0), 2, axis=1)
    return np.asarray(level[: 2 * rows, : 2 * columns] - again, dtype=np.float64)


def check_batch(properties: Mapping[str, BatchProperties]) -> list[Check]:
    """Return the warnings about samples that differ from the others of the batch.

    properties : by sample name.
    """
    if len(properties) < 2:
        return []
    checks: list[Check] = []
    for kind, read, remedy in _COMPARED:
        checks += _odd_ones(
            kind,
            {name: read(properties_of_sample) for name, properties_of_sample in properties.items()},
            remedy,
        )
    detail = {name: t.detail for name, t in properties.items() if math.isfinite(t.detail)}
    if len(detail) >= 3:
        usual = float(np.median(list(detail.values())))
        for name, value in detail.items():
            if value < _BLURRED * usual:
                checks.append(
                    Check(
                        name,
                        "blur",
                        "",
                        f"It has {100 * value / usual:.0f} % of the fine detail that is usual in "
                        "this study; it may be out of focus. Look at it at 1:1, and leave it out "
                        "if it is.",
                        "serious" if value < _BLURRED / 2 * usual else "caution",
                    )
                )
    return checks


def _size_words(properties: BatchProperties) -> str:
    return f"{properties.size[0]} × {properties.size[1]} px"


_COMPARED: tuple[tuple[str, Callable[[BatchProperties], str], str], ...] = (
    ("mixed depth", lambda t: t.depth, "thresholds and levels do not carry over"),
    ("mixed size", _size_words, "positions drawn on one do not fit the other"),
    ("mixed pixel size", lambda t: t.pixel_size, "areas in pixels do not compare; use units"),
    ("mixed exposure", lambda t: t.exposure, "intensities compare only per exposure time"),
)


def _odd_ones(kind: str, values: Mapping[str, str], why: str) -> list[Check]:
    """The samples that do not have the value most have."""
    given = {name: value for name, value in values.items() if value}
    counts = Counter(given.values())
    if len(counts) < 2:
        return []
    usual, number = counts.most_common(1)[0]
    what = kind.removeprefix("mixed ")
    return [
        Check(
            name,
            kind,
            "",
            f"Its {what} is {value}, that of {number} others {usual}; {why}.",
            "caution",
        )
        for name, value in given.items()
        if value != usual
    ]


def changed_file(sample: str) -> Check:
    """Return the warning about a file that is not the one the study was saved with."""
    text = "The file has changed since the study was saved; measure this sample again."
    return Check(sample, "changed file", "", text, "serious")

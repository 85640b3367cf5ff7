"""Several regions together: statistics and histogram of all their pixels at once."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Plane
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues, whole_plane_index
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.region_set import class_index

JOINT_KEYS = ("pixel_count", "mean", "median", "sd", "min", "max", "sum", "p05", "p95")


@dataclass(frozen=True, eq=False)
class Joint:
    """Pixels of several regions on a channel. numbers : by quantity key."""

    regions: int
    samples: int
    numbers: dict[str, float]
    histogram: Histogram


def joint_of(chosen: Iterable[tuple[Analysis, Iterable[int]]], channel: str) -> Joint | None:
    """Return what the chosen regions have together; None for no pixel.

    A pixel that belongs to regions of two classes counts once for each.
    """
    signals, natives = [], []
    count = samples = 0
    lattice = None
    for analysis, regions in chosen:
        if channel not in analysis.sample.channels:
            continue
        signal = analysis.signal(channel)
        native = analysis.aligned_raw(channel)
        lattice = signal.lattice
        wanted = sorted(set(regions))
        some = False
        for index in sorted({class_index(region) for region in wanted}):
            if index >= len(analysis.method.outlines):
                continue
            region_set = analysis.regions(index)
            ids = np.intersect1d(region_set.ids, np.array(wanted, np.int64))
            at = RegionIndex(region_set.labels, ids).pixels
            signals.append(signal.pixels.ravel()[at])
            natives.append(native.pixels.ravel()[at])
            count += int(ids.size)
            some |= ids.size > 0
        samples += some
    pixels = np.concatenate(signals)[None, :] if signals else np.zeros((1, 0))
    if not pixels.size:
        return None
    plane = Plane(pixels, lattice=lattice)
    values = RegionValues(
        whole_plane_index((1, pixels.size)), plane, Plane(np.concatenate(natives)[None, :])
    )
    numbers = {key: float(QUANTITIES[key].measure(values)[0]) for key in JOINT_KEYS}
    return Joint(count, samples, numbers, histogram_of(plane))

"""Regions that touch, parted again."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.cleaning.arcs import part_clusters
from rilievo.core.cleaning.cleaner import CleanContext, CleanerParameters, cleaner
from rilievo.core.regions.binary_morphology import depth
from rilievo.core.regions.label_map import LabelMap
from rilievo.core.signal import smoothing

_STEPS = 65_000
# How deep the dents of a cluster are at strength 0, as a share of the radius of as large a disc.
_DENT = 0.22


class _Split(CleanerParameters):
    strength: float = Field(
        5.0, ge=0, le=10, title="Strength", description="0 splits nothing, 10 at every dent",
        json_schema_extra={"step": 0.5},
    )  # fmt: skip


class SplitByDistance(_Split):
    """Part regions at their necks, for round objects that touch."""

    @property
    def ratio(self) -> float:
        """Parts are joined where the neck is at least so wide as a share of the smaller part."""
        return 1 - 0.5 * float((1 - self.strength / 10) ** 2.32)

    in_words: ClassVar[str] = "touching regions were split by distance (strength {strength} %)"


class SplitByIntensity(_Split):
    """Part regions along valleys of the signal, for objects with a peak each."""

    in_words: ClassVar[str] = (
        "touching regions were split along valleys of intensity (strength {strength} %, after"
        " smoothing by {smooth} px)"
    )

    @property
    def ratio(self) -> float:
        """Parts are joined where the saddle is at least so high as a share of the lower peak."""
        return 0.5 + 0.05 * self.strength

    smooth: float = Field(
        2.0,
        ge=0,
        le=100,
        title="Smooth before",
        json_schema_extra={"unit": "px", "step": 0.5},
        description="sigma of a smoothing that makes one peak of noisy ones",
    )


def split(
    label_map: LabelMap, heights: NDArray[np.floating], ratio: float, least: float
) -> LabelMap:
    """Return the regions parted where `heights` (from 0 up, shape of the labels) have a saddle.

    ratio, least : as in `region_kernels.part_by_peaks`.
    """
    from rilievo.core.regions.region_kernels import part_by_peaks  # noqa: PLC0415 (compiled on first use)

    inside = np.flatnonzero(label_map.labels > 0)
    values = heights.ravel()[inside]
    # So many steps of height are told apart; whole numbers of 16 bit are sorted much faster.
    steps = values * (_STEPS / max(float(values.max(initial=0)), 1e-12))
    order = inside[np.argsort((_STEPS - steps).astype(np.uint16), kind="stable")]
    parts = np.empty(label_map.labels.shape, np.int32)
    # The parts come connected and numbered, so that nothing has to be connected again.
    count = part_by_peaks(
        label_map.labels, order, heights, label_map.connectivity == 8, ratio, 0.0, least, parts
    )
    if label_map.reasons:
        np.copyto(parts, label_map.labels, where=label_map.labels < 0)
    return replace(label_map, labels=parts, count=int(count), apart=True)


@cleaner("split_distance", title="Split by distance", parameters=SplitByDistance, order=90)
def split_by_distance(
    label_map: LabelMap,
    parameters: SplitByDistance,
    context: CleanContext,  # noqa: ARG001 (distance is all it needs)
) -> LabelMap:
    """Return the regions parted at necks.

    The height of a pixel is its distance from the outline. Two parts are joined where the neck's
    half-width is at least 1 − ½ (1 − strength / 10)^2.32 of that of the smaller part (0.9 at 5), or
    where the smaller part rises less than half a pixel above the neck, which is the grid's own
    doing. Clusters with three dents or more, whose middle is deeper than their members, are parted
    by their arcs (`arcs`). docs/accuracy.md has what it finds of synthetic objects.
    """
    if parameters.strength == 0:
        return label_map
    # Distances of neighbouring pixels jump with the grid; a little smoothing levels that.
    heights = smoothing.gaussian(np.sqrt(depth(label_map.labels)), 0.5)
    parted = split(label_map, heights, parameters.ratio, 0.5)
    return part_clusters(parted, _DENT * (1 - parameters.strength / 10))


@cleaner("split_intensity", title="Split by intensity", parameters=SplitByIntensity, order=100)
def split_by_intensity(
    label_map: LabelMap, parameters: SplitByIntensity, context: CleanContext
) -> LabelMap:
    """Return the regions parted along valleys of the smoothed signal.

    Heights are counted from the lowest value inside any region, for dark objects from the highest
    downwards. Two parts are joined where the valley is at least 0.5 + 0.05 · strength of the
    lower peak.
    """
    inside = label_map.labels > 0
    if parameters.strength == 0 or not inside.any():
        return label_map
    values = context.values if context.keep == "bright" else -context.values
    lowest = np.nanmin(values[inside]) if np.isfinite(values[inside]).any() else 0.0
    raised = smoothing.gaussian(values - lowest, parameters.smooth)
    heights = np.where(np.isfinite(raised), np.maximum(raised, 0), 0)
    return split(label_map, heights, parameters.ratio, 0.0)

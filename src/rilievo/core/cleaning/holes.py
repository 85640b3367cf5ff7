"""Holes in regions."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from pydantic import Field

from rilievo.core.cleaning.cleaner import CleanContext, CleanerParameters, cleaner
from rilievo.core.regions.label_map import LabelMap, connected


class FillHoles(CleanerParameters):
    """What a region encloses becomes part of it."""

    in_words: ClassVar[str] = "holes were filled (up to: {up_to})"

    up_to: float | None = Field(
        None, ge=0, title="Up to", description="area of the largest hole filled; empty: all",
        json_schema_extra={"unit": "px²", "empty": "all"},
    )  # fmt: skip


@cleaner("fill_holes", title="Fill holes", parameters=FillHoles, order=30)
def fill_holes(label_map: LabelMap, parameters: FillHoles, context: CleanContext) -> LabelMap:  # noqa: ARG001
    """Return the regions with every part of the background filled that no border pixel reaches.

    The background is connected by 4 where the regions are by 8, and the other way round. An island
    in a filled hole becomes part of the region around it.
    """
    from rilievo.core.regions.region_kernels import fill_enclosed  # noqa: PLC0415 (compiled on first use)

    parts, count = connected(label_map.labels <= 0, 4 if label_map.connectivity == 8 else 8)
    labels = label_map.labels.copy()
    most = np.inf if parameters.up_to is None else parameters.up_to
    if not fill_enclosed(labels, parts, count, most):
        return label_map
    return label_map.with_labels(labels)

"""Pixels of some of k gray classes."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.regions.gray_classes import class_cuts
from rilievo.core.regions.thresholds.threshold import (
    Mask,
    Pixels,
    ThresholdParameters,
    pixel_threshold,
)


class GrayClasses(ThresholdParameters):
    """Some of 2 to 8 classes of gray values, found in each sample's own histogram."""

    in_words: ClassVar[str] = "{k} gray classes ({by}), of which {kept} were kept"

    by: Literal["ward", "least_squares"] = Field(
        "ward", title="Classes by", description="how the levels between classes are found"
    )
    k: int = Field(
        3,
        ge=2,
        le=8,
        title="Classes",
        description="number of classes; the brightest, or darkest, is kept",
    )
    kept: tuple[int, ...] = Field(
        (), max_length=8, title="Kept", description="numbers from 1, the darkest; empty: brightest"
    )

    @property
    def chosen(self) -> tuple[int, ...]:
        """The numbers of the classes that are kept."""
        return self.kept or (self.k,)


@pixel_threshold("classes", title="Classes", parameters=GrayClasses, kind="Classes", order=50)
def of_classes(pixels: Pixels, parameters: GrayClasses) -> Mask:
    """Return the pixels of the chosen classes; NaN is never kept."""
    cuts = class_cuts(pixels.histogram(), parameters.k, parameters.by)
    values = pixels.values
    mask = np.zeros(values.shape, np.bool_)
    edges = [-np.inf, *cuts, np.inf]
    for number in parameters.chosen:
        if number < len(edges):
            mask |= (values > edges[number - 1]) & (values <= edges[number])
    return mask

"""Regions made smaller, larger, smoother. Split regions are treated each by itself."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from pydantic import Field

from rilievo.core.cleaning.cleaner import CleanContext, CleanerParameters, cleaner
from rilievo.core.regions.binary_morphology import eroded, grown
from rilievo.core.regions.label_map import LabelMap


class _ByPixels(CleanerParameters):
    pixels: float = Field(
        1.0,
        ge=0,
        le=200,
        title="By",
        description="radius of the disc that is used",
        json_schema_extra={"unit": "px", "step": 0.5},
    )


class Erode(_ByPixels):
    """Take off a rim; what is thin goes away or falls apart."""

    in_words: ClassVar[str] = "regions were eroded by {pixels} px"


class Dilate(_ByPixels):
    """Add a rim; regions that were not split join where they meet."""

    in_words: ClassVar[str] = "regions were dilated by {pixels} px"


class Open(_ByPixels):
    """Erode, then dilate: thin necks and specks go away."""

    in_words: ClassVar[str] = "regions were opened by {pixels} px"


class Close(_ByPixels):
    """Dilate, then erode: small gaps and bays are closed."""

    in_words: ClassVar[str] = "regions were closed by {pixels} px"


class Smooth(_ByPixels):
    """Round off the outline by a Gaussian of this sigma."""

    in_words: ClassVar[str] = "outlines were smoothed by {pixels} px"


@cleaner("erode", title="Erode", parameters=Erode, order=40)
def erode(label_map: LabelMap, parameters: Erode, context: CleanContext) -> LabelMap:  # noqa: ARG001
    """Return the regions without the pixels within a distance of what is not the region."""
    return label_map.with_labels(eroded(label_map.labels, parameters.pixels))


@cleaner("dilate", title="Dilate", parameters=Dilate, order=50)
def dilate(label_map: LabelMap, parameters: Dilate, context: CleanContext) -> LabelMap:  # noqa: ARG001
    """Return the regions with all pixels within a distance of them."""
    return label_map.with_labels(grown(label_map.labels, parameters.pixels))


@cleaner("open", title="Open", parameters=Open, order=60)
def open_regions(label_map: LabelMap, parameters: Open, context: CleanContext) -> LabelMap:
    """Return the regions eroded and dilated."""
    size = {"pixels": parameters.pixels}
    return dilate(erode(label_map, Erode(**size), context), Dilate(**size), context)


@cleaner("close", title="Close", parameters=Close, order=70)
def close(label_map: LabelMap, parameters: Close, context: CleanContext) -> LabelMap:
    """Return the regions dilated and eroded."""
    size = {"pixels": parameters.pixels}
    return erode(dilate(label_map, Dilate(**size), context), Erode(**size), context)


@cleaner("smooth", title="Smooth outlines", parameters=Smooth, order=80)
def smooth(label_map: LabelMap, parameters: Smooth, context: CleanContext) -> LabelMap:  # noqa: ARG001
    """Return where the Gaussian mean of the regions' mask is above one half."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    if parameters.pixels == 0:
        return label_map
    share = ndimage.gaussian_filter(label_map.mask.astype(np.float32), parameters.pixels)
    near = grown(label_map.labels, np.ceil(parameters.pixels))
    return label_map.with_labels(np.where((share > 0.5) | (near <= 0), near, np.int32(0)))

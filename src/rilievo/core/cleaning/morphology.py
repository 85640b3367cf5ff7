"""Regions made smaller, larger, smoother. Split regions are treated each by itself."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.cleaning.cleaner import CleanContext, CleanerParameters, cleaner
from rilievo.core.regions.found import Found, Labels


class _ByPixels(CleanerParameters):
    pixels: float = Field(
        1.0, ge=0, le=200, title="By", json_schema_extra={"unit": "px", "step": 0.5}
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


def depth(labels: Labels) -> NDArray[np.float32]:
    """Return the squared distance of each region pixel to the nearest pixel of another label.

    Shape of `labels`, 0 outside. What lies beyond the image counts as the same region.
    """
    from rilievo.core.region_kernels import depth_squared  # noqa: PLC0415 (compiled on first use)

    result = np.empty(labels.shape, np.float32)
    depth_squared(labels, result)
    return result


def eroded(labels: Labels, pixels: float) -> Labels:
    """Return the pixels that are farther than `pixels` from any other label."""
    return np.where((labels > 0) & (depth(labels) <= pixels**2), np.int32(0), labels)


def grown(labels: Labels, pixels: float) -> Labels:
    """Return the regions with all pixels at most `pixels` away; the nearest region gets each."""
    from rilievo.core.region_kernels import grow_labels  # noqa: PLC0415 (compiled on first use)

    result = np.empty(labels.shape, np.int32)
    grow_labels(labels, pixels, result)
    return result


@cleaner("erode", title="Erode", parameters=Erode)
def erode(found: Found, parameters: Erode, context: CleanContext) -> Found:  # noqa: ARG001
    """Return the regions without the pixels within a distance of what is not the region."""
    return found.with_labels(eroded(found.labels, parameters.pixels))


@cleaner("dilate", title="Dilate", parameters=Dilate)
def dilate(found: Found, parameters: Dilate, context: CleanContext) -> Found:  # noqa: ARG001
    """Return the regions with all pixels within a distance of them."""
    return found.with_labels(grown(found.labels, parameters.pixels))


@cleaner("open", title="Open", parameters=Open)
def open_regions(found: Found, parameters: Open, context: CleanContext) -> Found:
    """Return the regions eroded and dilated."""
    size = {"pixels": parameters.pixels}
    return dilate(erode(found, Erode(**size), context), Dilate(**size), context)


@cleaner("close", title="Close", parameters=Close)
def close(found: Found, parameters: Close, context: CleanContext) -> Found:
    """Return the regions dilated and eroded."""
    size = {"pixels": parameters.pixels}
    return erode(dilate(found, Dilate(**size), context), Erode(**size), context)


@cleaner("smooth", title="Smooth outlines", parameters=Smooth)
def smooth(found: Found, parameters: Smooth, context: CleanContext) -> Found:  # noqa: ARG001
    """Return where the Gaussian mean of the regions' mask is above one half."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    if parameters.pixels == 0:
        return found
    share = ndimage.gaussian_filter(found.mask.astype(np.float32), parameters.pixels)
    near = grown(found.labels, np.ceil(parameters.pixels))
    return found.with_labels(np.where((share > 0.5) | (near <= 0), near, np.int32(0)))

"""Label images eroded and grown; split regions are treated each by itself."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rilievo.core.regions.label_map import Labels


def depth(labels: Labels) -> NDArray[np.float32]:
    """Return the squared distance of each region pixel to the nearest pixel of another label.

    Shape of `labels`, 0 outside. What lies beyond the image counts as the same region.
    """
    from rilievo.core.regions.region_kernels import depth_squared  # noqa: PLC0415 (compiled on first use)

    result = np.empty(labels.shape, np.float32)
    depth_squared(labels, result)
    return result


def eroded(labels: Labels, pixels: float) -> Labels:
    """Return the pixels that are farther than `pixels` from any other label."""
    return np.where((labels > 0) & (depth(labels) <= pixels**2), np.int32(0), labels)


def grown(labels: Labels, pixels: float) -> Labels:
    """Return the regions with all pixels at most `pixels` away; the nearest region gets each."""
    from rilievo.core.regions.region_kernels import grow_labels  # noqa: PLC0415 (compiled on first use)

    result = np.empty(labels.shape, np.int32)
    grow_labels(labels, pixels, result)
    return result

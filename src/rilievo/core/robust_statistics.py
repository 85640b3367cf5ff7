"""Outlier-robust level and spread."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

# So many pixels tell the spread of a plane well enough; they are taken evenly.
_ENOUGH = 1_000_000
NORMAL = 1.4826


def some_of(values: NDArray[Any]) -> NDArray[np.float64]:
    """Return the finite values of a plane, or an even choice of about a million of them."""
    step = max(1, int(np.sqrt(values.size / _ENOUGH)))
    few = values[::step, ::step].ravel().astype(np.float64)
    return np.asarray(few[np.isfinite(few)])


def median_and_mad_sigma(values: NDArray[Any]) -> tuple[float, float]:
    """Return median and 1.4826 · median absolute deviation of finite values; NaN for none."""
    if values.size == 0:
        return float("nan"), float("nan")
    middle = float(np.median(values))
    return middle, NORMAL * float(np.median(np.abs(values - middle)))

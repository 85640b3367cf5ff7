"""What several tests have in common: backgrounds."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy import ndimage

from rilievo.core.image.image import Plane
from rilievo.core.signal.steps import STEPS, StepContext


def applied(key: str, pixels: np.ndarray | Plane, **given: Any) -> tuple[Plane, dict[str, float]]:
    step = STEPS[key]
    plane = pixels if isinstance(pixels, Plane) else Plane(pixels)
    context = StepContext("a sample", "gray")
    return step.apply(plane, step.parameters.model_validate(given), context), context.numbers


def background(key: str, pixels: np.ndarray | Plane, **given: Any) -> np.ndarray:
    return np.asarray(applied(key, pixels, **{**given, "result": "background"})[0].pixels)


def terrain(shape: tuple[int, int], seed: int = 3) -> np.ndarray:
    """Rough ground with peaks, so that bodies of every size touch it somewhere."""
    rng = np.random.default_rng(seed)
    rough = ndimage.gaussian_filter(rng.normal(0, 1, shape), 2) * 60
    return (100 + rough + rng.normal(0, 3, shape)).astype(np.float64)

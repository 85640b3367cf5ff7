from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from rilievo.core.signal.steps.geometry_register import found_shift


@pytest.mark.parametrize("subpixel", [False, True])
def test_a_shift_is_found_by_phase_correlation(subpixel: bool) -> None:
    rng = np.random.default_rng(2)
    ground = ndimage.gaussian_filter(rng.normal(0, 1, (200, 240)), 3) * 100 + 50
    down, right = (3.4, -7.7) if subpixel else (3.0, -8.0)
    moved = ndimage.shift(ground, (-down, -right), order=3, mode="nearest")
    noisy = moved + rng.normal(0, 0.3, moved.shape)
    found = found_shift(ground, noisy, 50, subpixel)
    assert found[0] == pytest.approx(down, abs=0.05 if subpixel else 0)
    assert found[1] == pytest.approx(right, abs=0.05 if subpixel else 0)

from __future__ import annotations

import numpy as np

from tests.core.helpers.backgrounds import background


def test_smoothed_backgrounds_keep_level_and_tilt() -> None:
    y, x = np.indices((300, 260)).astype(np.float64)
    tilt = 500 + 0.3 * x + 0.2 * y
    spots = tilt.copy()
    spots[::40, ::40] += 900
    for way, limit in (("gaussian", 9.5), ("median", 3.0)):
        field = background("background.smoothed", spots, way=way, width=40)
        assert np.abs(field - tilt)[20:-20, 20:-20].max() < limit

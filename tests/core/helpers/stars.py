"""What several tests have in common: stars."""

from __future__ import annotations

import numpy as np

from tests.stars import moffat_star

FRAME = (160, 200)


POSITIONS = [(40.3, 50.2), (120.7, 44.6), (160.1, 110.4), (60.5, 120.9)]


def field(*extra: np.ndarray, fwhm: float = 4.0) -> np.ndarray:
    light = sum(moffat_star(FRAME, x, y, 4e4, fwhm, fine=3) for x, y in POSITIONS)
    return np.asarray(light + sum(extra, np.zeros(FRAME)))

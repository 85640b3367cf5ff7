"""What several tests have in common: looking."""

from __future__ import annotations

import numpy as np

from rilievo.core.view.palettes import (
    decode_colours,
)
from rilievo.core.view.render import Looks

RNG = np.random.default_rng(6)


LOOKS = Looks(
    (1, 2, 3),
    (0, 0, 255),
    0.5,
    (250, 250, 250),
    (0, 0, 0),
    (8, 8, 8),
    (7, 7, 7),
    (255, 0, 0),
    (9, 9, 9),
)


def grays(picture: np.ndarray) -> np.ndarray:
    return decode_colours(picture)[..., 0].astype(float)

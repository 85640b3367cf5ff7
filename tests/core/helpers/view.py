"""What several tests have in common: view."""

from __future__ import annotations

from typing import Any

import numpy as np

from rilievo.core.view.palettes import (
    decode_colours,
)
from rilievo.core.view.render import Looks
from rilievo.core.view.render import (
    painted as painted_packed,
)


def painted(*arguments: Any, **options: Any) -> np.ndarray:
    """The picture as red, green, blue."""
    return decode_colours(painted_packed(*arguments, **options))


LOOKS = Looks(
    ground=(9, 9, 9),
    flood=(0, 0, 200),
    flood_strength=0.5,
    line=(255, 0, 0),
    halo=(1, 2, 3),
    left_out=(8, 8, 8),
    other=(7, 7, 7),
    selected=(0, 255, 0),
    undefined=(200, 100, 0),
)

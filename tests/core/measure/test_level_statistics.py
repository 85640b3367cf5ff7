from __future__ import annotations

import numpy as np

from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.measure.level_statistics import level_values
from tests.core.helpers.large import RNG, WIDE


def test_a_part_of_a_plane_is_counted_by_level() -> None:
    values = level_values(plane_from_native(WIDE, significant_bits=12, empty=10.0))
    assert values is not None
    assert values.count_of("saturated")[0] == np.count_nonzero(WIDE >= 4095)
    assert values.count_of("empty")[0] == np.count_nonzero(WIDE <= 10)
    assert values.plane_range == (WIDE.min(), WIDE.max())
    assert level_values(Plane(WIDE.astype(np.float64))) is None
    many = RNG.integers(0, 10**9, WIDE.shape)
    assert level_values(plane_from_native(many)) is None, "more levels than are kept"

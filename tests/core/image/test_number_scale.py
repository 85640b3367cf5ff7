from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.image.number_scale import NumberScale, scale_for


def test_number_scales() -> None:
    plane = plane_from_native(np.zeros((2, 2), np.uint16), significant_bits=12)
    unit, eight = (scale_for(kind, plane, (0, 1)) for kind in ("unit", "8-bit"))  # type: ignore[arg-type]
    assert unit.value(4095) == 1
    assert eight.value(2047.5) == 127.5
    assert eight.difference(4095) == 255
    assert unit.native(unit.value(777.0)) == pytest.approx(777)
    floats = scale_for("unit", Plane(np.array([[2.0, 4.0]])), (2.0, 4.0))
    assert floats.value(3.0) == 0.5
    assert NumberScale().value(12.5) == 12.5
    assert np.isnan(NumberScale("unit", 3.0, 3.0).value(3.0))

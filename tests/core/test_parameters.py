from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.parameters import Rectangle


@given(st.integers(-5, 12), st.integers(-5, 12), st.integers(1, 9), st.integers(1, 9))
def test_rectangle_clips_to_the_image(x: int, y: int, width: int, height: int) -> None:
    shape = (6, 8)
    covered = np.zeros(shape, bool)
    covered[Rectangle(x=x, y=y, width=width, height=height).slices(shape)] = True
    rows, columns = np.indices(shape)
    expected = (columns >= x) & (columns < x + width) & (rows >= y) & (rows < y + height)
    np.testing.assert_array_equal(covered, expected)

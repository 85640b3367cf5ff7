from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.regions.contours import mask_outlines


@settings(max_examples=80)
@given(arrays(np.bool_, st.tuples(st.integers(1, 7), st.integers(1, 7))))
def test_outlines_enclose_exactly_the_mask(mask: np.ndarray) -> None:
    """Even–odd filling of the polygons gives the mask back."""
    polygons = mask_outlines(mask, 3, 5)
    for row in range(mask.shape[0]):
        for column in range(mask.shape[1]):
            crossings = 0
            for polygon in polygons:
                for (x0, y0), (x1, y1) in zip(polygon, polygon[1:] + polygon[:1], strict=True):
                    assert x0 == x1 or y0 == y1
                    spans = min(y0, y1) < row + 5 < max(y0, y1)
                    crossings += x0 == x1 and spans and x0 > column + 3
            assert bool(crossings % 2) == bool(mask[row, column])

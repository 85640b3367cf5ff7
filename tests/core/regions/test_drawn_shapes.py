from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.image.image import Plane
from rilievo.core.regions.drawn_shapes import DrawnRegion, cover, flooded, singles
from rilievo.core.regions.pixel_shapes import FloodShape
from rilievo.core.regions.shapes import EllipseShape, GridShape, RingShape
from tests.core.helpers.shapes import SIZE, mask_of


def test_regions_of_a_sample_are_set_down_in_order() -> None:
    disc = RingShape(x=10, y=10, outer=4)
    regions = (
        DrawnRegion(shape=disc, name="first"),
        DrawnRegion(shape=disc.moved(30, 0), sample="other"),
        DrawnRegion(
            shape=GridShape(
                rows=1, columns=2, first=(10, 12), across=(30, 12), down=(0, 0), width=4, height=4
            ),
            group="g",
        ),
    )
    frame = Plane(np.zeros(SIZE, np.float32))
    covering = cover(regions, "s", frame)
    assert [(one.index, one.cell, one.name, one.group) for one in covering.singles] == [
        (0, None, "first", ""),
        (2, 0, "A1", "g"),
        (2, 1, "A2", "g"),
    ]
    grid = mask_of(EllipseShape(x=10, y=12, width=4, height=4))
    assert covering.shared == (mask_of(disc) & grid).sum() > 0
    np.testing.assert_array_equal(covering.labels == 2, grid)
    assert len(list(singles(regions, "other"))) == 4


@settings(max_examples=60)
@given(arrays(np.float64, (8, 9), elements=st.integers(0, 3)), st.booleans())
def test_a_flood_is_what_is_reached_through_like_pixels(
    values: np.ndarray, connected: bool
) -> None:
    values[0, 0] = np.nan
    shape = FloodShape(x=4, y=5, tolerance=1, connected=connected)
    found = flooded(values, shape, (4, 5))
    alike = np.abs(values - values[5, 4]) <= 1
    expected = {(5, 4)}
    todo = [(5, 4)]
    while todo:
        y, x = todo.pop()
        for v, u in ((y - 1, x), (y + 1, x), (y, x - 1), (y, x + 1)):
            if 0 <= v < 8 and 0 <= u < 9 and alike[v, u] and (v, u) not in expected:
                expected.add((v, u))
                todo.append((v, u))
    wanted = expected if connected else {tuple(p) for p in np.argwhere(alike).tolist()}
    assert {tuple(p) for p in np.argwhere(found).tolist()} == wanted
    assert not flooded(values, shape, (0, 0)).any(), "an undefined pixel is like none"
    assert not flooded(values, shape, (-1, 3)).any()

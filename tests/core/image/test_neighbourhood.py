from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.image.neighbourhood import neighbourhood, neighbourhood_statistics
from rilievo.core.parameters import Rectangle


@given(st.integers(0, 8), st.integers(0, 5), st.sampled_from([1, 3, 5, 9, 501]))
def test_exactly_the_pixels_within_reach(x: int, y: int, size: int) -> None:
    shape = (6, 9)
    covered = np.zeros(shape, bool)
    covered[neighbourhood(x, y, size, shape).slices(shape)] = True
    rows, columns = np.indices(shape)
    expected = (abs(columns - x) <= size // 2) & (abs(rows - y) <= size // 2)
    np.testing.assert_array_equal(covered, expected)


@pytest.mark.parametrize("offset", [0, 10_000_000])
def test_statistics_against_plain_ones(offset: int) -> None:
    rng = np.random.default_rng(1)
    small = rng.integers(0, 1000, (20, 30))
    part = Rectangle(x=4, y=5, width=7, height=6)
    found = neighbourhood_statistics(plane_from_native((small + offset).astype(np.uint32)), part)
    inside = small[5:11, 4:11].astype(float)
    assert found.count == 42
    assert found.mean - offset == pytest.approx(inside.mean(), abs=1e-7)
    assert found.median - offset == np.median(inside)
    assert found.sd == pytest.approx(inside.std(ddof=1), rel=1e-12)
    assert (found.minimum - offset, found.maximum - offset) == (inside.min(), inside.max())
    assert found.total == pytest.approx(float((small + offset)[5:11, 4:11].sum()), rel=1e-12)


def test_undefined_pixels_and_single_ones() -> None:
    plane = Plane(np.array([[1.0, np.nan], [np.inf, 3.0]]))
    found = neighbourhood_statistics(plane, Rectangle(x=0, y=0, width=2, height=2))
    assert (found.count, found.mean) == (2, 2.0)
    one = neighbourhood_statistics(plane, Rectangle(x=0, y=0, width=1, height=1))
    assert one.mean == 1.0
    assert math.isnan(one.sd)
    nothing = neighbourhood_statistics(plane, Rectangle(x=1, y=0, width=1, height=1))
    assert nothing.count == 0
    assert math.isnan(nothing.mean)

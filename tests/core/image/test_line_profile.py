"""Line profiles against analytic images and a straight loop."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.image.line_profile import (
    Line,
    column_line,
    interpolated,
    line_profile,
    profile_facts,
    row_line,
)

PIXELS = np.random.default_rng(3).integers(0, 4000, (20, 31)).astype(np.uint16)
PLANE = plane_from_native(PIXELS)


def test_a_row_and_a_column_are_the_pixels_themselves() -> None:
    row = line_profile(PLANE, row_line(7, PLANE.shape))
    np.testing.assert_array_equal(row.values, PIXELS[7])
    column = line_profile(PLANE, column_line(30, PLANE.shape))
    np.testing.assert_array_equal(column.values, PIXELS[:, 30])
    assert column.distance[-1] == 19


def test_width_averages_or_adds_whole_rows() -> None:
    line = Line(x0=0, y0=5, x1=30, y1=5, width=3)
    np.testing.assert_allclose(line_profile(PLANE, line).values, PIXELS[4:7].mean(axis=0))
    added = line.model_copy(update={"across": "sum", "width": 4})
    expected = PIXELS[4:7].sum(axis=0) + 0.5 * PIXELS[3] + 0.5 * PIXELS[7] - 0.0
    # Four lines lie half a pixel off the rows: 3.5, 4.5, 5.5, 6.5.
    assert line_profile(PLANE, added).values == pytest.approx(expected)


@given(*[st.floats(0, 19)] * 4, st.integers(1, 5))
def test_on_a_tilted_plane_every_line_is_straight(
    x0: float, y0: float, x1: float, y1: float, width: int
) -> None:
    y, x = np.mgrid[:40, :40]
    plane = Plane(1000.0 + 3.0 * x - 2.0 * y)
    # Kept ten pixels inside, so that its whole width lies in the image.
    line = Line(x0=x0 + 10, y0=y0 + 10, x1=x1 + 10, y1=y1 + 10, width=width)
    profile = line_profile(plane, line)
    np.testing.assert_allclose(
        profile.values, 1000 + 3 * profile.x - 2 * profile.y, rtol=0, atol=1e-8
    )
    facts = profile_facts(profile)
    if line.length >= 2:
        slope = (3 * (x1 - x0) - 2 * (y1 - y0)) / line.length
        assert facts.slope == pytest.approx(slope, abs=1e-7)


def test_outside_and_undefined_points() -> None:
    plane = Plane(np.array([[1.0, np.nan, 3.0, 4.0]]))
    profile = line_profile(plane, Line(x0=-2, y0=0, x1=5, y1=0))
    assert np.isnan(profile.values).tolist() == [1, 1, 0, 1, 0, 0, 1, 1]
    facts = profile_facts(profile)
    assert (facts.lowest, facts.lowest_at) == (1, 2)
    assert (facts.highest, facts.highest_at) == (4, 5)
    wide = line_profile(
        Plane(np.array([[1.0, 2.0], [np.nan, 4.0], [5.0, 6.0]])),
        Line(x0=0, y0=1, x1=1, y1=1, width=3),
    )
    np.testing.assert_allclose(wide.values, [3.0, 4.0])
    empty = profile_facts(line_profile(plane, Line(x0=1, y0=0, x1=1, y1=0)))
    assert np.isnan(empty.mean)


def test_interpolation_half_way() -> None:
    found = interpolated(PLANE, np.array([3.5]), np.array([4.25]))
    expected = 0.75 * (PIXELS[4, 3] / 2 + PIXELS[4, 4] / 2) + 0.25 * (
        PIXELS[5, 3] / 2 + PIXELS[5, 4] / 2
    )
    assert found[0] == pytest.approx(expected)

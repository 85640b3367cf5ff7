"""What is seen: relief, contours, equalising, overlay, presets, scales, outlines; checks."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.image.pyramid import Pyramid
from rilievo.core.view.palettes import (
    ViewStyle,
)
from rilievo.core.view.relief import contour_lines, hillshade, round_levels
from rilievo.core.view.render import Shading, painted
from rilievo.core.view.sampling import Viewport
from tests.core.helpers.looking import LOOKS, RNG, grays


def test_hillshade_against_the_formula() -> None:
    y, x = np.mgrid[:20, :30]
    slope = 0.4 * x - 0.2 * y
    for light in (0.0, 90.0, 315.0):
        toward = np.array([np.sin(np.radians(light)), -np.cos(np.radians(light)), 1])
        normal = np.array([-0.4 * 2, 0.2 * 2, 1.0])
        expected = max(0.0, float(normal @ toward)) / float(np.linalg.norm(normal))
        lit = hillshade(slope, 2.0, light)
        np.testing.assert_allclose(lit, expected, rtol=1e-5)
    assert (hillshade(np.full((3, 3), 7.0), 5.0, 45.0) == 1).all()
    assert hillshade(np.full((1, 1), np.nan), 5.0, 45.0).shape == (1, 1)


def test_terrain_rising_towards_the_light_is_dark_behind() -> None:
    hill = np.zeros((64, 64), np.float32)
    hill[:, 24:40] = 1000 * np.hanning(16)
    view = Viewport(0, 0, 1.0, 64, 64)
    style = ViewStyle(relief=20, light=270, smooth=0)
    shade = grays(painted(Pyramid(hill), view, (-1000, 1000), LOOKS, shading=Shading(style=style)))
    flat = grays(painted(Pyramid(hill), view, (-1000, 1000), LOOKS))
    assert (shade[:, 28] > flat[:, 28]).all()  # faces left, where the light is
    assert (shade[:, 36] < flat[:, 36]).all()
    np.testing.assert_allclose(shade[:, 5], flat[:, 5], atol=4)


def test_strips_leave_no_seam() -> None:
    """The picture is painted in strips; relief and contours must pass from one to the next."""
    ramp = np.add.outer(np.arange(450.0), 0.3 * np.arange(300.0)).astype(np.float32)
    style = ViewStyle(relief=30, contours=True, contour_levels=(100.0, 230.5, 400.0), smooth=0)
    tall = painted(
        Pyramid(ramp), Viewport(0, 0, 1.0, 300, 450), (0, 500), LOOKS, shading=Shading(style=style)
    )
    moved = painted(
        Pyramid(ramp), Viewport(0, 37, 1.0, 300, 413), (0, 500), LOOKS, shading=Shading(style=style)
    )
    np.testing.assert_array_equal(tall[38:], moved[1:])


def test_smoothing_shows_the_ground_through_noise_and_objects() -> None:
    """A tilted ground under noise and a bright object is seen as an even slope."""
    y, x = np.mgrid[:256, :256]
    ground = 1000 + 0.2 * x + RNG.normal(0, 30, (256, 256))
    ground[120:126, 120:126] = 50_000
    style = ViewStyle(palette="gray", relief=1e-6, smooth=5)
    view = Viewport(0, 0, 1.0, 256, 256)
    picture = painted(Pyramid(ground), view, (900.0, 1200.0), LOOKS, shading=Shading(style=style))
    # Far from the object each shade is that of the ground itself.
    expected = (1000 + 0.2 * x - 900) / 300 * 255
    away = np.hypot(x - 123, y - 123) > 60
    away &= (x > 32) & (x < 224)
    assert np.abs(grays(picture) - expected)[away].max() < 10
    undefined = np.full((20, 20), np.nan, np.float32)
    painted(
        Pyramid(undefined), Viewport(0, 0, 1.0, 20, 20), (0, 1), LOOKS, shading=Shading(style=style)
    )


def test_contours_part_what_is_above_from_what_is_below() -> None:
    y, x = np.mgrid[:40, :40]
    distance = np.hypot(x - 20, y - 20)
    line = contour_lines(distance, (9.5,))
    above = distance > 9.5
    for row, column in zip(*np.nonzero(line), strict=True):
        around = above[max(row - 1, 0) : row + 2, max(column - 1, 0) : column + 2]
        assert around.any() and not around.all()
    assert line.sum() > 40


@given(st.floats(-1e6, 1e6), st.floats(1e-3, 1e6))
def test_round_levels_lie_inside_and_are_round(low: float, span: float) -> None:
    levels = round_levels(low, low + span)
    assert 3 <= len(levels) <= 12
    assert all(low < level < low + span for level in levels)
    steps = np.diff(levels)
    if steps.size:
        power = 10.0 ** np.floor(np.log10(steps[0] * 1.0001))
        assert min(abs(steps[0] / power - f) for f in (1, 2, 5, 10)) < 1e-3
    assert round_levels(5.0, 5.0) == ()

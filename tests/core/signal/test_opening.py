from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy import ndimage

from rilievo.core.image.image import Calibration, Plane
from rilievo.core.signal.opening import EXACT_RADIUS, body, opened, opened_by_paraboloid, shrinking
from tests.core.helpers.backgrounds import background, terrain


def textbook_opening(values: np.ndarray, heights: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """Erosion by a structuring function, then dilation, by SciPy's own definition."""
    structure = np.where(inside, heights, -np.inf)
    lower = ndimage.grey_erosion(
        values, footprint=inside, structure=np.where(inside, heights, 0), mode="constant",
        cval=np.inf,
    )  # fmt: skip
    assert structure.shape == inside.shape
    return ndimage.grey_dilation(
        lower, footprint=inside, structure=np.where(inside, heights, 0), mode="constant",
        cval=-np.inf,
    )  # fmt: skip


@pytest.mark.parametrize("radius", [0.5, 3, 17, 120, 900])
def test_opening_by_a_paraboloid_is_the_textbook_one(radius: float) -> None:
    values = terrain((31, 37))
    rise = 1 / (2 * radius)
    y, x = np.indices(values.shape)
    eroded = np.array(
        [[(values + rise * ((y - j) ** 2 + (x - i) ** 2)).min() for i in range(37)]
         for j in range(31)]
    )  # fmt: skip
    exact = np.array(
        [[(eroded - rise * ((y - j) ** 2 + (x - i) ** 2)).max() for i in range(37)]
         for j in range(31)]
    )  # fmt: skip
    np.testing.assert_allclose(opened_by_paraboloid(values, radius), exact, rtol=1e-12)
    single = opened_by_paraboloid(values.astype(np.float32), radius)
    np.testing.assert_allclose(single, exact, rtol=3e-7)


@settings(max_examples=25)
@given(
    arrays(np.float64, (11, 14), elements=st.floats(0, 200, width=32)),
    st.floats(0.6, 60),
    st.floats(0.1, 30),
)
def test_openings_are_below_and_stay_when_repeated(
    values: np.ndarray, radius: float, height_scale: float
) -> None:
    once = opened_by_paraboloid(values, radius, height_scale)
    assert (once <= values + 1e-9).all()
    again = opened_by_paraboloid(once, radius, height_scale)
    np.testing.assert_allclose(again, once, rtol=1e-10, atol=1e-10)


@pytest.mark.parametrize("form", ["ball", "disc"])
@pytest.mark.parametrize("radius", [1, 2.5, 6, EXACT_RADIUS])
def test_ball_and_disc_are_exact_up_to_the_stated_radius(form: Any, radius: float) -> None:
    values = terrain((40, 45))
    assert shrinking(radius) == 1
    heights, widths = body(form, radius, 2.0)
    along = np.arange(len(heights)) - len(heights) // 2
    inside = along[:, None] ** 2 + along**2 <= radius**2
    np.testing.assert_array_equal(widths, inside.sum(axis=1) // 2)
    exact = textbook_opening(values, heights, inside)
    np.testing.assert_allclose(opened(values, form, radius, 2.0), exact, atol=2e-5)


@pytest.mark.slow
@pytest.mark.parametrize(("form", "radius"), [("ball", 25), ("disc", 25), ("ball", 40)])
def test_above_it_the_deviation_from_the_exact_opening_is_small(form: Any, radius: float) -> None:
    """docs/performance.md states these deviations."""
    y, x = np.indices((200, 200))
    values = 1000 + 0.3 * x + 40 * np.sin(y / 60)
    for cy, cx in ((50, 60), (130, 140), (160, 40)):
        values = values + 300 * np.exp(-((y - cy) ** 2 + (x - cx) ** 2) / (2 * 5**2))
    heights, _ = body(form, radius, 1.0)
    along = np.arange(len(heights)) - len(heights) // 2
    exact = textbook_opening(values, heights, along[:, None] ** 2 + along**2 <= radius**2)
    found = opened(values, form, radius, 1.0)
    assert (found <= values + 1e-6).all()
    away = np.abs(found - exact) / 1000
    assert np.median(away) < 0.002
    assert away.max() < 0.01


def test_an_opening_ignores_undefined_pixels_and_dark_objects_need_a_closing() -> None:
    values = np.full((40, 40), 50.0, np.float32)
    values[20, 20] = 5
    values[3, 3] = np.nan
    field = background("background.opening", values, radius=4, smooth_before=0, objects="dark")
    # The pit is filled up to where the paraboloid hangs: its rim is 1 pixel away.
    assert field[20, 20] == pytest.approx(50 - 1 / 8, abs=1e-3)
    finite = np.isfinite(field)
    assert np.ptp(field[finite & (values > 40)]) < 0.2


def test_a_radius_in_a_calibrated_unit_follows_the_pixel_size() -> None:
    values = terrain((40, 40)).astype(np.float32)
    given = {"smooth_before": 0, "height_scale": 1.0}
    pixels = background("background.opening", values, radius=12, **given)
    plane = Plane(values, Calibration(0.5, "µm"))
    unit = background("background.opening", plane, radius=6, radius_in="unit", **given)
    np.testing.assert_array_equal(unit, pixels)
    with pytest.raises(Exception, match="no pixel size"):
        background("background.opening", values, radius=6, radius_in="unit")

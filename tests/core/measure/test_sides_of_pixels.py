"""Pixels that are not square: lengths, areas, directions and rings with the true sides."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.image.image import Calibration, Plane
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues

WIDTH, HEIGHT = 0.1, 0.3


def measured(
    mask: np.ndarray, *keys: str, sides: tuple[float, float] = (WIDTH, HEIGHT)
) -> list[float]:
    plane = Plane(np.zeros(mask.shape, np.float32), Calibration.of_sides(*sides, "µm"))
    index = RegionIndex(mask.astype(np.int32), np.array([1]))
    values = RegionValues(index, plane, plane)
    return [float(QUANTITIES[key].measure(values)[0]) for key in keys]


def test_a_box_by_hand() -> None:
    mask = np.zeros((50, 60), bool)
    mask[10:40, 10:50] = True
    keys = ("area_unit", "perimeter_unit", "bbox_w_unit", "bbox_h_unit", "caliper_max_unit",
            "caliper_min_unit", "convex_area_unit", "equivalent_diameter_unit", "major_axis_unit",
            "orientation", "aspect_ratio", "solidity", "circularity", "area", "perimeter",
            "bbox_w")  # fmt: skip
    expected = [36, 26, 4, 9, math.hypot(4, 9), 4, 36, math.sqrt(4 * 36 / math.pi),
                4 * 9 / math.sqrt(12), 90, 9 / 4, 1, 4 * math.pi * 36 / 26**2, 1200, 140,
                40]  # fmt: skip
    assert measured(mask, *keys) == pytest.approx(expected, rel=1e-9)


@pytest.mark.parametrize("degrees", [0, 25, 60, 90, -40])
def test_a_turned_ellipse_is_the_one_that_was_photographed(degrees: float) -> None:
    a, b = 8.0, 3.0
    y, x = np.mgrid[:100, :260]
    x, y = (x - 130) * WIDTH, (y - 50) * HEIGHT
    # Counter-clockwise as seen, y downwards.
    cos, sin = math.cos(math.radians(-degrees)), math.sin(math.radians(-degrees))
    mask = ((x * cos + y * sin) / a) ** 2 + ((-x * sin + y * cos) / b) ** 2 < 1
    keys = ("area_unit", "major_axis_unit", "minor_axis_unit", "orientation", "perimeter_unit",
            "caliper_max_unit", "caliper_min_unit", "eccentricity", "solidity")  # fmt: skip
    found = measured(mask, *keys)
    h = ((a - b) / (a + b)) ** 2
    around = math.pi * (a + b) * (1 + 3 * h / (10 + math.sqrt(4 - 3 * h)))
    assert found[0] == pytest.approx(math.pi * a * b, rel=0.015)
    assert found[1:3] == pytest.approx([2 * a, 2 * b], rel=0.02)
    assert found[3] == pytest.approx(degrees, abs=1)
    assert found[4] == pytest.approx(around, rel=0.015)
    assert found[5:7] == pytest.approx([2 * a, 2 * b], abs=0.3)
    assert found[7] == pytest.approx(math.sqrt(1 - (b / a) ** 2), rel=0.01)
    assert 0.985 <= found[8] <= 1


def test_a_ring_is_as_wide_in_every_direction() -> None:
    mask = np.zeros((41, 121), bool)
    mask[20, 60] = True
    index = RegionIndex(mask.astype(np.int32), np.array([1]))
    ring = index.ring(6.0, 6.0, HEIGHT / WIDTH).labels > 0
    y, x = np.mgrid[:41, :121]
    away = np.hypot((x - 60) * WIDTH, (y - 20) * HEIGHT)
    np.testing.assert_array_equal(ring, (away > 0.6 + 1e-9) & (away <= 1.2 + 1e-9))


def test_what_needs_square_pixels_says_so() -> None:
    entry = QUANTITIES["fwhm_unit"]
    assert "square" in entry.definition
    mask = np.ones((9, 9), bool)
    assert math.isnan(measured(mask, "fwhm_unit")[0])
    assert math.isnan(measured(mask, "perimeter_unit", sides=(math.nan, 1.0))[0])


def test_calibration_keeps_and_turns_both_sides() -> None:
    one = Calibration.of_sides(100.0, 300.0, "nm")
    assert one.in_unit("µm").sides == pytest.approx((0.1, 0.3))
    assert one.turned().sides == (300.0, 100.0)
    assert one.scaled(2).sides == (200.0, 600.0)
    assert one.area_factor == 30_000
    assert one.length(3, 0) == 300
    assert one.length(0, 1) == 300
    assert Calibration.of_sides(1.0, 1.0 + 1e-8, "um") == Calibration(1.0, "µm")
    assert one.in_unit("arcsec") is one

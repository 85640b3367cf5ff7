"""Form of regions against analytic values and brute force."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.image.image import Calibration, Plane
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.regions.label_map import connected


def form(labels: np.ndarray, *keys: str, pixel_size: float | None = None) -> list[np.ndarray]:
    ids = np.unique(labels[labels > 0]).astype(np.int64)
    plane = Plane(np.zeros(labels.shape, np.float32), Calibration(pixel_size, "µm"))
    values = RegionValues(RegionIndex(labels.astype(np.int32), ids), plane, plane)
    return [QUANTITIES[key].measure(values) for key in keys]


def one(mask: np.ndarray, *keys: str) -> list[float]:
    return [float(column[0]) for column in form(mask.astype(np.int32), *keys)]


def discs(radius: float, count: int, seed: int = 1) -> list[np.ndarray]:
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[-60:61, -60:61]
    return [
        (x - cx) ** 2 + (y - cy) ** 2 < radius**2 for cx, cy in rng.uniform(-0.5, 0.5, (count, 2))
    ]


@pytest.mark.parametrize("radius", [5, 8, 20, 45])
def test_perimeter_and_circularity_of_discs(radius: float) -> None:
    found = np.array([one(m, "perimeter", "circularity") for m in discs(radius, 60)])
    assert found[:, 0].mean() == pytest.approx(2 * math.pi * radius, rel=0.01)
    assert found[:, 1].mean() == pytest.approx(1, abs=0.03)


def turned_box(width: float, height: float, angle: float, shift: tuple[float, float]) -> np.ndarray:
    y, x = np.mgrid[-60:61, -60:61]
    u = (x - shift[0]) * math.cos(angle) + (y - shift[1]) * math.sin(angle)
    v = -(x - shift[0]) * math.sin(angle) + (y - shift[1]) * math.cos(angle)
    return (np.abs(u) < width / 2) & (np.abs(v) < height / 2)


@pytest.mark.parametrize(("width", "height"), [(40, 40), (60, 20), (30, 12)])
def test_turned_rectangles(width: float, height: float) -> None:
    rng = np.random.default_rng(2)
    rows = []
    for _ in range(60):
        angle = rng.uniform(0, math.pi)
        mask = turned_box(width, height, angle, rng.uniform(-0.5, 0.5, 2))
        rows.append(one(mask, "perimeter", "major_axis", "minor_axis", "solidity", "caliper_min"))
    perimeter, major, minor, solidity, narrowest = np.array(rows).mean(axis=0)
    assert perimeter == pytest.approx(2 * (width + height), rel=0.03)
    assert major == pytest.approx(4 * width / math.sqrt(12), rel=0.02)
    assert minor == pytest.approx(4 * height / math.sqrt(12), rel=0.03)
    assert solidity > 0.9
    assert narrowest == pytest.approx(height, abs=1.5)


def test_orientation_is_counter_clockwise_on_the_screen() -> None:
    for degrees in (0, 30, 60, 90, -45, -80):
        mask = turned_box(60, 10, -math.radians(degrees), (0.3, 0.2))
        assert one(mask, "orientation")[0] == pytest.approx(degrees, abs=1)
    (angle,) = one(np.ones((7, 3), bool), "orientation")
    assert angle == 90


def test_plain_numbers_of_a_box() -> None:
    mask = np.zeros((9, 9), bool)
    mask[2:7, 3:6] = True
    keys = ("convex_area", "caliper_max", "caliper_min", "solidity", "equivalent_diameter",
            "aspect_ratio", "roundness", "eccentricity", "touches_edge", "hole_count", "euler",
            "filled_area")  # fmt: skip
    expected = [15, math.hypot(5, 3), 3, 1, math.sqrt(60 / math.pi), 5 / 3,
                4 * 15 / (math.pi * (4 * 5 / math.sqrt(12)) ** 2), 0.8, 0, 0, 1, 15]  # fmt: skip
    assert one(mask, *keys) == pytest.approx(expected)
    calibrated = form(mask.astype(np.int32), "perimeter", "perimeter_unit", pixel_size=0.5)
    assert calibrated[1] == pytest.approx(calibrated[0] / 2)
    assert np.isnan(form(mask.astype(np.int32), "perimeter_unit")[0]).all()


@settings(max_examples=80)
@given(arrays(np.bool_, st.tuples(st.integers(1, 8), st.integers(1, 8))))
@example(np.array([[1, 0, 0, 0]] * 3 + [[0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]], bool))
def test_holes_hull_and_edge_by_brute_force(mask: np.ndarray) -> None:
    labels, count = connected(mask, 8)
    if not count:
        return
    holes, filled, convex, longest, edge = form(
        labels, "hole_count", "filled_area", "convex_area", "caliper_max", "touches_edge"
    )
    for number in range(1, count + 1):
        own = np.pad(labels == number, 1)
        parts, total = connected(~own, 4)
        assert holes[number - 1] == total - 1
        assert filled[number - 1] == own.sum() + (~own & (parts != parts[0, 0])).sum()
        rows, columns = np.nonzero(own)
        centres = list(zip(columns.tolist(), rows.tolist(), strict=True))
        corners = [(x + dx, y + dy) for x, y in centres for dx in (-0.5, 0.5) for dy in (-0.5, 0.5)]
        widest = [
            max(math.dist(p, q) for p, q in itertools.product(points, points))
            for points in (centres, corners)
        ]
        # The outline lies between the centres of the outermost pixels and their corners.
        assert widest[0] - 0.5 <= longest[number - 1] <= widest[1] + 1e-9
        assert convex[number - 1] >= filled[number - 1] - 1e-9
        there = labels == number
        reaches = there[0].any() or there[-1].any() or there[:, 0].any() or there[:, -1].any()
        assert edge[number - 1] == reaches


@pytest.mark.parametrize("radius", [5, 6, 8, 12, 20, 45])
def test_solidity_and_widths_of_discs(radius: float) -> None:
    keys = ("solidity", "caliper_max", "caliper_min")
    found = np.array([one(mask, *keys) for mask in discs(radius, 60, seed=3)])
    assert found[:, 0].max() <= 1 + 1e-9
    assert 0.985 <= found[:, 0].mean() <= 1
    assert found[:, 1].mean() == pytest.approx(2 * radius, abs=0.4)
    assert found[:, 2].mean() == pytest.approx(2 * radius, abs=0.4)


@pytest.mark.parametrize(("width", "height"), [(6, 3), (10, 4), (20, 5)])
def test_small_turned_rectangles(width: float, height: float) -> None:
    rng = np.random.default_rng(5)
    keys = ("perimeter", "caliper_min", "caliper_max")
    masks = [
        turned_box(width, height, rng.uniform(0, math.pi), rng.uniform(-0.5, 0.5, 2))
        for _ in range(300)
    ]
    perimeter, narrowest, widest = np.array([one(mask, *keys) for mask in masks]).mean(axis=0)
    assert perimeter == pytest.approx(2 * (width + height), rel=0.02)
    assert narrowest == pytest.approx(height, abs=0.4)
    assert widest == pytest.approx(math.hypot(width, height), abs=0.4)


def test_all_parts_of_a_region_count() -> None:
    """Two discs and a ring of one number: nothing is left out, nothing absurd."""
    y, x = np.mgrid[:60, :130]
    discs_at = [(x - cx) ** 2 + (y - 30) ** 2 < 100 for cx in (15, 45)]
    ring = ((x - 100) ** 2 + (y - 30) ** 2 < 400) & ((x - 100) ** 2 + (y - 30) ** 2 > 100)
    single = [one(mask, "perimeter", "area")[0] for mask in (*discs_at, ring)]
    both = discs_at[0] | discs_at[1] | ring
    keys = ("perimeter", "parts", "hole_count", "euler", "circularity", "caliper_max", "solidity")
    perimeter, parts, holes, euler, circularity, widest, solidity = one(both, *keys)
    assert perimeter == pytest.approx(sum(single), rel=1e-12)
    assert (parts, holes, euler) == (3, 1, 2)
    filled = 2 * math.pi * 100 + math.pi * 400
    assert circularity == pytest.approx(4 * math.pi * filled / (80 * math.pi) ** 2, rel=0.05)
    assert widest == pytest.approx(114, abs=1)
    assert 0 < solidity < 0.7


@settings(max_examples=80)
@given(arrays(np.bool_, st.tuples(st.integers(1, 9), st.integers(1, 9))))
def test_parts_by_flooding(mask: np.ndarray) -> None:
    if mask.any():
        assert one(mask, "parts")[0] == connected(mask, 8)[1]
        circularity = one(mask, "circularity")[0]
        assert 0 < circularity < 1.6, "a few pixels can be rounder than a disc, never absurd"


@settings(max_examples=60)
@given(arrays(np.bool_, st.tuples(st.integers(1, 9), st.integers(1, 9))))
def test_ellipse_of_equal_moments_by_fine_squares(mask: np.ndarray) -> None:
    """Each pixel is a unit square: cut into 9 × 9 points, its moments are those of the points."""
    if not mask.any():
        return
    fine = 9
    inner = (np.arange(fine) + 0.5) / fine - 0.5
    rows, columns = np.nonzero(mask)
    y = (rows[:, None, None] + inner[None, :, None] + 0 * inner[None, None, :]).ravel()
    x = (columns[:, None, None] + 0 * inner[None, :, None] + inner[None, None, :]).ravel()
    # So many points of a unit square have a little less spread than the square itself.
    short = (1 - 1 / fine**2) / 12
    spread = np.cov(np.stack([x, y]), bias=True) + np.eye(2) * (1 / 12 - short)
    small, large = np.linalg.eigvalsh(spread)
    keys = ("major_axis", "minor_axis", "eccentricity", "aspect_ratio", "roundness", "x", "y",
            "orientation")  # fmt: skip
    found = dict(zip(keys, one(mask, *keys), strict=True))
    major, minor = 4 * math.sqrt(large), 4 * math.sqrt(small)
    assert found["major_axis"] == pytest.approx(major)
    assert found["minor_axis"] == pytest.approx(minor)
    assert found["eccentricity"] == pytest.approx(math.sqrt(max(1 - small / large, 0)), abs=1e-6)
    assert found["aspect_ratio"] == pytest.approx(major / minor)
    assert found["roundness"] == pytest.approx(4 * mask.sum() / (math.pi * major**2))
    assert (found["x"], found["y"]) == (pytest.approx(columns.mean()), pytest.approx(rows.mean()))
    if large - small > 1e-6:
        # Along the axis the spread is the largest; y grows downwards.
        angle = math.radians(found["orientation"])
        way = np.array([math.cos(angle), -math.sin(angle)])
        assert way @ spread @ way == pytest.approx(large)

"""Medians around pixels against the values of each square, sorted one by one."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.signal.median_network import LARGEST, merged
from rilievo.core.signal.medians import (
    deviations_around,
    median,
    median_going_on,
    median_of_good,
    medians_around,
    neighbour_medians,
)

TYPES = pytest.mark.parametrize("kind", [np.float32, np.float64])
# Networks up to LARGEST, ranks above.
SIZES = pytest.mark.parametrize("size", [3, 5, 7, 9, 11, 15])


def noisy(shape: tuple[int, int], kind: type, holes: float = 0.0, seed: int = 0) -> np.ndarray:
    rng = np.random.default_rng(seed)
    # Whole numbers, so that many are equal.
    values = np.round(rng.normal(0, 6, shape)).astype(kind)
    values[rng.random(shape) < holes] = np.nan
    return values


def middle(values: list[float], kind: type) -> float:
    known = sorted(v for v in values if not np.isnan(v))
    if not known:
        return np.nan
    half = len(known) // 2
    if len(known) % 2:
        return known[half]
    return kind(known[half - 1] + (kind(known[half]) - kind(known[half - 1])) / 2)


def square(padded: np.ndarray, y: int, x: int, size: int, centre: bool) -> list[float]:
    part = padded[y : y + size, x : x + size].ravel().tolist()
    if not centre:
        del part[size * size // 2]
    return part


def by_hand(values: np.ndarray, size: int, *, centre: bool = True) -> np.ndarray:
    padded = np.pad(values, size // 2, mode="symmetric")
    kind = values.dtype.type
    return np.array(
        [
            [middle(square(padded, y, x, size, centre), kind) for x in range(values.shape[1])]
            for y in range(values.shape[0])
        ]
    )


@TYPES
@SIZES
@pytest.mark.parametrize("holes", [0.0, 0.002, 0.4])
def test_medians_are_those_of_each_square(kind: type, size: int, holes: float) -> None:
    values = noisy((23, 31), kind, holes)
    found = median_of_good(values, size)
    assert found.dtype == values.dtype
    np.testing.assert_array_equal(found, by_hand(values, size))
    kept = median(values, size)
    np.testing.assert_array_equal(np.isnan(kept), np.isnan(values))


@TYPES
@SIZES
@pytest.mark.parametrize("holes", [0.0, 0.01])
def test_medians_of_neighbours_leave_the_pixel_itself_out(
    kind: type, size: int, holes: float
) -> None:
    values = noisy((19, 22), kind, holes, seed=3)
    wanted = by_hand(values, size, centre=False)
    np.testing.assert_array_equal(neighbour_medians(values, size), wanted)
    some = np.random.default_rng(5).random(values.shape) < 0.2
    np.testing.assert_array_equal(medians_around(values, some, size), wanted[some])


@SIZES
def test_deviations_are_about_the_median_of_the_neighbours(size: int) -> None:
    values = noisy((12, 14), np.float64, 0.05, seed=8)
    some = np.zeros(values.shape, np.bool_)
    some[[0, 5, 11], [0, 7, 13]] = True
    padded = np.pad(values, size // 2, mode="symmetric")
    wanted = []
    for y, x in zip(*np.nonzero(some), strict=True):
        part = square(padded, y, x, size, centre=False)
        known = [v for v in part if not np.isnan(v)]
        wanted.append(middle([abs(v - middle(known, float)) for v in known], float))
    np.testing.assert_array_equal(deviations_around(values, some, size), wanted)


@pytest.mark.parametrize("shape", [(1, 1), (1, 40), (40, 1), (2, 3), (700, 5), (5, 700)])
@pytest.mark.parametrize("size", [3, 9, 11])
def test_any_shape_has_medians(shape: tuple[int, int], size: int) -> None:
    values = noisy(shape, np.float32, seed=2)
    np.testing.assert_array_equal(median_of_good(values, size), by_hand(values, size))


@pytest.mark.parametrize("size", [5, 21])
def test_parts_join_without_a_seam(size: int) -> None:
    """Several threads and several ranked blocks, against SciPy, which has neither."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    values = np.random.default_rng(4).normal(0, 1, (900, 1300)).astype(np.float32)
    wanted = ndimage.median_filter(values, size, mode="reflect")
    np.testing.assert_array_equal(median_of_good(values, size), wanted)


def test_nothing_defined_gives_nothing() -> None:
    values = np.full((30, 30), np.nan, np.float32)
    for size in (3, 15):
        assert np.isnan(median_of_good(values, size)).all()


def test_infinite_values_are_values() -> None:
    values = noisy((15, 15), np.float64)
    values[4, 4], values[9, 2] = np.inf, -np.inf
    for size in (3, 11):
        np.testing.assert_array_equal(median_of_good(values, size), by_hand(values, size))


@pytest.mark.parametrize("size", [3, 11])
def test_a_tilt_stays_a_tilt_up_to_the_border(size: int) -> None:
    y, x = np.mgrid[:30, :41]
    tilt = 3.0 * y - 2.0 * x
    np.testing.assert_allclose(median_going_on(tilt, size), tilt, atol=1e-9)


@given(st.integers(0, 40), st.integers(0, 40), st.data())
@settings(max_examples=200, deadline=None)
def test_merging_orders_any_two_ordered_lists(a: int, b: int, data: st.DataObject) -> None:
    """Whatever orders zeros and ones orders all values (the 0–1 principle)."""
    ones = data.draw(st.integers(0, a)), data.draw(st.integers(0, b))
    lists = [[0] * (n - k) + [1] * k for n, k in zip((a, b), ones, strict=True)]
    found = merged(*lists, lambda p, q: (min(p, q), max(p, q)))  # type: ignore[arg-type, return-value, type-var]
    assert found == sorted(lists[0] + lists[1])


def test_networks_and_ranks_are_both_tested() -> None:
    assert 3 <= LARGEST < 15

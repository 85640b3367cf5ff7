"""Matched regions against hand-made label images and brute force."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.regions.overlap import match_regions


def test_regions_are_matched_by_overlap() -> None:
    first, second = np.zeros((20, 40), np.int32), np.zeros((20, 40), np.int32)
    first[2:12, 2:12] = 3  # 100 pixels
    second[2:12, 4:14] = 8  # shares 80 of 120
    first[2:6, 20:30] = 5  # another place in the second
    second[14:18, 20:30] = 9
    first[15:18, 2:8] = 6
    second[15:18, 2:8] = 2  # the same
    second[0, 0] = -1  # left out, which is no region
    found = match_regions(first, second)
    assert list(zip(found.first.tolist(), found.second.tolist(), strict=True)) == [(3, 8), (6, 2)]
    assert found.overlap == pytest.approx([80 / 120, 1.0])
    assert found.only_first.tolist() == [5]
    assert found.only_second.tolist() == [9]
    assert found.score == pytest.approx(4 / 6)


def test_each_region_has_one_partner_also_below_a_half() -> None:
    first, second = np.zeros((10, 30), np.int32), np.zeros((10, 30), np.int32)
    first[2:8, 0:20] = 1
    second[2:8, 0:9] = 1
    second[2:8, 9:20] = 2
    found = match_regions(first, second, least=0.3)
    assert (found.first.tolist(), found.second.tolist()) == ([1], [2])
    assert found.only_second.tolist() == [1]


def test_against_brute_force() -> None:
    rng = np.random.default_rng(4)
    first = np.kron(rng.integers(0, 6, (8, 8)), np.ones((4, 4), int)).astype(np.int32)
    second = np.roll(first, 1, axis=1)
    found = match_regions(first, second)
    for one, other, overlap in zip(found.first, found.second, found.overlap, strict=True):
        a, b = first == one, second == other
        assert overlap == pytest.approx((a & b).sum() / (a | b).sum())
        assert overlap >= 0.5


def test_nothing_and_other_sizes() -> None:
    none = match_regions(np.zeros((4, 4), np.int32), np.zeros((4, 4), np.int32))
    assert none.first.size == 0
    assert np.isnan(none.score)
    with pytest.raises(ValueError, match="shapes differ"):
        match_regions(np.zeros((4, 4), np.int32), np.zeros((4, 5), np.int32))

"""Regions followed through time, against motions that are known."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.regions.tracks import Places, common_drift, tracks_through


def places(x: list[float], y: list[float], radius: float | list[float] = 3.0) -> Places:
    radii = np.full(len(x), radius) if isinstance(radius, float) else np.array(radius, float)
    return Places(np.array(x, float), np.array(y, float), radii)


@pytest.mark.parametrize("count", [1, 30, 2000])
def test_moving_regions_keep_their_numbers_in_any_order(count: int) -> None:
    rng = np.random.default_rng(count)
    side = 14 * np.sqrt(count) + 20
    grid = int(np.ceil(np.sqrt(count)))
    spots = np.stack(np.meshgrid(range(grid), range(grid)), -1).reshape(-1, 2)[:count]
    start = spots * side / grid + rng.uniform(-1, 1, (count, 2))
    drift = np.cumsum(rng.uniform(-2, 2, (15, 2)), axis=0)
    times, truths = [], []
    for k in range(15):
        order = rng.permutation(count)
        # Each walks by itself and all drift together.
        start = start + rng.normal(0, 0.4, start.shape)
        at = (start + drift[k])[order]
        times.append(Places(at[:, 0], at[:, 1], np.full(count, 3.0)))
        truths.append(order)
    found = tracks_through(times)
    assert found.count == count and not found.events
    number_of = {int(t): int(n) for t, n in zip(truths[0], found.numbers[0], strict=True)}
    for truth, numbers in zip(truths, found.numbers, strict=True):
        assert [number_of[int(t)] for t in truth] == numbers.tolist()
    if count > 1:
        assert found.drift[-1] == pytest.approx(drift[-1] - drift[0], abs=1.0)


def test_a_region_may_be_missing_for_a_time_but_not_for_long() -> None:
    here, none = places([10, 40], [10, 10]), places([40], [10])
    assert tracks_through([here, none, here]).numbers[2].tolist() == [1, 2]
    assert tracks_through([here, none, none, here]).numbers[3].tolist() == [3, 2]
    assert tracks_through([here, none, none, here], gap=2).numbers[3].tolist() == [1, 2]
    assert tracks_through([here, none, here], gap=0).numbers[2].tolist() == [3, 2]


def test_two_that_cross_near_each_other_are_linked_by_the_least_sum() -> None:
    # The nearest region of both is the one in the middle; together they are cheapest in order.
    before, after = places([0, 4], [0, 0]), places([3, 7], [0, 0])
    found = tracks_through([before, after])
    assert found.numbers[1].tolist() == [1, 2]


def test_far_regions_are_new_ones() -> None:
    found = tracks_through([places([10], [10]), places([60], [10])])
    # One alone that moved far could be drift; beside others it is another one.
    many = tracks_through(
        [places([10, 50, 90, 130], [10] * 4), places([10, 50, 90, 200], [10] * 4)]
    )
    assert found.count == 1
    assert many.numbers[1].tolist() == [1, 2, 3, 5]


def test_splits_and_merges_are_said() -> None:
    apart = places([10, 20, 60], [10, 10, 10], [4.0, 4.0, 4.0])
    one = places([14, 60], [10, 10], [6.0, 4.0])
    merged = tracks_through([apart, one, one, one])
    assert merged.numbers[1].tolist()[1] == 3
    kept = int(merged.numbers[1][0])
    lost = 3 - kept
    assert merged.events[0, lost - 1] == (("merges into", kept),)
    assert merged.events[1, 0] == (("takes in", lost),)
    split = tracks_through([one, apart])
    own = split.numbers[1].tolist()
    assert sorted(own) == [1, 2, 3]
    new = own.index(3)
    assert split.events == {(1, new): (("split from", 1),)}


def test_times_without_regions() -> None:
    none = places([], [])
    found = tracks_through([none, places([5], [5]), none, none, places([5], [5])])
    assert [n.tolist() for n in found.numbers] == [[], [1], [], [], [2]]
    assert tracks_through([]).count == 0
    assert common_drift(none, none).tolist() == [0, 0]

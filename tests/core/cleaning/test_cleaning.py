"""Each step of the clean-up against brute force; and all of them on awkward pictures."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.cleaning import CLEANERS
from rilievo.core.cleaning.region_filter import KeepRange
from rilievo.core.errors import RilievoError, StepError
from rilievo.core.method.class_definition import CleanUse, clean_use
from rilievo.core.regions.binary_morphology import eroded
from rilievo.core.regions.label_map import LabelMap, connected
from tests.core.helpers.cleaning import MASKS
from tests.outlines import find_regions


def cleaned(mask: np.ndarray, *uses: CleanUse, **fields: object) -> np.ndarray:
    """The regions' numbers after a clean-up without hole filling."""
    found = find_regions(mask.astype(np.float32), 0.5, fill=False, clean=uses, **fields)  # type: ignore[arg-type]
    return np.maximum(found.labels, 0)


@settings(max_examples=60)
@given(MASKS, st.sampled_from([1.0, 2.0]))
def test_opening_and_closing_stay_below_and_above(mask: np.ndarray, pixels: float) -> None:
    opened = cleaned(mask, clean_use("open", pixels=pixels)) > 0
    closed = cleaned(mask, clean_use("close", pixels=pixels)) > 0
    assert not (opened & ~mask).any()
    assert not (mask & ~closed).any()
    again = cleaned(opened, clean_use("open", pixels=pixels)) > 0
    np.testing.assert_array_equal(again, opened, err_msg="opening twice is opening once")
    eroded_mask = cleaned(mask, clean_use("erode", pixels=pixels)) > 0
    assert not (eroded_mask & ~opened).any()


def test_holes_up_to_an_area_and_islands_in_them() -> None:
    mask = np.ones((20, 20), bool)
    mask[2:4, 2:4] = False
    mask[8:16, 8:16] = False
    mask[11:13, 11:13] = True
    assert cleaned(mask, clean_use("fill_holes", up_to=4)).max() == 2
    whole = cleaned(mask, clean_use("fill_holes"))
    assert (whole == 1).all(), "an island in a filled hole belongs to the region around it"


def test_smoothing_rounds_off_and_keeps_the_place() -> None:
    mask = np.zeros((60, 60), bool)
    mask[15:45, 15:45] = True
    mask[30, 45:55] = True
    smooth = cleaned(mask, clean_use("smooth", pixels=3)) > 0
    assert not smooth[30, 50]
    assert not smooth[15, 15]
    assert smooth[16:44, 30].all()
    assert smooth.sum() == pytest.approx(900, rel=0.06)
    np.testing.assert_array_equal(cleaned(mask, clean_use("smooth", pixels=0)) > 0, mask)


def test_what_touches_the_edge_goes_with_its_reason() -> None:
    mask = np.zeros((10, 12), bool)
    mask[0:3, 4:6] = mask[5:7, 5:8] = mask[8, 11] = True
    found = find_regions(mask.astype(float), 0.5, clean=(clean_use("clear_edge"),))
    assert found.count == 1
    assert found.dropped == 2
    assert found.reason_at(4, 1) == found.reason_at(11, 8) == "touches the edge"
    assert found.reason_at(5, 5) == ""


def test_keeping_by_any_quantity_says_why_the_others_went(blobs: np.ndarray) -> None:
    values = blobs.astype(np.float32)
    for key, lower, upper, left in (
        ("area", 2, None, [200, 400]),
        ("mean", 350, 700, [400]),
        ("aspect_ratio", 1.5, None, [200]),
        ("x", None, 45, [200]),
    ):
        use = clean_use("keep", quantity=key, lower=lower, upper=upper)
        found = find_regions(values, 200, clean=(use,))
        assert found.areas.tolist() == left, key
        assert all(("below" in reason) or ("above" in reason) for reason in found.reasons)
    use = clean_use("keep", quantity="area_unit", lower=50.0)
    in_units = find_regions(values, 200, clean=(use,), pixel_size=0.5)
    assert in_units.areas.tolist() == [200, 400]
    with pytest.raises(StepError, match="pixel size"):
        find_regions(values, 200, clean=(use,))


@given(st.lists(st.floats(-5, 5) | st.just(math.nan), min_size=1, max_size=9),
       st.none() | st.floats(-5, 0), st.none() | st.floats(0, 5))  # fmt: skip
def test_a_range_holds_both_its_ends_and_never_nan(
    values: list[float], lower: float | None, upper: float | None
) -> None:
    found = KeepRange(lower=lower, upper=upper).holds(np.array(values))
    for value, held in zip(values, found, strict=True):
        if lower is None and upper is None:
            assert held
        else:
            above = lower is None or value >= lower
            assert held == (above and (upper is None or value <= upper) and not math.isnan(value))


def test_drops_of_several_steps_keep_their_reasons() -> None:
    mask = np.zeros((30, 30), bool)
    mask[0, 3] = mask[5, 5] = True
    mask[10:20, 10:20] = mask[25:28, 25:28] = True
    clean = (
        clean_use("clear_edge"),
        clean_use("keep", lower=4.0),
        clean_use("keep", upper=50.0),
    )
    found = find_regions(mask.astype(float), 0.5, clean=clean)
    assert found.areas.tolist() == [9]
    assert found.reason_at(3, 0) == "touches the edge"
    assert found.reason_at(5, 5) == "area 1 is below 4 px²"
    assert found.reason_at(12, 12) == "area 100 is above 50 px²"
    assert found.at(26, 26) == 1


def discs(*positions: tuple[float, float, float]) -> np.ndarray:
    y, x = np.mgrid[:80, :120]
    mask = np.zeros(y.shape, bool)
    for cx, cy, radius in positions:
        mask |= (x - cx) ** 2 + (y - cy) ** 2 <= radius**2
    return mask


def test_touching_discs_are_parted_at_the_neck() -> None:
    mask = discs((40, 40, 14), (65, 40, 13), (30, 15, 9), (100, 60, 12))
    assert connected(mask, 8)[1] < 4
    found = find_regions(mask.astype(float), 0.5, clean=(clean_use("split_distance"),))
    assert found.count == 4
    assert found.labels[40, 40] != found.labels[40, 65]
    assert (found.labels > 0).sum() == mask.sum(), "splitting loses no pixel"
    away = np.abs(found.centres - [[30, 15], [40, 40], [65, 40], [100, 60]]).max()
    assert away < 1.5


@pytest.mark.parametrize(("x_radius", "y_radius"), [(20, 20), (30, 14), (12, 35), (9, 5)])
def test_single_ellipses_stay_whole(x_radius: float, y_radius: float) -> None:
    y, x = np.mgrid[:90, :90]
    for angle in (0.0, 0.4, 1.1):
        u = (x - 45) * math.cos(angle) + (y - 45) * math.sin(angle)
        v = -(x - 45) * math.sin(angle) + (y - 45) * math.cos(angle)
        mask = (u / x_radius) ** 2 + (v / y_radius) ** 2 <= 1
        assert cleaned(mask, clean_use("split_distance")).max() == 1


def test_strength_decides() -> None:
    mask = discs((40, 40, 14), (60, 40, 14))
    counts = [
        cleaned(mask, clean_use("split_distance", strength=s)).max() for s in (0, 1, 5, 8, 10)
    ]
    assert counts[0] == 1
    assert counts == sorted(counts)
    assert counts[-1] == 2


@pytest.mark.slow
@pytest.mark.parametrize("keep", ["bright", "dark"])
def test_valleys_of_the_signal_part_objects(keep: str) -> None:
    y, x = np.mgrid[:60, :90]
    hills = sum(100 * np.exp(-((x - cx) ** 2 + (y - 30) ** 2) / 120) for cx in (30, 55))
    values = hills if keep == "bright" else -hills
    level = 20 if keep == "bright" else -20
    found = find_regions(values, level, keep=keep, clean=(clean_use("split_intensity"),))  # type: ignore[arg-type]
    assert found.count == 2
    assert found.labels[30, 30] != found.labels[30, 55]
    border = np.flatnonzero(np.diff(found.labels[30, 30:56]))
    assert 30 + border[0] == pytest.approx(42, abs=1)
    one = find_regions(
        values,
        level,
        keep=keep,
        clean=(clean_use("split_intensity", strength=0),),  # type: ignore[arg-type]
    )
    assert one.count == 1


def test_split_regions_are_treated_each_by_itself() -> None:
    mask = discs((40, 40, 14), (64, 40, 14))
    split = clean_use("split_distance")
    for use in (clean_use("dilate", pixels=2), clean_use("close", pixels=2)):
        assert cleaned(mask, split, use).max() == 2, use.cleaner
    labels = LabelMap.of(mask, 8).with_labels(cleaned(mask, split), apart=True).labels
    assert (eroded(labels, 1) > 0).sum() < (labels > 0).sum()


AWKWARD = {
    "one pixel": np.array([[5.0]]),
    "zeros": np.zeros((6, 7)),
    "ones": np.ones((6, 7)),
    "all undefined": np.full((5, 5), np.nan),
    "some undefined": np.where(np.eye(8) > 0, np.nan, 3.0),
    "negative": np.linspace(-9, 3, 48).reshape(6, 8),
    "one row": np.array([[0, 1, 1, 0, 2.0]]),
    "one column": np.array([[0], [1], [1.0]]),
    "offset": 1e7 + np.indices((6, 8)).sum(axis=0) % 3,
}


@pytest.mark.parametrize("key", list(CLEANERS))
@pytest.mark.parametrize("name", list(AWKWARD))
def test_awkward_pictures_pass_every_step(key: str, name: str) -> None:
    values = AWKWARD[name].astype(np.float64)
    before = values.copy()
    for level in (0.5, -100.0, 1e7 + 0.5):
        found = find_regions(values, level, clean=(clean_use(key),))
        assert found.labels.shape == values.shape
        assert found.count == len(set(found.labels[found.labels > 0].tolist()))
    np.testing.assert_array_equal(values, before)


@pytest.mark.parametrize("key", list(CLEANERS))
def test_every_step_explains_itself_and_refuses_nonsense(key: str) -> None:
    entry = CLEANERS[key]
    assert entry.explanation.endswith(".")
    with pytest.raises(RilievoError):
        clean_use(key, nonsense=1)
    for name, field in entry.parameters.model_fields.items():
        assert field.title, f"{key}.{name} has no title"


@settings(max_examples=80)
@given(MASKS, st.sampled_from([4, 8]), st.sampled_from([2.0, 5.0, 10.0]))
def test_parts_of_a_split_are_connected_and_numbered_in_row_order(
    mask: np.ndarray, connectivity: int, strength: float
) -> None:
    use = clean_use("split_distance", strength=strength)
    labels = cleaned(mask, use, connectivity=connectivity)
    np.testing.assert_array_equal(labels > 0, mask)
    again, count = connected(labels, connectivity, distinct=True)  # type: ignore[arg-type]
    np.testing.assert_array_equal(again, labels)
    assert count == labels.max(initial=0)


def overlapping_discs(rng: np.random.Generator, count: int, overlap: float) -> np.ndarray:
    """Discs in a row; `overlap` is the share of the smaller one's diameter that lies in both."""
    y, x = np.mgrid[:150, :190]
    radius = rng.uniform(6, 18)
    mask = np.zeros(x.shape, bool)
    cx, cy, angle = 95 + rng.uniform(-0.5, 0.5), 75 + rng.uniform(-0.5, 0.5), rng.uniform(0, 7)
    reach = (count - 1) / 2
    for k in range(count):
        away = (k - reach) * 2 * radius * (1 - overlap)
        mask |= (x - cx - away * np.cos(angle)) ** 2 + (y - cy - away * np.sin(angle)) ** 2 < (
            radius**2
        )
    return mask


@pytest.mark.parametrize(("count", "least"), [(2, 0.95), (3, 0.95)])
def test_overlapping_discs_are_parted_at_the_default(count: int, least: float) -> None:
    rng = np.random.default_rng(count)
    use = clean_use("split_distance")
    found = [
        int(cleaned(overlapping_discs(rng, count, rng.uniform(0.2, 0.3)), use).max())
        for _ in range(80)
    ]
    assert np.mean(np.array(found) == count) >= least


def test_overlapping_ellipses_are_parted_and_single_ones_are_not() -> None:
    rng = np.random.default_rng(9)
    y, x = np.mgrid[:150, :190]

    def ellipse(cx: float, cy: float, a: float, b: float, turn: float) -> np.ndarray:
        u = (x - cx) * np.cos(turn) + (y - cy) * np.sin(turn)
        v = -(x - cx) * np.sin(turn) + (y - cy) * np.cos(turn)
        return (u / a) ** 2 + (v / b) ** 2 < 1

    use = clean_use("split_distance")
    pairs, singles, rough = [], [], []
    for _ in range(80):
        b = rng.uniform(6, 13)
        a, way = b * rng.uniform(1, 2), rng.uniform(0, 7)
        turns = rng.uniform(0, np.pi, 2)
        reach = [1 / np.hypot(np.cos(way - t) / a, np.sin(way - t) / b) for t in turns]
        away = sum(reach) * (1 - rng.uniform(0.1, 0.2))
        both = ellipse(80, 75, a, b, turns[0]) | ellipse(
            80 + away * np.cos(way), 75 + away * np.sin(way), a, b, turns[1]
        )
        pairs.append(int(cleaned(both, use).max()))
        alone = ellipse(95.3, 75.2, b * rng.uniform(1, 4), b, turns[0])
        singles.append(int(cleaned(alone, use).max()))
        angle = np.arctan2(y - 75, x - 95)
        bumps = sum(
            rng.normal() * np.cos(k * angle + rng.uniform(0, 7)) / np.sqrt(k) for k in range(3, 14)
        )
        uneven = 1 + 0.04 * bumps / np.std(bumps)
        rough.append(int(cleaned(np.hypot(x - 95, y - 75) < a * uneven, use).max()))
    assert np.mean(np.array(pairs) == 2) >= 0.8
    assert np.mean(np.array(singles) > 1) < 0.03
    assert np.mean(np.array(rough) > 1) < 0.03


def test_clusters_whose_middle_is_deepest_are_parted_by_their_arcs() -> None:
    rng = np.random.default_rng(6)
    y, x = np.mgrid[:150, :190]
    use = clean_use("split_distance")
    right = 0
    for _ in range(80):
        radius, turn = rng.uniform(6, 18), rng.uniform(0, 7)
        away = 2 * radius * (1 - rng.uniform(0.2, 0.3)) / np.sqrt(3)
        mask = np.zeros(x.shape, bool)
        for k in range(3):
            angle = turn + 2 * np.pi * k / 3
            cx, cy = 95.2 + away * np.cos(angle), 75.3 + away * np.sin(angle)
            mask |= np.hypot(x - cx, y - cy) < radius
        labels = cleaned(mask, use)
        assert ((labels > 0) == mask).all()
        sizes = np.bincount(labels.ravel())[1:]
        right += sizes.size == 3 and sizes.min() > 0.7 * sizes.max()
    assert right >= 0.8 * 80
    star = np.hypot(x - 95, y - 75) < 30 * (1 + 0.03 * np.cos(5 * np.arctan2(y - 75, x - 95)))
    assert cleaned(star, use).max() == 1, "shallow bays are no dents"

"""Regions against a plain flood fill written for the test."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.regions import kept_pixels
from tests.outlines import clean_up, find_regions, reject

NEIGHBOURS = {
    4: [(-1, 0), (1, 0), (0, -1), (0, 1)],
    8: [(dy, dx) for dy in (-1, 0, 1) for dx in (-1, 0, 1) if (dy, dx) != (0, 0)],
}
MASKS = arrays(np.bool_, st.tuples(st.integers(1, 9), st.integers(1, 9)))


def flood(mask: np.ndarray, connectivity: int) -> list[set[tuple[int, int]]]:
    """Connected parts in row order of their first pixel."""
    seen: set[tuple[int, int]] = set()
    parts = []
    for start in zip(*(axis.tolist() for axis in np.nonzero(mask)), strict=True):
        if start in seen:
            continue
        part, queue = {start}, [start]
        while queue:
            y, x = queue.pop()
            for dy, dx in NEIGHBOURS[connectivity]:
                at = (y + dy, x + dx)
                inside = 0 <= at[0] < mask.shape[0] and 0 <= at[1] < mask.shape[1]
                if inside and mask[at] and at not in part:
                    part.add(at)
                    queue.append(at)
        seen |= part
        parts.append(part)
    return parts


@settings(max_examples=60)
@given(MASKS, st.sampled_from([4, 8]))
def test_labels_equal_a_plain_flood_fill(mask: np.ndarray, connectivity: Literal[4, 8]) -> None:
    regions = find_regions(mask.astype(np.float32), 0.5, connectivity=connectivity, fill=False)
    expected = flood(mask, connectivity)
    assert regions.ids.tolist() == list(range(1, len(expected) + 1))
    for number, part in zip(regions.ids, expected, strict=True):
        found = {(int(y), int(x)) for y, x in np.argwhere(regions.labels == number)}
        assert found == part
    assert regions.areas.tolist() == [len(part) for part in expected]


@settings(max_examples=60)
@given(MASKS, st.sampled_from([4, 8]))
def test_holes_are_what_the_border_does_not_reach(
    mask: np.ndarray, connectivity: Literal[4, 8]
) -> None:
    filled = find_regions(mask.astype(np.float32), 0.5, connectivity=connectivity).labels > 0
    height, width = mask.shape
    expected = mask.copy()
    for part in flood(~mask, 4 if connectivity == 8 else 8):
        at_border = any(y in (0, height - 1) or x in (0, width - 1) for y, x in part)
        if not at_border:
            for at in part:
                expected[at] = True
    np.testing.assert_array_equal(filled, expected)


@given(MASKS, st.integers(1, 6), st.integers(1, 12))
def test_area_limits_include_both_ends(mask: np.ndarray, low: int, extra: int) -> None:
    regions = find_regions(
        mask.astype(np.float32), 0.5, fill=False, clean=clean_up(False, low, low + extra)
    )
    areas = [len(part) for part in flood(mask, 8)]
    kept = [area for area in areas if low <= area <= low + extra]
    assert regions.areas.tolist() == kept
    assert regions.dropped == len(areas) - len(kept)


def test_boxes_and_centres(blobs: np.ndarray) -> None:
    regions = find_regions(blobs.astype(np.float32), 200)
    assert regions.boxes.tolist() == [[10, 5, 20, 10], [40, 30, 20, 20], [70, 55, 1, 1]]
    np.testing.assert_allclose(regions.centres, [[19.5, 9.5], [49.5, 39.5], [70, 55]])
    assert regions.at(12, 6) == 1
    assert regions.at(0, 0) == 0
    assert regions.at(-1, 500) == 0
    inside, x, y = regions.mask_of(2)
    assert (x, y, inside.shape, inside.all()) == (40, 30, (20, 20), True)


def test_a_pixel_equal_to_the_threshold_is_background() -> None:
    values = np.array([[1.0, 2.0, 3.0, np.nan]])
    assert kept_pixels(values, 2.0, "bright").tolist() == [[False, False, True, False]]
    assert kept_pixels(values, 2.0, "dark").tolist() == [[True, True, False, False]]
    assert not kept_pixels(values, np.nan, "bright").any()


def test_rejecting_keeps_the_numbers_of_the_others(blobs: np.ndarray) -> None:
    values = blobs.astype(np.float32)
    regions = find_regions(values, 200, edits=reject((15, 7), (0, 0), (999, 0)))
    assert regions.ids.tolist() == [2, 3]
    assert regions.rejected == 1
    assert regions.at(15, 7) == 0
    assert regions.reason_at(15, 7) == "rejected by hand"
    assert "2 edits" in regions.notes[0]


@pytest.mark.parametrize("value", [0.0, np.nan])
def test_nothing_found(value: float) -> None:
    regions = find_regions(np.full((3, 4), value, np.float32), 1.0)
    assert regions.count == 0
    assert regions.boxes.shape == (0, 4)


def test_one_pixel_image() -> None:
    regions = find_regions(np.array([[5.0]], np.float32), 1.0)
    assert (regions.count, regions.areas.tolist()) == (1, [1])

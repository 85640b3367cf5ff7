"""Ward's tree and least-squares classes against the plain way; summaries by hand."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.regions.gray_classes import (
    class_cuts,
    class_summaries,
    least_squares_cuts,
    ward_tree,
)
from tests.outlines import find_regions

SMALL = st.lists(st.tuples(st.integers(0, 60), st.integers(1, 9)), min_size=1, max_size=12)


def histogram_from(pairs: list[tuple[int, int]]) -> Histogram:
    pixels = np.concatenate([np.full(n, v) for v, n in pairs]).astype(np.uint8)
    return histogram_of(plane_from_native(pixels[None]))


def agglomerated(values: np.ndarray, counts: np.ndarray) -> list[tuple[float, int]]:
    """Merge the cheapest neighbours until one is left: cost and border, in their order."""
    clusters = [
        (float(n), float(v), k) for k, (v, n) in enumerate(zip(values, counts, strict=True))
    ]
    merges = []
    while len(clusters) > 1:
        costs = [
            a[0] * b[0] / (a[0] + b[0]) * (a[1] - b[1]) ** 2
            for a, b in itertools.pairwise(clusters)
        ]
        k = int(np.argmin(costs))
        a, b = clusters[k], clusters[k + 1]
        merges.append((costs[k], a[2]))
        n = a[0] + b[0]
        clusters[k : k + 2] = [(n, (a[0] * a[1] + b[0] * b[1]) / n, b[2])]
    return merges


@settings(max_examples=150)
@given(SMALL)
def test_ward_equals_plain_agglomeration(pairs: list[tuple[int, int]]) -> None:
    histogram = histogram_from(pairs)
    tree = ward_tree(histogram)
    some = histogram.bins
    merges = agglomerated(some.astype(float), histogram.counts.astype(float))
    assert sorted(tree.heights) == pytest.approx(sorted(cost for cost, _ in merges))
    if len({round(cost, 9) for cost, _ in merges}) == len(merges):
        by_border = {border: cost for cost, border in merges}
        assert tree.heights == pytest.approx([by_border[k] for k in range(len(merges))])


def test_ward_costs_add_up_to_the_whole_spread() -> None:
    rng = np.random.default_rng(1)
    plane = plane_from_native(rng.integers(0, 65536, (60, 70)).astype(np.uint16))
    tree = ward_tree(histogram_of(plane))
    values = plane.pixels.astype(float)
    assert tree.heights.sum() == pytest.approx(((values - values.mean()) ** 2).sum(), rel=1e-9)
    assert tree.total == pytest.approx(tree.heights.sum(), rel=1e-9)


@pytest.mark.slow
@settings(max_examples=100)
@given(SMALL, st.integers(2, 5))
def test_least_squares_classes_are_the_best_of_all(pairs: list[tuple[int, int]], k: int) -> None:
    histogram = histogram_from(pairs)
    some = histogram.bins
    k = min(k, some.size)
    values = np.repeat(some.astype(float), histogram.counts)

    def deviation(cuts: np.ndarray) -> float:
        parts = np.searchsorted(cuts, values, side="left")
        return sum(
            float(((p - p.mean()) ** 2).sum())
            for j in range(len(cuts) + 1)
            if (p := values[parts == j]).size
        )

    found = least_squares_cuts(histogram, k) - histogram.first + some[0] if k > 1 else np.zeros(0)
    middles = (some[:-1] + some[1:]) / 2
    best = min(
        (deviation(np.array(cuts)) for cuts in itertools.combinations(middles, k - 1)),
        default=deviation(np.zeros(0)),
    )
    assert deviation(found) == pytest.approx(best, abs=1e-9)


@pytest.mark.parametrize("by", ["ward", "least_squares"])
def test_well_parted_classes_are_found_and_described(by: str) -> None:
    rng = np.random.default_rng(2)
    truth = rng.choice([100, 1000, 5000], (50, 60), p=[0.6, 0.3, 0.1])
    plane = plane_from_native((truth + rng.integers(-20, 21, truth.shape)).astype(np.uint16))
    histogram = histogram_of(plane)
    cuts = class_cuts(histogram, 3, by)  # type: ignore[arg-type]
    rows = class_summaries(histogram, cuts)
    for row, value in zip(rows, (100, 1000, 5000), strict=True):
        assert row.pixels == (truth == value).sum()
        assert row.mean == pytest.approx(plane.pixels[truth == value].mean())
        assert row.share == pytest.approx((truth == value).mean())


def test_floats_with_negatives_and_an_offset() -> None:
    values = np.concatenate([np.full(30, -5.0), np.full(20, 1e6), np.full(10, 1e6 + 40)])
    cuts = class_cuts(histogram_of(Plane(values[None])), 2, "ward")
    assert -5 < cuts[0] < 1e6


@pytest.mark.parametrize("pixels", [np.zeros((3, 3)), np.full((2, 2), np.nan)])
def test_nothing_to_part(pixels: np.ndarray) -> None:
    histogram = histogram_of(Plane(pixels))
    for by in ("ward", "least_squares"):
        assert class_cuts(histogram, 4, by).size == 0  # type: ignore[arg-type]


def test_classes_become_regions() -> None:
    values = np.zeros((20, 30), np.float32)
    values[2:6, 2:6] = 50
    values[10:15, 10:20] = 100
    for kept_classes, count in (((2,), 1), ((2, 3), 2), ((), 1)):
        found = find_regions(
            values,
            0,
            fill=False,
            threshold={"way": "classes", "parameters": {"k": 3, "kept": kept_classes}},
        )
        assert found.count == count

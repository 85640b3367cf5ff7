from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.errors import StepError
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis, measure
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.regions.derived_classes import OF_EACH, OPERATIONS
from rilievo.core.regions.region_set import CLASS_STRIDE, RegionSet
from rilievo.core.table.summaries import sample_frame
from rilievo.core.table.table import region_frame
from tests.outlines import outline

MASKS = arrays(np.bool_, (11, 13))


def two_classes(a: np.ndarray, b: np.ndarray) -> Sample:
    planes = {"a": Plane(a.astype(np.float32)), "b": Plane(b.astype(np.float32))}
    return Sample("s", planes)


def derived(one: np.ndarray, two: np.ndarray, operation: str, **fields: object) -> list[RegionSet]:
    made = {"operation": operation, "a": "A", "b": "B", **fields}
    method = Method(
        outlines=(
            outline(0.5, region_class="A", channel="a", clean=()),
            outline(0.5, region_class="B", channel="b", clean=()),
            outline(region_class="C", source="derived", derivation=made, clean=()),
        )
    )
    cache = AnalysisCache()
    return [Analysis(two_classes(one, two), method, cache).regions(k) for k in range(3)]


@settings(max_examples=60)
@given(MASKS, MASKS)
def test_algebra_of_classes(a: np.ndarray, b: np.ndarray) -> None:
    found = {
        key: derived(a, b, key)[2].labels > 0
        for key in ("union", "intersection", "difference", "complement")
    }
    np.testing.assert_array_equal(found["union"], a | b)
    np.testing.assert_array_equal(found["intersection"], a & b)
    # A without B, and A and B, partition A.
    np.testing.assert_array_equal(found["difference"] | found["intersection"], a)
    assert not (found["difference"] & found["intersection"]).any()
    np.testing.assert_array_equal(found["complement"], ~a)
    again = derived(found["complement"], b, "complement")[2].labels > 0
    np.testing.assert_array_equal(again, a, err_msg="complement of the complement")


@settings(max_examples=60)
@given(MASKS, MASKS)
def test_parts_inside_and_the_rest_have_their_parent(a: np.ndarray, b: np.ndarray) -> None:
    cells, _, parts = derived(a, b, "inside")
    np.testing.assert_array_equal(parts.labels > 0, a & b)
    for region in parts.ids.tolist():
        parent = parts.facts(region).parent
        assert set(np.unique(cells.labels[parts.labels == region])) == {parent}
    _, _, rest = derived(a, b, "rest")
    np.testing.assert_array_equal(rest.labels > 0, a & ~b)
    for region in rest.ids.tolist():
        parent = rest.facts(region).parent
        np.testing.assert_array_equal(rest.labels == region, (cells.labels == parent) & ~b)


@settings(max_examples=40)
@given(MASKS, st.sampled_from([0.0, 1.0]), st.sampled_from([1.0, 2.0]))
def test_rings_lie_around_their_own_region(a: np.ndarray, gap: float, width: float) -> None:
    cells, _, rings = derived(a, a, "ring", gap=gap, width=width)
    for y, x in np.argwhere(rings.labels > 0):
        parent = rings.facts(int(rings.labels[y, x])).parent
        away = np.sqrt(((np.argwhere(cells.labels == parent) - (y, x)) ** 2).sum(axis=1)).min()
        others = np.sqrt(((np.argwhere(a) - (y, x)) ** 2).sum(axis=1)).min()
        assert gap < away <= gap + width
        assert away == others, "nearest to its own"
    grown = derived(a, a, "grown", width=width)[2]
    shrunk = derived(a, a, "shrunk", width=width)[2]
    assert shrunk.areas.sum() <= cells.areas.sum() <= grown.areas.sum()
    assert set(OF_EACH) < set(OPERATIONS)


def test_a_rule_needs_its_classes_and_a_scale_for_units() -> None:
    a = np.zeros((6, 6), bool)
    a[2:4, 2:4] = True
    with pytest.raises(StepError, match="choose the classes"):
        derived(a, a, "inside", b="")
    with pytest.raises(StepError, match="pixel size"):
        derived(a, a, "ring", lengths_in="unit")


def test_children_are_counted_per_parent() -> None:
    a = np.zeros((20, 40), bool)
    a[2:18, 2:18] = a[2:18, 22:38] = True
    b = np.zeros_like(a)
    b[4:6, 4:6] = b[10:12, 10:14] = b[5:7, 25:27] = True
    method = Method(
        outlines=(
            outline(0.5, region_class="cell", channel="a"),
            outline(0.5, region_class="drop", channel="b"),
            outline(
                region_class="drop in cell",
                source="derived",
                derivation={"operation": "inside", "a": "cell", "b": "drop"},
                clean=(),
            ),
        )
    )
    table = measure(two_classes(a, b), method)
    frame = region_frame([table]).to_pandas().query("channel == 'a'")
    cells = frame[frame["class"] == "cell"]
    assert cells["children"].tolist() == [2, 1]
    drops = frame[frame["class"] == "drop in cell"]
    assert drops["parent"].tolist() == [1, 2, 1]
    assert set(drops["parent_class"]) == {"cell"}
    assert table.ids[-1] > 2 * CLASS_STRIDE
    summary = sample_frame([table]).to_pandas().query("channel == 'a'")
    assert summary["region_count"].tolist() == [2, 3, 3]

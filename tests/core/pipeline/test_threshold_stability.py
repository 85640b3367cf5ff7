from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.errors import StepError
from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.class_definition import ClassDefinition, clean_use
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.threshold_stability import (
    Stability,
    area_range,
    change_of_result,
    levels_for,
    stabilities,
    stability_of,
)
from tests.outlines import find_regions, outline


@settings(max_examples=40)
@given(
    arrays(np.float32, st.tuples(st.integers(1, 9), st.integers(1, 9)),
           elements=st.sampled_from([0.0, 1.0, 2.0, 3.0, 4.0, math.nan])),
    st.sampled_from(["bright", "dark"]), st.sampled_from([4, 8]),
    st.integers(1, 4), st.integers(4, 40),
)  # fmt: skip
def test_stability_equals_a_run_a_level(
    values: np.ndarray, keep: str, connectivity: int, smallest: int, largest: int
) -> None:
    levels = np.array([-0.5, 0.0, 0.5, 1.5, 2.0, 3.5, 4.0])
    found = stability_of(
        values, levels, keep=keep, connectivity=connectivity, smallest=smallest, largest=largest
    )
    for k, level in enumerate(levels):
        regions = find_regions(
            values,
            level,
            keep=keep,  # type: ignore[arg-type]
            connectivity=connectivity,  # type: ignore[arg-type]
            fill=False,
            clean=(clean_use("keep", lower=smallest, upper=largest),),
        )
        assert found.count[k] == regions.count
        assert found.area[k] == regions.areas.sum()
        if regions.count:
            assert found.mean[k] == pytest.approx(values[regions.labels > 0].mean(), rel=1e-5)


def test_the_flattest_stretch_and_the_levels() -> None:
    count = np.array([90, 50, 12, 12, 12, 12, 5, 5, 0, 0.0])
    levels = np.arange(10) * 10.0
    steady = Stability(levels, count, count, count)
    assert steady.flattest() == (20, 50)
    assert Stability(levels, count * 0, count, count).flattest() is None
    rng = np.random.default_rng(1)
    values = rng.normal(100, 5, (64, 64))
    values[20:30, 20:30] += 500
    wanted = levels_for(histogram_of(Plane(values)))
    assert 48 <= wanted.size <= 64
    assert (np.diff(wanted) > 0).all()
    one = ClassDefinition(clean=(clean_use("keep", quantity="area_unit", lower=2.0, upper=50.0),))
    assert area_range(one, 0.25) == (8.0, 200.0)
    assert area_range(one, None) == (0.0, math.inf)


def test_change_of_the_result_is_three_runs(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    method = Method(outlines=(outline(420.0),))
    sample = make_sample(blobs)
    changes = change_of_result(Analysis(sample, method))
    assert [round(c.level) for c in changes] == [378, 420, 462]
    expected = [find_regions(blobs.astype(float), c.level) for c in changes]
    assert [c.count for c in changes] == [r.count for r in expected]
    assert [c.area for c in changes] == [r.areas.sum() for r in expected]
    drawn = Method(outlines=(outline(source="drawn"),))
    assert change_of_result(Analysis(sample, drawn)) == ()


def test_stability_of_a_study_shares_its_levels(blobs: np.ndarray) -> None:
    samples = [
        Sample(name, {"g": Plane(values.astype(np.float32))})
        for name, values in (("a", blobs), ("b", blobs * 2))
    ]
    method = Method(outlines=(outline(200.0),))
    found = stabilities([Analysis(one, method) for one in samples], 0)
    assert found["a"].levels is found["b"].levels
    at = int(np.searchsorted(found["a"].levels, 1000))
    assert found["a"].count[at] == 0 < found["b"].count[at]
    drawn_class = Method(outlines=(outline(source="drawn"),))
    with pytest.raises(StepError, match="one level"):
        stabilities([Analysis(one, drawn_class) for one in samples], 0)

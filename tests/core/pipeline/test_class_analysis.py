from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from rilievo.core.errors import StepError
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.sample_summary import summarise
from tests.outlines import outline


def test_a_background_beside_the_regions_is_nearer_to_the_truth() -> None:
    y, x = np.mgrid[:200, :200]
    true = 100 + 0.2 * x + 0.1 * y
    values = true.copy()
    for cy, cx in ((40, 50), (100, 120), (150, 60), (60, 150)):
        values[(y - cy) ** 2 + (x - cx) ** 2 < 18**2] += 300
    sample = Sample("s", {"g": Plane(values.astype(np.float32))})
    inside = values > true + 100
    errors = []
    for outside in ("", "cell"):
        step = step_use("b", "background.mesh", tile=24, outside=outside)
        method = Method(steps=(step,), outlines=(ClassDefinition(threshold=hand_threshold(120)),))
        cache = AnalysisCache()
        background = values - Analysis(sample, method, cache).signal("g").pixels
        errors.append(float(np.abs(background - true)[inside].mean()))
        assert Analysis(sample, method, cache).regions().count >= 4
    assert errors[1] < errors[0] / 2
    wrong = Method(steps=(step_use("b", "background.mesh", outside="nothing"),))
    with pytest.raises(StepError, match="not there"):
        Analysis(sample, wrong).signal("g")


def test_a_class_that_cannot_be_found_leaves_the_others(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    method = Method(
        outlines=(
            outline(200.0, region_class="cell"),
            outline(region_class="labels", source="label_image", clean=()),
        )
    )
    facts = summarise(Analysis(make_sample(blobs), method), ["ch1"])
    assert [regions.count for regions in facts.regions] == [3, 0]
    assert facts.error is not None
    assert "No label image is chosen" in facts.error

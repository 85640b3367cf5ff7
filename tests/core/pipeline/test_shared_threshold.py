from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import Plane, Sample, plane_from_native
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.shared_threshold import joined, with_pooled_levels
from tests.core.helpers.thresholds_found import level


@settings(max_examples=40)
@given(st.lists(st.lists(st.integers(0, 300), min_size=1, max_size=30), min_size=1, max_size=4))
def test_pooled_histograms_hold_all_pixels(parts: list[list[int]]) -> None:
    arrays = [np.array([part], np.uint16) for part in parts]
    together = joined([histogram_of(plane_from_native(a)) for a in arrays])
    whole = histogram_of(plane_from_native(np.concatenate([a.ravel() for a in arrays])[None]))
    np.testing.assert_array_equal(together.counts, whole.counts)
    assert (together.first, together.width) == (whole.first, whole.width)


def test_pooling_floats_keeps_every_pixel() -> None:
    one, two = Plane(np.array([[0.0, 1.0]])), Plane(np.array([[5.0, 9.5, 9.5]]))
    together = joined([histogram_of(one), histogram_of(two)])
    assert (together.total, together.lowest, together.highest) == (5, 0.0, pytest.approx(9.5))


def test_one_level_for_all_samples() -> None:
    rng = np.random.default_rng(1)
    samples = []
    for k, high in enumerate((200, 400)):
        pixels = rng.normal(100, 5, (30, 30))
        pixels[5:15, 5:15] = high
        plane = plane_from_native(np.round(pixels).astype(np.uint16))
        samples.append(Sample(f"s{k}", {"g": plane}))
    use = ThresholdUse.model_validate({"pooled": True})
    method = Method(outlines=(ClassDefinition(threshold=use),))
    cache = AnalysisCache()
    assert math.isnan(Analysis(samples[0], method, cache).level())
    known = with_pooled_levels(method, [Analysis(one, method, cache) for one in samples])
    levels = {Analysis(sample, known, cache).level() for sample in samples}
    both = histogram_of(plane_from_native(np.concatenate([s.first.pixels for s in samples])))
    assert levels == {level("between_class_variance", both)}

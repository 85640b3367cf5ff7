"""Whatever number is typed into a step, it is refused or computed; no warning, no fault."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.errors import RilievoError
from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.signal.steps import STEPS
from tests.outlines import outline

TYPED = (-1e300, -70_000, -1, 0, 1e-300, 70_000, 1e30, 1e39)
PIXELS = np.random.default_rng(0).normal(100, 10, (40, 50))


@pytest.mark.parametrize("kind", ["uint8", "float32"])
@pytest.mark.parametrize("key", list(STEPS))
def test_a_typed_number_is_refused_or_computed(key: str, kind: str) -> None:
    """Warnings are errors here; errors that are meant for the user are an answer."""
    sample = Sample("a", {"gray": plane_from_native(PIXELS.astype(kind))})
    answered = 0
    for name in STEPS[key].parameters.model_fields:
        for value in TYPED:
            try:
                use = step_use("x", key, **{name: value})
                method = Method(steps=(use,), outlines=(outline(100.0),))
                cache = AnalysisCache()
                Analysis(sample, method, cache).histogram("gray")
                Analysis(sample, method, cache).table()
            except RilievoError as exc:
                assert str(exc)
            answered += 1
    assert answered == len(TYPED) * len(STEPS[key].parameters.model_fields)

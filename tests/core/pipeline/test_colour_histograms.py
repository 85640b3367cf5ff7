from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.errors import StepError
from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.colour_histograms import colour_histograms


def test_histograms_for_colour_ranges() -> None:
    rng = np.random.default_rng(1)
    planes = {
        name: plane_from_native(rng.integers(0, 256, (9, 9)).astype(np.uint8))
        for name in ("red", "green", "blue")
    }
    sample, method, cache = Sample("s", planes), Method(), AnalysisCache()
    found = colour_histograms(Analysis(sample, method, cache), "channels")
    assert found["green"] is Analysis(sample, method, cache).histogram("green")
    hues = colour_histograms(Analysis(sample, method, cache), "hsv")
    assert set(hues) == {"hue", "saturation", "value"}
    assert 0 <= hues["hue"].lowest <= hues["hue"].highest <= 360
    gray = Sample("gray", {"gray": planes["red"]})
    with pytest.raises(StepError, match="no hue"):
        colour_histograms(Analysis(gray, method, cache), "hsv")

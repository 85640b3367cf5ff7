from __future__ import annotations

import pytest

from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.sample_summary import quick_ends, summarise


def test_regions_can_wait_and_first_ends_are_near(wide: Sample) -> None:
    cache = AnalysisCache()
    first = summarise(Analysis(wide, Method(), cache), ["ch1"], with_regions=False)
    assert not first.regions and first.error is None
    then = summarise(Analysis(wide, Method(), cache), ["ch1"])
    assert then.regions
    assert then.native["ch1"] is first.native["ch1"]
    for end, exact in zip(
        quick_ends(wide)["ch1", "native"], first.ends["ch1", "native"], strict=True
    ):
        assert end == pytest.approx(exact, abs=60)

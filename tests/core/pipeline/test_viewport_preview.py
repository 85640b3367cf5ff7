from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.pyramids import coarse_level, visible
from rilievo.core.view.sampling import Viewport
from tests.core.helpers.history import two_steps, wide_sample


@pytest.mark.parametrize("bottom_up", [False, True])
def test_the_visible_part_is_the_exact_result_but_for_the_background(bottom_up: bool) -> None:
    sample, cache = wide_sample(), AnalysisCache()
    view = Viewport(300.0, 200.0, 2.0, 240, 160, bottom_up=bottom_up)
    found = visible(Analysis(sample, two_steps(), cache), "gray", view)
    assert found is not None
    pyramid, moved = found
    part = pyramid.levels[0]
    exact = Analysis(sample, two_steps(), cache).signal("gray").pixels
    top = 900 - 200 - 80 if bottom_up else 200
    wanted = exact[top : top + part.shape[0], 300 : 300 + part.shape[1]]
    assert part.shape == wanted.shape == (80, 120)
    # The background comes from a coarse level; it is smooth.
    assert np.abs(part - wanted).max() < 2.5
    assert (moved.left, moved.top) == (0, 0)


def test_what_has_to_see_everything_waits() -> None:
    sample, cache = wide_sample(), AnalysisCache()
    view = Viewport(300.0, 200.0, 2.0, 240, 160)
    equal = Method(steps=(step_use("e", "curve.equalise"),))
    assert visible(Analysis(sample, equal, cache), "gray", view) is None
    # Seen from afar, the coarse level is all there is to see.
    afar = Viewport(0.0, 0.0, 0.2, 180, 180)
    assert coarse_level((900, 900)) == 1
    assert visible(Analysis(sample, two_steps(), cache), "gray", afar) is None

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.thumbnails import ends_of, thumbnails
from rilievo.core.view.render import Looks
from tests.core.helpers.history import two_steps, wide_sample

LOOKS = Looks(
    (0, 0, 0),
    (0, 0, 9),
    0.5,
    (255, 255, 255),
    (0, 0, 0),
    (8, 8, 8),
    (7, 7, 7),
    (9, 9, 0),
    (1, 2, 3),
)


def test_small_pictures_show_what_a_step_does() -> None:
    found = thumbnails(Analysis(wide_sample(), two_steps()), "gray", "mesh", (100, 60), LOOKS)
    assert list(found) == ["before", "after", "background"]
    assert {one.colours.shape for one in found.values()} == {(60, 100)}
    # Before and background lie about 500, what is left about 0.
    assert 400 < found["before"].ends[0] < found["background"].ends[1] < 620
    assert found["after"].ends[0] < 0 < found["after"].ends[1] < 50
    smooth = thumbnails(Analysis(wide_sample(), two_steps()), "gray", "smooth", (9, 9), LOOKS)
    assert list(smooth) == ["before", "after"]


@pytest.mark.parametrize(
    ("values", "ends"), [(np.full(9, np.nan), (0.0, 1.0)), (np.full(9, 3.0), (2.5, 3.5))]
)
def test_ends_of_planes_without_a_range(values: np.ndarray, ends: tuple[float, float]) -> None:
    assert ends_of(values) == ends

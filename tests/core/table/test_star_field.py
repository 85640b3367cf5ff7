from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.table.star_field import star_summary, whiskers
from rilievo.core.table.summaries import sample_frame
from tests.core.helpers.measure_parts import star_table


def test_summaries_of_stars_stand_with_the_samples() -> None:
    frame = sample_frame([star_table("a", 3.0), star_table("b", 3.1, 0.5)]).to_pandas()
    assert frame["stars_used"].tolist() == [30, 30]
    assert frame["fwhm_median"].tolist() == [3.0, 3.1]
    assert frame["ellipticity_common"][0] < 0.03
    assert frame["ellipticity_common"][1] == pytest.approx(0.5)
    assert frame["ellipticity_angle"][1] == pytest.approx(30)
    assert frame["sky_median"][0] == pytest.approx(100, abs=2)
    assert star_summary({"mean": np.ones(3)}) == {}


def test_whiskers_lie_along_the_longer_axis() -> None:
    columns = {key: np.array(v) for key, v in {
        "star_x": [10.0], "star_y": [20.0], "ellipticity": [0.5], "star_orientation": [90.0],
    }.items()}  # fmt: skip
    x, y = whiskers(columns, 8.0)
    np.testing.assert_allclose(x, [10, 10], atol=1e-12)
    np.testing.assert_allclose(y, [22, 18])

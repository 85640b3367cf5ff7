from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from rilievo.core.image.calibration_frames import combined


@pytest.mark.parametrize("how", ["mean", "median", "clipped", "sum"])
def test_frames_are_combined_pixel_by_pixel(how: Any) -> None:
    rng = np.random.default_rng(5)
    stack = rng.normal(100, 2, (9, 70, 5))
    stack[4, 3, 2] = 5000
    stack[2, 1, 1] = np.nan
    found = combined(list(stack), how)
    for y, x in ((3, 2), (1, 1), (69, 4)):
        values = stack[:, y, x]
        values = values[np.isfinite(values)]
        if how == "clipped":
            away = np.abs(values - np.median(values))
            values = values[away <= 3 * 1.4826 * np.median(away)]
        expected = {
            "mean": values.mean(),
            "median": np.median(values),
            "clipped": values.mean(),
            "sum": values.mean() * 9,
        }[how]
        assert found[y, x] == pytest.approx(expected)
    assert (found[3, 2] > 200) == (how in ("mean", "sum"))

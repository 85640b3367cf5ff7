from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.signal.steps.background_mesh import MeshBackground, clipped_levels, tile_levels
from tests.core.helpers.backgrounds import background


@settings(max_examples=60)
@given(
    arrays(np.float64, st.integers(1, 90), elements=st.floats(1e6 - 300, 1e6 + 300, width=32)),
    # So that no value lies at the limit itself, where rounding decides.
    st.floats(1.5, 4).map(lambda clip: clip * 1.0000314),
    st.sampled_from(["median", "mean"]),
)
def test_tile_levels_are_those_of_plain_clipping(
    values: np.ndarray, clip: float, statistic: str
) -> None:
    kept = np.sort(values)
    for _ in range(12):
        middle, mean = np.median(kept), kept.mean()
        quarter = (len(kept) - 1) // 4
        sigma = min(middle - kept[quarter], kept[-1 - quarter] - middle) / 0.6745
        sigma = sigma or kept.std()
        inside = kept[np.abs(kept - middle) <= clip * sigma]
        if len(inside) == len(kept):
            break
        kept = inside
    expected = middle if statistic == "median" else mean
    found = clipped_levels(np.sort(values)[None], clip, statistic)[0]
    assert found == pytest.approx(expected, rel=1e-12)


def test_tiles_cover_all_pixels_once_and_leave_out_undefined_ones() -> None:
    values = np.arange(50 * 70, dtype=np.float64).reshape(50, 70)
    parameters = MeshBackground(tile=16, statistic="mean", clip=10)
    levels = tile_levels(values, parameters, 16)
    assert levels.shape == (3, 4)
    assert levels[0, 0] == pytest.approx(values[:17, :18].mean())
    values[:17, :18] = np.nan
    assert np.isnan(tile_levels(values, parameters, 16)[0, 0])


def test_a_mesh_keeps_a_tilt_up_to_the_corners() -> None:
    y, x = np.indices((128, 160)).astype(np.float64)
    tilt = 500 + 0.7 * x - 0.4 * y
    field = background("background.mesh", tilt, tile=16, statistic="median")
    np.testing.assert_allclose(field, tilt, atol=0.02)

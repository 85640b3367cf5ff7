from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import plane_from_native
from rilievo.core.view.palettes import (
    ViewStyle,
)
from rilievo.core.view.view_presets import PRESETS, preset_view
from tests.core.helpers.looking import RNG


@pytest.mark.parametrize("key", PRESETS)
def test_presets_make_a_range_on_any_data(key: str) -> None:
    for pixels in (
        RNG.normal(1000, 20, (64, 64)).astype(np.uint16),
        np.full((5, 5), 7, np.uint8),
        RNG.normal(0, 1, (40, 40)).astype(np.float32),
    ):
        (low, high), style = preset_view(key, histogram_of(plane_from_native(pixels)))
        assert low < high
        assert isinstance(style, ViewStyle)


def test_what_the_presets_are_named_for() -> None:
    pixels = RNG.normal(1000, 20, (200, 200))
    pixels[50:53, 50:53] += 5000
    histogram = histogram_of(plane_from_native(pixels.astype(np.uint16)))
    (low, high), _ = preset_view("background", histogram)
    assert (low, high) == pytest.approx((900, 1100), abs=8)
    assert preset_view("full", histogram)[0] == (pixels.astype(int).min(), pixels.astype(int).max())
    assert preset_view("bright", histogram)[0][0] == pytest.approx(1000, abs=2)
    assert preset_view("faint", histogram)[0][1] == pytest.approx(1800, abs=30)

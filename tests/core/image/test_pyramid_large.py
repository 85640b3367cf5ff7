from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.pyramid import Pyramid, halved
from tests.core.helpers.large import WIDE


@pytest.mark.parametrize("dtype", [np.uint16, np.float32, np.int32])
def test_halving_in_pieces_is_the_mean_of_four(dtype: type) -> None:
    pixels = WIDE[:1099, :1299].astype(dtype)
    blocks = pixels[:1098, :1298].reshape(549, 2, 649, 2).astype(np.float64)
    np.testing.assert_allclose(halved(pixels), blocks.mean(axis=(1, 3)), rtol=1e-6)


def test_infinite_pixels_are_left_out_of_coarser_levels() -> None:
    pixels = np.array([[1.0, np.inf, np.nan, np.nan], [3.0, 5.0, np.nan, np.nan]])
    np.testing.assert_array_equal(halved(pixels), [[3.0, np.nan]])


def test_a_sketch_has_the_levels_and_the_scale_of_the_pyramid() -> None:
    exact, sketch = Pyramid(WIDE), Pyramid.sketch(WIDE, 256)
    assert sketch.levels[0] is WIDE
    for k in range(1, len(sketch.levels)):
        shapes = np.array([sketch.levels[k].shape, exact.levels[k].shape])
        assert np.abs(shapes[0] - shapes[1]).max() <= 1
        assert sketch.levels[k].mean() == pytest.approx(WIDE.mean(), rel=0.03)
    # The sketch takes no memory of its own.
    assert all(np.shares_memory(level, WIDE) for level in sketch.levels)

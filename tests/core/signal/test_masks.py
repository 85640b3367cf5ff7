"""Masks grown, against SciPy."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from rilievo.core.signal.masks import grown_by_square, grown_by_steps

SHAPES = pytest.mark.parametrize("shape", [(1, 1), (1, 9), (5, 3), (60, 71)])


@SHAPES
@pytest.mark.parametrize("reach", [0, 1, 2, 3, 5, 9, 20])
def test_a_square_around_each_pixel(shape: tuple[int, int], reach: int) -> None:
    mask = np.random.default_rng(0).random(shape) > 0.97
    wanted = ndimage.maximum_filter(mask, 2 * reach + 1, mode="constant")
    np.testing.assert_array_equal(grown_by_square(mask, reach), wanted)


@SHAPES
@pytest.mark.parametrize("steps", [1, 3])
@pytest.mark.parametrize("beyond", [False, True])
def test_steps_to_the_four_neighbours(shape: tuple[int, int], steps: int, beyond: bool) -> None:
    mask = np.random.default_rng(1).random(shape) > 0.9
    wanted = ndimage.binary_dilation(mask, iterations=steps, border_value=int(beyond))
    np.testing.assert_array_equal(grown_by_steps(mask, steps, beyond=beyond), wanted)

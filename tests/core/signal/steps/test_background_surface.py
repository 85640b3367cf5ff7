from __future__ import annotations

import numpy as np
import pytest

from tests.core.helpers.backgrounds import background


@pytest.mark.parametrize("order", [1, 2, 3])
def test_a_surface_recovers_its_own_polynomial_under_objects(order: int) -> None:
    rng = np.random.default_rng(order)
    y, x = np.mgrid[-1:1:180j, -1:1:220j]
    truth = 2000 + sum(
        rng.uniform(-90, 90) * x**j * y**k
        for j in range(order + 1)
        for k in range(order + 1 - j)
        if j + k
    )
    values = truth.copy()
    values[40:90, 30:110] += 700
    values[120:150, 150:200] += 250
    values[5, 5] = np.nan
    field = background("background.surface", values, order=order)
    np.testing.assert_allclose(field, truth, atol=0.5)


def test_a_surface_on_blocks_is_the_surface_on_pixels() -> None:
    """A large image is fitted on the means of its blocks."""
    y, x = np.mgrid[-1:1:700j, -1:1:900j]
    truth = 300 + 20 * x - 15 * y
    field = background("background.surface", truth, order=1)
    np.testing.assert_allclose(field, truth, atol=0.05)

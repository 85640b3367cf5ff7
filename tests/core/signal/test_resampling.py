from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.signal.resampling import block_lowest, block_means, enlarged


@given(st.integers(1, 40), st.integers(1, 40), st.integers(1, 7))
@settings(max_examples=40)
def test_blocks_are_those_of_a_loop(height: int, width: int, factor: int) -> None:
    values = np.random.default_rng(height * 41 + width).normal(0, 1, (height, width))
    lowest, means = block_lowest(values, factor), block_means(values, factor)
    for j in range(lowest.shape[0]):
        for i in range(lowest.shape[1]):
            rows = np.minimum(np.arange(j * factor, (j + 1) * factor), height - 1)
            columns = np.minimum(np.arange(i * factor, (i + 1) * factor), width - 1)
            block = values[np.ix_(rows, columns)]
            assert lowest[j, i] == block.min()
            assert means[j, i] == pytest.approx(block.mean())


@given(st.integers(2, 9), st.floats(-3, 3), st.floats(-3, 3))
def test_enlarging_keeps_planes_everywhere(factor: int, across: float, down: float) -> None:
    y, x = np.indices((6 * factor, 8 * factor)).astype(np.float64)
    plane = 10 + across * x + down * y
    np.testing.assert_allclose(
        enlarged(block_means(plane, factor), plane.shape, factor), plane, atol=1e-9
    )

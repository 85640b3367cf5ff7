from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.signal.resampling import block_lowest, block_means, block_sums, enlarged


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


@pytest.mark.parametrize("kind", [np.float32, np.float64])
@pytest.mark.parametrize("factor", [2, 3, 7, 8, 9, 31, 130])
def test_sums_over_blocks_have_numpys_bits(kind: type, factor: int) -> None:
    values = np.random.default_rng(1).normal(1000, 20, (factor * 3, factor * 4)).astype(kind)
    blocks = values.reshape(3, factor, 4, factor)
    np.testing.assert_array_equal(block_sums(values, factor), blocks.sum(axis=(1, 3)))
    np.testing.assert_array_equal(block_means(values, factor), blocks.mean(axis=(1, 3)))

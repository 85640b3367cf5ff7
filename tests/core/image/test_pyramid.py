from __future__ import annotations

import numpy as np

from rilievo.core.image.pyramid import halved


def test_halving_is_the_mean_of_what_is_defined() -> None:
    values = np.array([[1, 3, 5, 9], [5, 7, np.nan, 4], [np.nan] * 4, [np.nan] * 4, [0] * 4])
    result = halved(values)
    np.testing.assert_array_equal(result, [[4, 6], [np.nan, np.nan]])

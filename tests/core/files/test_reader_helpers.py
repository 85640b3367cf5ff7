from __future__ import annotations

import numpy as np

from rilievo.core.files.reader_helpers import LUMA_WEIGHTS, luma
from tests.core.helpers.large import RNG


def test_brightness_in_pieces_is_brightness() -> None:
    colours = [RNG.integers(0, 65536, (1200, 1000)).astype(np.uint16) for _ in range(3)]
    wanted = sum(w * c.astype(np.float64) for w, c in zip(LUMA_WEIGHTS, colours, strict=True))
    np.testing.assert_array_equal(luma(*colours), np.asarray(wanted).astype(np.float32))

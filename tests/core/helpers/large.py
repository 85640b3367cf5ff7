"""What several tests have in common: large."""

from __future__ import annotations

import numpy as np

RNG = np.random.default_rng(21)


WIDE = RNG.integers(0, 5000, (1100, 1300)).astype(np.uint16)

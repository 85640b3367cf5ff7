"""What several tests have in common: cleaning."""

from __future__ import annotations

import numpy as np
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

MASKS = arrays(np.bool_, st.tuples(st.integers(1, 12), st.integers(1, 14)))

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.signal.steps.frames_reference import fitted_factor


@pytest.mark.parametrize("sign", [1, -1])
def test_a_reference_is_fitted_outside_objects(sign: int) -> None:
    rng = np.random.default_rng(4)
    frame = rng.uniform(80, 120, (90, 90))
    values = 2.5 * frame + rng.normal(0, 0.5, frame.shape)
    values[:30] += sign * 200
    assert fitted_factor(values, frame, 3.0, sign) == pytest.approx(2.5, rel=1e-3)

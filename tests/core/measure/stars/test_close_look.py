from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.image.image import Plane
from rilievo.core.measure.stars.close_look import star_look, steady_radius
from tests.stars import circles, moffat_star, noisy


def test_one_star_looked_at_closely() -> None:
    plane = noisy(moffat_star((81, 81), 40.3, 39.8, 1e5, 4.0), 300, 2)
    look = star_look(plane, 40, 40, circles(radius=12, sky_inner=20, sky_outer=30))
    assert (look.x, look.y) == (pytest.approx(40.3, abs=0.02), pytest.approx(39.8, abs=0.02))
    radii, curve = look.curve
    half = float(np.interp(-curve[0] / 2, -curve, radii))
    assert 2 * half == pytest.approx(4.0, rel=0.03)
    # Nothing but noise is left by the fit, and the light grows to all of that in the aperture.
    assert np.nanstd(look.residual) == pytest.approx(2, rel=0.2)
    assert np.nanmean(look.residual) == pytest.approx(0, abs=0.5)
    steps, share = look.growth
    assert np.interp(12, steps, share) == pytest.approx(1, abs=0.01)
    assert np.interp(look.half_flux_radius, steps, share) == pytest.approx(0.5, abs=0.02)
    assert 4 < steady_radius(look) < 20
    nothing = star_look(Plane(np.full((9, 9), np.nan, np.float32)), 4, 4, circles())
    assert nothing.distance.size == 0
    assert math.isnan(steady_radius(nothing))

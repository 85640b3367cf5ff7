"""The spline that joins the levels of a mesh."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.interpolate import CubicSpline, make_interp_spline

from rilievo.core.signal.mesh_spline import joining_spline


@pytest.mark.parametrize("tiles", [2, 3, 4, 5, 17, 300])
def test_joining_spline_is_that_of_an_independent_package(tiles: int) -> None:
    centres = 20 * np.cumsum(np.random.default_rng(tiles).uniform(0.8, 1.2, tiles))
    positions = np.linspace(centres[0] - 30, centres[-1] + 30, 901)
    inside = np.clip(positions, centres[0], centres[-1])
    identity = np.eye(tiles)
    spline = (
        CubicSpline(centres, identity)
        if tiles > 3
        else make_interp_spline(centres, identity, k=tiles - 1)
    )
    expected = spline(inside) + spline.derivative()(inside) * (positions - inside)[:, None]
    assert joining_spline(centres, positions) == pytest.approx(expected, rel=1e-11, abs=1e-12)


def test_joining_spline_follows_a_cubic_exactly_between_uneven_centres() -> None:
    centres = np.array([0.0, 1.0, 3.0, 4.5, 7.0])
    positions = np.linspace(0, 7, 57)

    def cubic(x: np.ndarray) -> np.ndarray:
        return 2 + x - 0.7 * x**2 + 0.11 * x**3

    assert joining_spline(centres, positions) @ cubic(centres) == pytest.approx(
        cubic(positions), rel=1e-12
    )


def test_joining_spline_goes_on_straight_beyond_the_outermost_centres() -> None:
    centres = np.array([10.0, 20.0, 30.0, 40.0])
    beyond = joining_spline(centres, np.array([50.0, 60.0, 70.0])) @ np.array([1.0, 4.0, 9.0, 16])
    assert np.diff(beyond)[0] == pytest.approx(np.diff(beyond)[1])
    assert np.diff(beyond)[0] == pytest.approx(8.0)
